package cql2_test

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/cql2"
)

func parse(text string) (*cql2.Node, error) { return cql2.Parse(text, cql2.DefaultLimits) }

// TestTextEncoding reads examples of the standard's requirements classes and
// what they mean, written with all their parentheses.
func TestTextEncoding(t *testing.T) {
	for text, want := range map[string]string{
		"vehicle_height > (bridge_clearance - 1)":              "vehicle_height > (bridge_clearance - 1)",
		"avg(windSpeed) < 4":                                   "",
		"city = 'Toronto'":                                     "city = 'Toronto'",
		"balance - 150.0 > 0":                                  "(balance - 150.0) > 0",
		"updated >= date('1999-11-05')":                        "updated >= DATE('1999-11-05')",
		"created < TIMESTAMP('2012-08-10T05:30:00Z')":          "created < TIMESTAMP('2012-08-10T05:30:00Z')",
		"name LIKE 'Smith%'":                                   "name LIKE 'Smith%'",
		"name NOT LIKE 'Smith.'":                               "NOT (name LIKE 'Smith.')",
		"depth BETWEEN 100.0 AND 150.0":                        "depth BETWEEN 100.0 AND 150.0",
		"depth not between 100.0 and 150.0 OR a = 1":           "(NOT (depth BETWEEN 100.0 AND 150.0)) OR (a = 1)",
		"cityName IN ('Toronto', 'Frankfurt', 'Tokyo')":        "cityName IN ('Toronto', 'Frankfurt', 'Tokyo')",
		"category NOT IN (1,2,3,4)":                            "NOT (category IN (1, 2, 3, 4))",
		"category in ()":                                       "category IN ()",
		"geometry IS NOT NULL":                                 "NOT (geometry IS NULL)",
		"geometry IS NULL AND x = TRUE":                        "(geometry IS NULL) AND (x = TRUE)",
		"CASEI(road_class) IN (CASEI('Οδος'),CASEI('Straße'))": "CASEI(road_class) IN (CASEI('Οδος'), CASEI('Straße'))",
		"A_CONTAINS(layer_ids, ('layers-ca','layers-us'))":     "A_CONTAINS(layer_ids, ('layers-ca', 'layers-us'))",
		"a_overlaps(tags, ())":                                 "A_OVERLAPS(tags, ())",
		"NOT (floors < 5)":                                     "NOT (floors < 5)",
		"NOT floors < 5 AND swimming_pool = true":              "(NOT (floors < 5)) AND (swimming_pool = TRUE)",
		"a = 1 OR b = 2 AND c = 3":                             "(a = 1) OR ((b = 2) AND (c = 3))",
		"(a = 1 OR b = 2) AND c = 3 and d = 4":                 "((a = 1) OR (b = 2)) AND (c = 3) AND (d = 4)",
		"a + b * c ^ 2 / -d % 3 = 5 DIV 2":                     "(a + (((b * (c ^ 2)) / (0 - d)) % 3)) = (5 DIV 2)",
		"a - b - c = -1.5e3":                                   "((a - b) - c) = -1.5e3",
		`"in" = 'it''s' AND apiary.name = 'a\'b'`:              `("in" = 'it''s') AND (apiary.name = 'a''b')`,
		"swimming_pool":                                        "swimming_pool",
		"TRUE OR 蜂 = 'ä'":                                      "TRUE OR (蜂 = 'ä')",
		"a = 1 AND (b = 2 AND c = 3)":                          "(a = 1) AND ((b = 2) AND (c = 3))",
		"-5 < x":                                               "-5 < x",
		"x = --5":                                              "x = (0 - -5)",
	} {
		n, err := parse(text)
		if want == "" {
			assert.Error(t, err, text)
			continue
		}
		require.NoError(t, err, text)
		assert.Equal(t, want, n.String(), text)
		again, err := parse(n.String())
		require.NoError(t, err, n.String())
		assert.Equal(t, want, again.String())
	}
}

