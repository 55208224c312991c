CREATE TABLE delivery (
	id INTEGER PRIMARY KEY,
	code VARCHAR(20) NOT NULL,
	keeper VARCHAR(60) NOT NULL,
	remark TEXT,
	weight_kg DECIMAL(10,2) NOT NULL,
	is_accepted BOOLEAN NOT NULL,
	delivered_on DATE NOT NULL,
	recorded_at TIMESTAMP NOT NULL,
	previous_id BIGINT REFERENCES delivery (id),
	tag UUID NOT NULL,
	facts JSON NOT NULL,
	moisture DOUBLE NOT NULL,
	region VARCHAR(40) NOT NULL,
	grade VARCHAR(10) NOT NULL
);
CREATE TABLE sample (
	id INTEGER PRIMARY KEY,
	delivery_id BIGINT NOT NULL REFERENCES delivery (id),
	taken_at TIMESTAMP NOT NULL,
	value DOUBLE NOT NULL,
	note TEXT
);
CREATE INDEX sample_delivery_id ON sample (delivery_id);
