package gate_test

import (
	"encoding/json"
	"math/big"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
)

type mood string

// spot is a composite type as generated code declares one.
type spot struct {
	X    gate.Maybe[gate.Decimal]      `json:"x"`
	Note gate.Maybe[string]            `json:"note"`
	OK   gate.Maybe[bool]              `json:"ok"`
	Tags gate.Maybe[gate.List[string]] `json:"tags"`
	Mood gate.Maybe[mood]              `json:"mood"`
}

var spotParts = []gate.Column{
	{Name: "x", Type: gate.TypeNumeric, Flags: gate.Nullable, Precision: 9, Scale: 2}, {Name: "note", Type: gate.TypeText, Flags: gate.Nullable, Max: 20},
	{Name: "ok", Type: gate.TypeBool, Flags: gate.Nullable}, {Name: "tags", Type: gate.TypeList, Flags: gate.Nullable},
	{Name: "mood", Type: gate.TypeEnum, Flags: gate.Nullable, Labels: []string{"calm", "wild"}},
}

func (s *spot) Parts() ([]gate.Column, []any) {
	return spotParts, []any{&s.X, &s.Note, &s.OK, &s.Tags, gate.MaybeLabel(&s.Mood)}
}

// TestTextForms reads values as PostgreSQL and MySQL print them, writes them as
// JSON, reads that again, and hands them back to the driver.
func TestTextForms(t *testing.T) {
	for _, c := range []struct {
		to, again  any
		from, json string
		arg        string // what the driver gets; empty: as it came
	}{
		{new(gate.Interval), new(gate.Interval), "P1Y2M3DT4H5M6.789S", `"P1Y2M3DT4H5M6.789S"`, ""},
		{new(gate.Interval), new(gate.Interval), "P-1Y-2M3DT-4H-5M-6.5S", `"P-1Y-2M3DT-4H-5M-6.5S"`, ""},
		{new(gate.Interval), new(gate.Interval), "PT0S", `"PT0S"`, ""},
		{new(gate.Interval), new(gate.Interval), "P2W", `"P14D"`, "P14D"},
		{new(gate.Interval), new(gate.Interval), "PT-0.000001S", `"PT-0.000001S"`, ""},
		{new(gate.TimeOfDay), new(gate.TimeOfDay), "09:30:00", `"09:30:00"`, ""},
		{new(gate.TimeOfDay), new(gate.TimeOfDay), "24:00:00", `"24:00:00"`, ""},
		{new(gate.TimeOfDay), new(gate.TimeOfDay), "-838:59:59.000001", `"-838:59:59.000001"`, ""},
		{new(gate.TimeOfDay), new(gate.TimeOfDay), "23:59", `"23:59:00"`, "23:59:00"},
		{new(spot), new(spot), `(1.50,"a ""b"", \\ (c)",t,"{a,NULL}",calm)`, `{"x":1.50,"note":"a \"b\", \\ (c)","ok":true,"tags":["a",null],"mood":"calm"}`, `("1.50","a ""b"", \\ (c)","true","{""a"",NULL}","calm")`},
		{new(spot), new(spot), `(,"",,{a},)`, `{"x":null,"note":"","ok":null,"tags":["a"],"mood":null}`, `(,"",,"{""a""}",)`},
		{new(gate.Maybe[spot]), new(gate.Maybe[spot]), `(,,f,,)`, `{"x":null,"note":null,"ok":false,"tags":null,"mood":null}`, `(,,"false",,)`},
		{new(gate.List[spot]), new(gate.List[spot]), `{NULL,"(2,,,,)"}`, `[null,{"x":2,"note":null,"ok":null,"tags":null,"mood":null}]`, `{NULL,"(\"2\",,,,)"}`},
		{new(gate.List[string]), new(gate.List[string]), `{a,"b c",NULL,"NULL","","q\"\\"}`, `["a","b c",null,"NULL","","q\"\\"]`, `{"a","b c",NULL,"NULL","","q\"\\"}`},
		{new(gate.List[int32]), new(gate.List[int32]), `{}`, `[]`, ""},
		{new(gate.List[int64]), new(gate.List[int64]), `[0:1]={-5,9223372036854775807}`, `[-5,9223372036854775807]`, `{"-5","9223372036854775807"}`},
		{new(gate.List[bool]), new(gate.List[bool]), `{t,f}`, `[true,false]`, `{"true","false"}`},
		{new(gate.List[float64]), new(gate.List[float64]), `{1.5,NaN,-Infinity}`, `[1.5,"NaN","-Infinity"]`, `{"1.5","NaN","-Inf"}`},
		{new(gate.List[gate.Decimal]), new(gate.List[gate.Decimal]), `{1.50,NaN}`, `["1.50","NaN"]`, `{"1.50","NaN"}`},
		{new(gate.List[[]byte]), new(gate.List[[]byte]), `{"\\x00ff"}`, `["AP8="]`, `{"\\x00ff"}`},
		{new(gate.List[mood]), new(gate.List[mood]), `{calm,"so so"}`, `["calm","so so"]`, `{"calm","so so"}`},
		{new(gate.List[time.Time]), new(gate.List[time.Time]), `{"2026-05-01 10:00:00+00",infinity}`, `["2026-05-01T10:00:00Z","infinity"]`, `{"2026-05-01T10:00:00Z","infinity"}`},
		{new(gate.List[gate.JSON]), new(gate.List[gate.JSON]), `{"{\"a\":1}"}`, `[{"a":1}]`, `{"{\"a\":1}"}`},
		{new(gate.Range[int32]), new(gate.Range[int32]), `[1,5)`, `{"from":1,"to":5,"bounds":"[)"}`, `["1","5")`},
		{new(gate.Range[int64]), new(gate.Range[int64]), `(,5]`, `{"from":null,"to":5,"bounds":"(]"}`, `(,"5"]`},
		{new(gate.Range[int32]), new(gate.Range[int32]), `empty`, `{"from":null,"to":null,"bounds":"empty"}`, ""},
		{new(gate.Range[gate.Date]), new(gate.Range[gate.Date]), `[2026-01-01,infinity)`, `{"from":"2026-01-01","to":"infinity","bounds":"[)"}`, `["2026-01-01","infinity")`},
		{new(gate.Range[time.Time]), new(gate.Range[time.Time]), `["2026-01-01 00:00:00+00","2026-02-01 00:00:00+00")`, `{"from":"2026-01-01T00:00:00Z","to":"2026-02-01T00:00:00Z","bounds":"[)"}`, `["2026-01-01T00:00:00Z","2026-02-01T00:00:00Z")`},
		{new(gate.Range[gate.Decimal]), new(gate.Range[gate.Decimal]), `[0.10,)`, `{"from":"0.10","to":null,"bounds":"[)"}`, `["0.10",)`},
		{new(gate.Date), new(gate.Date), "infinity", `"infinity"`, ""},
		{new(gate.Date), new(gate.Date), "-infinity", `"-infinity"`, ""},
		{new(gate.Date), new(gate.Date), "0044-03-15 BC", `"-0043-03-15"`, ""},
		{new(gate.Date), new(gate.Date), "12345-02-28", `"+12345-02-28"`, ""},
		{new(gate.Date), new(gate.Date), "0000-00-00", `"0000-00-00"`, ""},
		{new(gate.Date), new(gate.Date), "2026-05-00", `"2026-05-00"`, ""},
		{new(gate.Decimal), new(gate.Decimal), "NaN", `"NaN"`, ""},
		{new(gate.Decimal), new(gate.Decimal), "-Infinity", `"-Infinity"`, ""},
		{new(gate.Maybe[gate.List[mood]]), new(gate.Maybe[gate.List[mood]]), `{calm}`, `["calm"]`, `{"calm"}`},
		{new(gate.Maybe[gate.Interval]), new(gate.Maybe[gate.Interval]), "P1D", `"P1D"`, ""},
	} {
		require.NoError(t, gate.Assign(c.to, c.from), c.from)
		got := string(gate.AppendJSON(nil, c.to))
		assert.Equal(t, c.json, got, c.from)
		require.NoError(t, gate.ParseJSON(c.again, []byte(got)), c.from)
		assert.Equal(t, string(gate.AppendJSON(nil, c.again)), got)
		byPackage, err := json.Marshal(c.again)
		require.NoError(t, err)
		assert.JSONEq(t, got, string(byPackage), c.from)
		arg := gate.Argument(c.again)
		want := c.arg
		if want == "" {
			want = c.from
		}
		assert.Equal(t, want, arg, c.from)
	}
}