func TestTextErrors(t *testing.T) {
	for text, want := range map[string]string{
		"":                       "at character 1: expected a condition, such as frames >= 10; got the end",
		"frames >=":              "at character 10: expected a property, a value or a parenthesis; got the end",
		"蜂 = 'ä' AND":            "at character 12: expected a property, a value or a parenthesis; got the end",
		"frames":                 "",
		"frames + 1":             "at character 8: expected a condition, such as frames >= 10; got only frames + 1",
		"5":                      "at character 1: expected a condition, such as frames >= 10; got only 5",
		"a = 'x":                 "at character 5: the text that begins here has no end; expected '",
		"a = 1 b":                "at character 7: expected AND, OR or the end of the filter; got b",
		"a == 1":                 "at character 4: expected a property, a value or a parenthesis; got =",
		"a = #":                  "at character 5: '#' has no meaning here",
		"a NOT 5":                "at character 7: expected LIKE, BETWEEN or IN; got 5",
		"a IS 5":                 "at character 6: expected NULL; got 5",
		"a IN 5":                 "at character 6: expected a list in parentheses, such as ('calm', 'lively'); got 5",
		"a BETWEEN 1 OR 2":       "at character 13: expected AND and the upper bound; got OR",
		"upper(a) = 'X'":         "at character 1: there is no function upper; there are CASEI",
		"(a = 1":                 "at character 7: expected ); got the end",
		"a = 1 AND 5":            "expected a condition, such as name = 'Sunny Slope'; got 5",
		"a = 1 AND b = 2 AND 5":  "expected a condition; got 5",
		"(a = 1) = 2":            "expected a value; got the condition a = 1",
		"a = (1, 2)":             "expected ) here; a list may follow IN only",
		"a = and":                "a property of this name stands in double quotes",
		"CASEI(5) = 'x'":         "CASEI takes a text; got 5",
		"a = 1; DROP TABLE hive": "';' has no meaning here",
		"a = \xff":               "not UTF-8",
	} {
		_, err := parse(text)
		if want == "" {
			assert.NoError(t, err, text)
			continue
		}
		assert.ErrorContains(t, err, want, text)
		var placed *cql2.Error
		assert.True(t, errors.As(err, &placed), text)
	}
}

func TestLimits(t *testing.T) {
	for _, text := range []string{
		strings.Repeat("(", 100000) + "a = 1" + strings.Repeat(")", 100000), strings.Repeat("NOT ", 100000) + "a", "a = " + strings.Repeat("-", 100001) + "1",
	} {
		_, err := parse(text)
		assert.ErrorContains(t, err, "too deep")
	}
	_, err := parse("a IN (" + strings.Repeat("1,", 400) + "1)")
	assert.ErrorContains(t, err, "too long")
	_, err = cql2.ParseJSON([]byte(strings.Repeat(`{"op":"not","args":[`, 50)+`true`+strings.Repeat("]}", 50)), cql2.DefaultLimits)
	assert.ErrorContains(t, err, "too deep")
	_, err = cql2.ParseJSON([]byte(`{"op":"in","args":[{"property":"a"},[`+strings.Repeat("1,", 400)+`1]]}`), cql2.DefaultLimits)
	assert.ErrorContains(t, err, "too long")
}

