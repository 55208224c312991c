package gate

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// sameAsTheLongWay compares the short way of storing a text with that of the
// field itself.
func sameAsTheLongWay[T any](t *testing.T, text []byte) {
	t.Helper()
	var short, fromString, long T
	err := SetText(&short, text)
	errString := SetString(&fromString, string(text))
	errLong := fieldOf(&long).set(text)
	if !assert.Equal(t, errLong == nil, err == nil, "%q: %v, %v", text, errLong, err) || errLong != nil {
		return
	}
	assert.Equal(t, long, short, "%q", text)
	if fieldOf(&long).set(string(text)) == nil { // bits come as bytes only
		assert.NoError(t, errString, "%q", text)
		assert.Equal(t, long, fromString, "%q", text)
	}
}

func FuzzShortWays(f *testing.F) {
	for _, s := range []string{
		"", "0", "-0", "12.50", "-012.5", "007", "1.", ".5", "-", "NaN", "1e5", "2026-05-01", "2026-02-30", "2026-02-29", "0000-00-00", "9999-12-31", "12026-05-01", "0044-03-15 BC",
		"2026-05-01 08:00:00", "2026-05-01 08:00:00.5", "2026-05-01 08:00:00.123456789", "2026-05-01 08:00:00.1234567890", "2026-05-01 08:00:00.", "2026-05-01T08:00:00Z", "2026-05-01 08:00:00+02", "2026-05-01 24:00:00", "2026-05-01 23:59:60", "infinity",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		sameAsTheLongWay[string](t, text)
		sameAsTheLongWay[Decimal](t, text)
		sameAsTheLongWay[Date](t, text)
		sameAsTheLongWay[time.Time](t, text)
		sameAsTheLongWay[Maybe[Decimal]](t, text)
		sameAsTheLongWay[Maybe[time.Time]](t, text)
		sameAsTheLongWay[int64](t, text)
		sameAsTheLongWay[bool](t, text)
	})
}