func TestTimesBeyondTheCalendar(t *testing.T) {
	for text, want := range map[string]string{
		"infinity": `"infinity"`, "-infinity": `"-infinity"`, "+12026-05-01T10:00:00.5Z": `"+12026-05-01T10:00:00.5Z"`,
		"294276-12-31 23:59:59.999999": `"+294276-12-31T23:59:59.999999Z"`, "0044-02-28 12:00:00 BC": `"-0043-02-28T12:00:00Z"`,
		"0000-00-00 00:00:00": `"0001-01-01T00:00:00Z"`,
	} {
		var at, again time.Time
		require.NoError(t, gate.Assign(&at, text), text)
		got := gate.AppendJSON(nil, &at)
		assert.Equal(t, want, string(got))
		require.NoError(t, gate.ParseJSON(&again, got), text)
		assert.True(t, at.Equal(again), text)
	}
	assert.Equal(t, "infinity", gate.Argument(ptr(gate.FarFuture())))
	assert.True(t, gate.FarPast().Before(time.Date(-4713, 1, 1, 0, 0, 0, 0, time.UTC)))
}

func ptr[T any](v T) *T { return &v }

func TestWrongForms(t *testing.T) {
	for _, c := range []struct {
		to   any
		json string
		want string
	}{
		{new(gate.Interval), `"1 day"`, "a duration such as"},
		{new(gate.Interval), `"P"`, "a duration"},
		{new(gate.Interval), `"P1.5D"`, "a duration"},
		{new(gate.Interval), `"P999999999Y"`, "a duration"},
		{new(gate.TimeOfDay), `"9:30"`, "a time such as"},
		{new(gate.TimeOfDay), `"09:60:00"`, "a time"},
		{new(gate.TimeOfDay), `930`, "a time"},
		{new(gate.List[int32]), `"1"`, "an array"},
		{new(gate.List[int32]), `[1,"x"]`, "element 2 wants a whole number"},
		{new(gate.List[int32]), `null`, "an array"},
		{new(gate.Range[int32]), `[1,5]`, "a range such as"},
		{new(gate.Range[int32]), `{"from":1,"bounds":"<>"}`, "bounds that are one of"},
		{new(gate.Range[int32]), `{"from":"x"}`, "a whole number"},
		{new(gate.Date), `"2023-02-29"`, "a date"},
		{new(gate.Date), `"2026-13-00"`, "a date"},
	} {
		err := gate.ParseJSON(c.to, []byte(c.json))
		require.ErrorContains(t, err, c.want, c.json)
	}
	assert.Error(t, gate.Assign(new(gate.List[int32]), "{{1},{2}}"))
	assert.Error(t, gate.Assign(new(gate.List[int32]), `{"1`))
	assert.Error(t, gate.Assign(new(gate.Range[int32]), `[1,5`))
	assert.Error(t, gate.Assign(new(gate.Interval), 5))
}