func TestJSONEncoding(t *testing.T) {
	for text, want := range map[string]string{
		`{"op":"and","args":[{"op":">=","args":[{"property":"eo:cloud_cover"},0.1]},{"op":"=","args":[{"property":"landsat"},"LC8"]},true]}`: "(eo:cloud_cover >= 0.1) AND (landsat = 'LC8') AND TRUE",
		`{"op":"like","args":[{"op":"casei","args":[{"property":"name"}]},{"op":"casei","args":["coast%"]}]}`:                                "CASEI(name) LIKE CASEI('coast%')",
		`{"op":"between","args":[{"property":"depth"},100,150.5]}`:                                                                           "depth BETWEEN 100 AND 150.5",
		`{"op":"in","args":[{"property":"a b"},["x","it's"]]}`:                                                                               `"a b" IN ('x', 'it''s')`,
		`{"op":"isNull","args":[{"property":"x"}]}`:                                                                                          "x IS NULL",
		`{"op":"<","args":[{"property":"d"},{"date":"2026-05-01"}]}`:                                                                         "d < DATE('2026-05-01')",
		`{"op":"a_containedBy","args":[{"property":"tags"},["a"]]}`:                                                                          "A_CONTAINEDBY(tags, ('a'))",
		`{"op":"=","args":[{"op":"+","args":[{"property":"x"},1]},{"timestamp":"2026-05-01T08:00:00Z"}]}`:                                    "(x + 1) = TIMESTAMP('2026-05-01T08:00:00Z')",
	} {
		n, err := cql2.ParseJSON([]byte(text), cql2.DefaultLimits)
		require.NoError(t, err, text)
		assert.Equal(t, want, n.String())
		again, err := parse(n.String())
		require.NoError(t, err, n.String())
		assert.Equal(t, want, again.String())
	}
	for text, want := range map[string]string{
		`{`:                                    "the filter is not JSON",
		`{} {}`:                                "something follows",
		`5`:                                    "at /: expected a condition",
		`{"op":"and","args":[true]}`:           "and takes two arguments or more; got 1",
		`{"op":"sql","args":[]}`:               `there is no operator "sql"`,
		`{"op":"=","args":[{"property":5},1]}`: "at /args/0: property wants a text",
		`{"op":"=","args":[{"property":"a"},null]}`:                       "at /args/1: null is no value here",
		`{"op":"in","args":[{"property":"a"},5]}`:                         "at /args/1: in wants a list",
		`{"op":"not","args":[{"op":"+","args":[1,2]}]}`:                   "at /args/0: expected a condition",
		`{"op":"=","args":[{"property":"a"},{"op":"not","args":[true]}]}`: "at /args/1: expected a value",
	} {
		_, err := cql2.ParseJSON([]byte(text), cql2.DefaultLimits)
		assert.ErrorContains(t, err, want, text)
	}
}

// FuzzParse holds whatever is read to what it is written as.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"a = 1 AND (b < -c OR NOT d LIKE 'x%')", "a NOT IN (1, DATE('x'))", `"q" IS NOT NULL`, "A_EQUALS(a, ())", "x BETWEEN y+1 AND z DIV 2"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		n, err := parse(text)
		if err != nil {
			return
		}
		again, err := cql2.Parse(n.String(), cql2.Limits{Depth: 1000, Nodes: 1000})
		require.NoError(t, err, "%q became %q", text, n.String())
		require.Equal(t, n.String(), again.String())
	})
}

func FuzzParseJSON(f *testing.F) {
	f.Add([]byte(`{"op":"and","args":[{"op":"=","args":[{"property":"a"},1]},{"op":"in","args":[{"property":"b"},["x"]]}]}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		n, err := cql2.ParseJSON(text, cql2.DefaultLimits)
		if err != nil {
			return
		}
		require.True(t, json.Valid(text))
		again, err := cql2.Parse(n.String(), cql2.Limits{Depth: 1000, Nodes: 1000})
		require.NoError(t, err, "%s became %q", text, n.String())
		require.Equal(t, n.String(), again.String())
	})
}

// FuzzQuote holds Quote to what it promises: whatever a text is, it is one text, and the
// same.
func FuzzQuote(f *testing.F) {
	for _, seed := range []string{"", "it's", `\`, `\'`, `\\'`, `' OR 1 = 1 OR name = '`, `\' OR 1 = 1 OR name = \'`, `C:\bees\`, `\\\`, "''"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if !utf8.ValidString(text) {
			t.Skip()
		}
		n, err := cql2.Parse("name = "+cql2.Quote(text)+" AND frames > 1", cql2.DefaultLimits)
		require.NoError(t, err)
		require.Equal(t, cql2.And, n.Op)
		require.Equal(t, text, n.Args[0].Args[1].Value)
		again, err := cql2.Parse(n.String(), cql2.DefaultLimits)
		require.NoError(t, err)
		require.Equal(t, text, again.Args[0].Args[1].Value)
	})
}
