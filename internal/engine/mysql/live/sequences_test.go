package live

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestSequenceOptions(t *testing.T) {
	for statement, want := range map[string][2]string{
		"CREATE SEQUENCE `s` start with 1 minvalue 1 maxvalue 9223372036854775806 increment by 1 cache 1000 nocycle ENGINE=InnoDB": {"", "START WITH 1 MINVALUE 1 MAXVALUE 9223372036854775806 INCREMENT BY 1 CACHE 1000 NOCYCLE"},
		"CREATE SEQUENCE s START 5 INCREMENT = 2 NOCACHE CYCLE":                                                                    {"START WITH 5 INCREMENT BY 2 CACHE 0 CYCLE", "START WITH 5 MINVALUE 1 MAXVALUE 9223372036854775806 INCREMENT BY 2 CACHE 0 CYCLE"},
		"CREATE SEQUENCE s INCREMENT BY -1 MAXVALUE -5":                                                                            {"MAXVALUE -5 INCREMENT BY -1", "START WITH -5 MINVALUE -9223372036854775807 MAXVALUE -5 INCREMENT BY -1 CACHE 1000 NOCYCLE"},
		"CREATE SEQUENCE s MINVALUE 10 START WITH 10":                                                                              {"MINVALUE 10", "START WITH 10 MINVALUE 10 MAXVALUE 9223372036854775806 INCREMENT BY 1 CACHE 1000 NOCYCLE"},
		"CREATE SEQUENCE `start` COMMENT 'increment by 7'":                                                                         {"", "START WITH 1 MINVALUE 1 MAXVALUE 9223372036854775806 INCREMENT BY 1 CACHE 1000 NOCYCLE"},
	} {
		got := SequenceOptions(statement)
		assert.Equal(t, want[0], got, statement)
		assert.Equal(t, want[1], AllSequenceOptions(got), statement)
		assert.Equal(t, got, SequenceOptions(AllSequenceOptions(got)), "they say the same")
	}
}

func FuzzSequenceOptions(f *testing.F) {
	for _, s := range []string{"", "start", "start with -", "increment by - 1", "cache = 5 cycle", "minvalue 'a'"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		assert.Equal(t, SequenceOptions(s), SequenceOptions(AllSequenceOptions(s)))
	})
}