func TestLists(t *testing.T) {
	l := gate.ListOf("calm", "wild")
	assert.Equal(t, []string{"calm", "wild"}, l.Values())
	l = append(l, gate.Null[string]())
	assert.Len(t, l.Values(), 2)
	r := gate.RangeOf(int32(1), 5)
	text, err := json.Marshal(r)
	require.NoError(t, err)
	assert.JSONEq(t, `{"from":1,"to":5,"bounds":"[)"}`, string(text))
}

func TestDecimalsThatAreNoNumbers(t *testing.T) {
	parse := func(s string) gate.Decimal { d, err := gate.ParseDecimal(s); require.NoError(t, err); return d }
	assert.Nil(t, parse("NaN").Rat())
	assert.Equal(t, 1, parse("NaN").Cmp(parse("Infinity")))
	assert.Equal(t, -1, parse("-Infinity").Cmp(gate.DecimalFromRat(big.NewRat(-1, 1), 0)))
	assert.Equal(t, 0, parse("NaN").Cmp(parse("NaN")))
}

// fuzzForms holds what a text form reads to the forms it writes.
func fuzzForms[T any](f *testing.F, seeds ...string) {
	for _, s := range seeds {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		var v, again, third T
		if strings.ContainsRune(s, 0) || gate.Assign(&v, s) != nil { // which no server gives
			return
		}
		text := gate.AppendJSON(nil, &v)
		require.NoError(t, gate.ParseJSON(&again, text), "%q gave %s", s, text)
		require.Equal(t, string(text), string(gate.AppendJSON(nil, &again)))
		require.NoError(t, gate.Assign(&third, gate.Argument(&again)))
		require.Equal(t, string(text), string(gate.AppendJSON(nil, &third)))
	})
}

