CREATE TABLE delivery (
	id BIGINT AUTO_INCREMENT PRIMARY KEY,
	code VARCHAR(20) NOT NULL,
	keeper VARCHAR(60) NOT NULL,
	remark TEXT,
	weight_kg DECIMAL(10,2) NOT NULL,
	is_accepted BOOLEAN NOT NULL,
	delivered_on DATE NOT NULL,
	recorded_at TIMESTAMP(6) NOT NULL,
	previous_id BIGINT REFERENCES delivery (id),
	tag CHAR(36) NOT NULL,
	facts JSON NOT NULL,
	moisture DOUBLE NOT NULL,
	region VARCHAR(40) NOT NULL,
	grade VARCHAR(10) NOT NULL
);
CREATE TABLE sample (
	id BIGINT AUTO_INCREMENT PRIMARY KEY,
	delivery_id BIGINT NOT NULL,
	taken_at TIMESTAMP(6) NOT NULL,
	value DOUBLE NOT NULL,
	note TEXT,
	FOREIGN KEY (delivery_id) REFERENCES delivery (id)
);
