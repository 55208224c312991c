package printable

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestText(t *testing.T) {
	for from, to := range map[string]string{
		"hive": "hive", "größe 蜂 🐝": "größe 蜂 🐝", "👩\u200d🌾": "👩\u200d🌾", "a\nb\tc": "a\nb\tc",
		"\x1b[2Jx": `\u001b[2Jx`, "a\rb": `a\u000db`, "\u202eevil": `\u202eevil`, "\ufeffhive": `\ufeffhive`, "\u009b31m": `\u009b31m`,
		"\x7f": `\u007f`, "a\u2028b": `a\u2028b`, "\U000e0041": `\udb40\udc41`, "\xff": "\ufffd", "\u00ad": `\u00ad`,
	} {
		assert.Equal(t, to, Text(from), "%q", from)
	}
	assert.Equal(t, `a\nb\tc\u000d`, Line("a\nb\tc\r"))
}

// TestJSONStaysTheSame passes JSON with every character through.
func TestJSONStaysTheSame(t *testing.T) {
	var all strings.Builder
	for r := rune(0); r < 0xe1000; r++ {
		if utf8.ValidRune(r) && (r < 0x3000 || r > 0xe0000 || r >= 0xfe00 && r < 0x10000) {
			all.WriteRune(r)
		}
	}
	text, err := json.Marshal(all.String())
	require.NoError(t, err)
	var out bytes.Buffer
	w := NewWriter(&out)
	for len(text) > 0 { // cut anywhere
		n := min(7, len(text))
		_, err := w.Write(text[:n])
		require.NoError(t, err)
		text = text[n:]
	}
	var back string
	require.NoError(t, json.Unmarshal(out.Bytes(), &back))
	assert.Equal(t, all.String(), back)
	assert.False(t, strings.ContainsFunc(out.String(), Acts))
}

func FuzzText(f *testing.F) {
	for _, s := range []string{"hive", "\x1b[0m", "\u202e", "\xff\xfe", "a\r\nb"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		clean := Text(s)
		assert.False(t, strings.ContainsFunc(clean, Acts))
		assert.Equal(t, clean, Text(clean))
		assert.NotContains(t, Line(s), "\n")
		var out bytes.Buffer
		w := NewWriter(&out)
		for i := range len(s) {
			_, err := w.Write([]byte{s[i]})
			require.NoError(t, err)
		}
		if utf8.ValidString(s) {
			assert.Equal(t, clean, out.String())
		}
	})
}