func FuzzInterval(f *testing.F) { fuzzForms[gate.Interval](f, "P1Y2M3DT4H5M6.5S", "PT-0.5S", "P-1W") }

// TestRecordsSayWhatIsWrong gives composite values that their author has to
// mend.
func TestRecordsSayWhatIsWrong(t *testing.T) {
	for text, want := range map[string]string{
		`5`:                 "wants an object of x, note, ok, tags, mood; got 5",
		`null`:              "wants an object",
		`{"x":true}`:        "x wants a decimal number",
		`{"y":1}`:           `has no part "y"; its parts are x, note, ok, tags, mood`,
		`{"tags":["a",{}]}`: "tags element 2 wants a string",
	} {
		assert.ErrorContains(t, gate.ParseJSON(new(spot), []byte(text)), want, text)
	}
	for _, text := range []string{``, `(`, `1,2`, `(1,2)`, `("1)`, `(,,,,,)`, `(x,,,,)`, `(,,,"{",)`} {
		assert.Error(t, gate.Assign(new(spot), text), text)
	}
	c := gate.Column{Name: "at", Type: gate.TypeRecord, Flags: gate.Nullable}
	assert.Empty(t, c.Fault(new(gate.Maybe[spot])))
	assert.Empty(t, c.Fault(&spot{}))
	wrong := gate.Just(spot{Note: gate.Just("twenty-one letters...."), Mood: gate.Just(mood("cross"))})
	assert.Equal(t, `note: at most 20 characters; got 22; mood: must be one of calm, wild; got "cross"`, c.Fault(&wrong))
}

func FuzzRecord(f *testing.F) { fuzzForms[spot](f, `(1,"a ""b""",t,{a},calm)`, `(,,,,)`) }

func FuzzTimeOfDay(f *testing.F) { fuzzForms[gate.TimeOfDay](f, "09:30", "-838:59:59.5", "24:00:00") }

func FuzzList(f *testing.F) {
	fuzzForms[gate.List[string]](f, `{a,"b\"",NULL}`, "{}", `[2:3]={1,2}`, "{{a}}")
}

func FuzzRange(f *testing.F) { fuzzForms[gate.Range[int64]](f, "[1,5)", "empty", "(,]", `["1","2"]`) }

func FuzzDate(f *testing.F) {
	fuzzForms[gate.Date](f, "2026-05-01", "infinity", "0044-03-15 BC", "+12026-01-01", "2026-05-00")
}
