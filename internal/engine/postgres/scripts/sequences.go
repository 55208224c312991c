package scripts

import (
	"strconv"
	"strings"

	"widegate/internal/catalog"
)

// bounds are the least and the largest number of the types that a sequence can
// have.
var bounds = map[string][2]string{
	"smallint": {"-32768", "32767"}, "integer": {"-2147483648", "2147483647"}, "bigint": {"-9223372036854775808", "9223372036854775807"},
}

// setOptions obeys the options of CREATE and ALTER SEQUENCE, and of identity
// columns.
func (p *pg) setOptions(s *sequence, options []node) {
	if s.options == nil {
		s.options = map[string]string{}
	}
	for _, o := range options {
		arg := o.at("arg")
		switch name := o.text("defname"); name {
		case "as":
			s.options[name] = p.typeOf(arg).declared
		case "cycle":
			s.options[name] = strconv.FormatBool(arg.flag("boolval"))
		case "increment", "minvalue", "maxvalue", "start", "cache":
			if value := numberOf(arg); value != "" {
				s.options[name] = value
			} else {
				delete(s.options, name)
			}
		}
	}
}

// numberOf reads a number, which is empty for the NO of NO MINVALUE.
func numberOf(arg node) string {
	switch arg.kind {
	case "Integer":
		return strconv.Itoa(arg.number("ival"))
	case "Float":
		return arg.text("fval")
	}
	return ""
}

// optionsText is the SQL of what is not usual about a sequence whose type is
// usually that.
func (s *sequence) optionsText(usual string) string {
	given := func(name, other string) string {
		if v := s.options[name]; v != "" {
			return v
		}
		return other
	}
	if bounds[usual][0] == "" {
		usual = "bigint"
	}
	declared := given("as", usual)
	least, most, first := "1", bounds[declared][1], "minvalue"
	if strings.HasPrefix(s.options["increment"], "-") {
		least, most, first = bounds[declared][0], "-1", "maxvalue"
	}
	start := given(first, map[string]string{"minvalue": least, "maxvalue": most}[first])
	var list []string
	for _, o := range []struct{ name, sql, usual string }{
		{"as", "AS", usual}, {"increment", "INCREMENT BY", "1"}, {"minvalue", "MINVALUE", least}, {"maxvalue", "MAXVALUE", most}, {"start", "START WITH", start}, {"cache", "CACHE", "1"},
	} {
		if v := given(o.name, o.usual); v != o.usual {
			list = append(list, o.sql+" "+v)
		}
	}
	if s.options["cycle"] == "true" {
		list = append(list, "CYCLE")
	}
	return strings.Join(list, " ")
}

// isNextval reports whether a default takes its number from a sequence, and
// returns the call that does.
func (p *pg) isNextval(value node) (node, bool) {
	if value.kind == "TypeCast" && p.typeOf(value.at("typeName")).declared == "bigint" { // what nextval gives
		value = value.at("arg")
	}
	return value, value.kind == "FuncCall" && last(value.names("funcname")) == "nextval"
}

// ownSequences are those that belong to a column.
func (p *pg) ownSequences(t *pgTable, c *catalog.Column) []*sequence {
	var list []*sequence
	for _, s := range p.sequences {
		if s.table == t.FullName() && s.column == c.Name {
			list = append(list, s)
		}
	}
	return list
}
