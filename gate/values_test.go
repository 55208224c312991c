package gate_test

import (
	"encoding/json"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
)

func TestMaybeTellsAbsentNullAndValueApart(t *testing.T) {
	var row struct {
		A gate.Maybe[int64]     `json:"a"`
		B gate.Maybe[int64]     `json:"b"`
		C gate.Maybe[gate.Date] `json:"c"`
	}
	require.NoError(t, json.Unmarshal([]byte(`{"b":null,"c":"2026-02-28"}`), &row))
	assert.True(t, row.A.IsAbsent())
	assert.True(t, row.B.IsNull())
	assert.False(t, row.B.IsAbsent())
	assert.Equal(t, gate.Date{Year: 2026, Month: time.February, Day: 28}, row.C.Or(gate.Date{}))
	text, err := json.Marshal(row)
	require.NoError(t, err)
	assert.JSONEq(t, `{"a":null,"b":null,"c":"2026-02-28"}`, string(text))
	assert.Error(t, json.Unmarshal([]byte(`{"a":"x"}`), &row))
}

func TestDecimal(t *testing.T) {
	for text, want := range map[string]string{
		"0": "0", "-0.50": "-0.50", "007.10": "7.10", "123456789012345678901234567890.12": "123456789012345678901234567890.12",
	} {
		d, err := gate.ParseDecimal(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, d.String())
	}
	for _, text := range []string{"", "-", ".5", "5.", "1e3", "1,5", "nan", "+1", "1.2.3", " 1"} {
		_, err := gate.ParseDecimal(text)
		assert.Error(t, err, text)
	}
	one, err := gate.ParseDecimal("1.50")
	require.NoError(t, err)
	assert.Equal(t, 0, one.Cmp(gate.DecimalFromRat(one.Rat(), 1)))
	assert.Equal(t, 1.5, one.Float64())
	assert.Equal(t, "0", gate.Decimal{}.String())
}

func TestDate(t *testing.T) {
	d, err := gate.ParseDate("2024-02-29")
	require.NoError(t, err)
	assert.Equal(t, "2024-02-29", d.String())
	assert.Equal(t, time.Date(2024, 2, 29, 0, 0, 0, 0, time.UTC), d.Time(time.UTC))
	_, err = gate.ParseDate("2023-02-29")
	assert.Error(t, err)
	assert.Equal(t, "+12345-01-01", gate.Date{Year: 12345, Month: 1, Day: 1}.String())
}

func TestAssignTakesWhatDriversGive(t *testing.T) {
	when := time.Date(2026, 5, 1, 9, 30, 0, 5e8, time.UTC)
	cases := []struct {
		to   any
		from any
		want string // the JSON of the field
	}{
		{new(int64), int64(-5), `-5`},
		{new(int64), []byte("42"), `42`},
		{new(int64), 3.0, `3`},
		{new(int32), int64(math.MaxInt32), `2147483647`},
		{new(int16), "7", `7`},
		{new(uint64), []byte("18446744073709551615"), `18446744073709551615`},
		{new(bool), int64(1), `true`},
		{new(bool), "false", `false`},
		{new(float64), int64(2), `2`},
		{new(float32), float32(0.1), `0.1`},
		{new(float64), math.NaN(), `"NaN"`},
		{new(float64), math.Inf(-1), `"-Infinity"`},
		{new(float64), 1e-9, `1e-09`},
		{new(float32), float64(float32(0.1)), `0.1`},
		{new(string), []byte("a\"b\\c\n\x00\xff"), `"a\"b\\c\n\u0000�"`},
		{new(string), when, `"2026-05-01T09:30:00.5Z"`},
		{new([]byte), []byte{1, 2, 255}, `"AQL/"`},
		{new(time.Time), "2026-05-01 09:30:00.5", `"2026-05-01T09:30:00.5Z"`},
		{new(time.Time), []byte("2026-05-01T11:30:00.5+02:00"), `"2026-05-01T09:30:00.5Z"`},
		{new(gate.Date), when, `"2026-05-01"`},
		{new(gate.Date), "2026-05-01 00:00:00", `"2026-05-01"`},
		{new(gate.Decimal), 12.5, `12.5`},
		{new(gate.Decimal), []byte("12.50"), `12.50`},
		{new(gate.JSON), `{"a": 1}`, `{"a": 1}`},
		{new(gate.JSON), `not json`, `"not json"`},
		{new(gate.Maybe[int64]), nil, `null`},
		{new(gate.Maybe[gate.Decimal]), "1.0", `1.0`},
	}
	for _, c := range cases {
		require.NoError(t, gate.Assign(c.to, c.from), "%T from %v", c.to, c.from)
		assert.Equal(t, c.want, string(gate.AppendJSON(nil, c.to)), "%T from %v", c.to, c.from)
	}
	for _, c := range []struct{ to, from any }{
		{new(int64), nil}, {new(int16), int64(40000)}, {new(int64), 1.5}, {new(uint64), int64(-1)}, {new(bool), 1.0},
		{new(time.Time), "yesterday"}, {new(gate.Date), int64(1)}, {new(gate.Decimal), true}, {new(string), nil},
	} {
		assert.Error(t, gate.Assign(c.to, c.from), "%T from %v", c.to, c.from)
	}
}

