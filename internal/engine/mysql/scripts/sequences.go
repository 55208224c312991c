package scripts

import (
	"strings"

	"widegate/internal/engine/mysql/dialect"

	"widegate/internal/catalog"
	"widegate/internal/engine/mysql/live"
	"widegate/internal/sqltext"
)

// sequenceName finds the name of the sequence that a statement is about.
func (m *my) sequenceName(text string) (schema, name string) {
	tokens := sqltext.Scan(text, dialect.MySQL)
	for i, t := range tokens {
		if !t.Is("sequence") {
			continue
		}
		rest := tokens[i+1:]
		for len(rest) > 1 && (rest[0].Is("if") || rest[0].Is("not") || rest[0].Is("exists")) {
			rest = rest[1:]
		}
		switch {
		case len(rest) == 0:
			return "", ""
		case len(rest) > 2 && rest[1].Sign("."):
			return m.outside(rest[0].Text), rest[2].Text
		}
		return m.outside(m.current), rest[0].Text
	}
	return "", ""
}

// outside is a database's name, which is empty for the one that the scripts are
// about.
func (m *my) outside(schema string) string {
	if schema == m.own {
		return ""
	}
	return schema
}

func (m *my) createSequence(text string) {
	schema, name := m.sequenceName(text)
	m.mariaDB = true // MySQL has none
	full := catalog.Qualify(schema, name)
	if m.sequences[full] != nil && strings.Contains(strings.ToLower(text), "if not exists") {
		return
	}
	m.sequences[full] = &catalog.Sequence{Schema: schema, Name: name, Options: live.SequenceOptions(text)}
}

func (m *my) alterSequence(text string) {
	schema, name := m.sequenceName(text)
	if s := m.sequences[catalog.Qualify(schema, name)]; s != nil {
		s.Options = live.SequenceOptions(s.Options + " " + text)
	}
}

func (m *my) dropSequences(text string) {
	schema, name := m.sequenceName(text)
	delete(m.sequences, catalog.Qualify(schema, name))
}