func TestParseJSONSaysWhatIsWanted(t *testing.T) {
	for want, c := range map[string]struct {
		to  any
		raw string
	}{
		"a whole number from -32768 to 32767; got 40000": {new(int16), `40000`},
		"a whole number from 0":                          {new(uint64), `-1`},
		"wants a string; got 5":                          {new(string), `5`},
		"without the character U+0000":                   {new(string), `"a\u0000"`},
		"true or false":                                  {new(bool), `"true"`},
		"a date such as":                                 {new(gate.Date), `"2026-13-01"`},
		"a time such as":                                 {new(time.Time), `"noon"`},
		"a decimal number such as 12.50":                 {new(gate.Decimal), `"1e5"`},
		"a base64 string":                                {new([]byte), `"%"`},
		"a number; got \"1\"":                            {new(float64), `"1"`},
	} {
		assert.ErrorContains(t, gate.ParseJSON(c.to, []byte(c.raw)), want)
	}
}

func TestFaults(t *testing.T) {
	text := gate.Column{Type: gate.TypeText, Max: 3}
	long := strings.Repeat("ü", 4)
	assert.Equal(t, "at most 3 characters; got 4", text.Fault(&long))
	short := "üüü"
	assert.Empty(t, text.Fault(&short))
	number := gate.Column{Type: gate.TypeNumeric, Precision: 4, Scale: 2, Above: "0", Most: "50"}
	for value, want := range map[string]string{
		"1.5": "", "50.00": "", "0": "must be greater than 0; got 0", "50.01": "must be at most 50; got 50.01",
		"1.234": "at most 4 digits, 2 after the point; got 1.234", "100": "at most 4 digits, 2 after the point; got 100",
	} {
		d, err := gate.ParseDecimal(value)
		require.NoError(t, err)
		assert.Equal(t, want, number.Fault(&d), value)
	}
	enum := gate.Column{Type: gate.TypeEnum, Labels: []string{"calm", "fierce"}}
	label := temper("wild")
	assert.Equal(t, `must be one of calm, fierce; got "wild"`, enum.Fault(gate.Label(&label)))
	required := gate.Column{Type: gate.TypeText}
	none := gate.Null[string]()
	assert.Equal(t, "must not be null", required.Fault(&none))
}

func FuzzJSONString(f *testing.F) {
	for _, s := range []string{"", "a", "\"\\\n\r\t\x00\x1f", "\xff\xfe", "蜂\u2028"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		var back string
		require.NoError(t, json.Unmarshal(gate.AppendJSONString(nil, s), &back))
		assert.Equal(t, strings.ToValidUTF8(s, "\ufffd"), back)
	})
}

func FuzzDecimal(f *testing.F) {
	for _, s := range []string{"0", "-1.50", "00.1", "9999999999999999999999"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		d, err := gate.ParseDecimal(s)
		if err != nil {
			return
		}
		again, err := gate.ParseDecimal(d.String())
		require.NoError(t, err)
		assert.Equal(t, d, again)
		assert.Equal(t, 0, d.Cmp(again))
	})
}
