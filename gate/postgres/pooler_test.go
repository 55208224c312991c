package postgres_test

import (
	"bytes"
	"encoding/binary"
	"io"
	"net"
	"net/url"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate"
	"widegate/gate/postgres"
	"widegate/internal/testdb"
)

func TestMain(m *testing.M) { os.Exit(testdb.Main(m)) }

// poolerParameters are the parameters that poolers of sessions let through at
// the start of one.
var poolerParameters = []string{"user", "database", "client_encoding", "datestyle", "timezone", "standard_conforming_strings", "application_name"}

// pooler stands before a server as a pooler does: of the parameters that a
// session begins with it refuses those it does not know, or drops them.
func pooler(t *testing.T, server string, refuses bool) (address string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer client.Close()
				start := message(client)
				for start != nil && binary.BigEndian.Uint32(start) != 196608 { // TLS, which it has not
					client.Write([]byte{'N'})
					start = message(client)
				}
				if start == nil {
					return
				}
				kept := append([]byte{}, start[:4]...)
				words := bytes.Split(bytes.TrimRight(start[4:], "\x00"), []byte{0})
				for pair := range slices.Chunk(words, 2) {
					switch {
					case slices.Contains(poolerParameters, string(pair[0])):
						kept = append(append(append(append(kept, pair[0]...), 0), pair[1]...), 0)
					case refuses:
						text := "SFATAL\x00C08P01\x00Munsupported startup parameter: " + string(pair[0]) + "\x00\x00"
						client.Write(append(binary.BigEndian.AppendUint32([]byte{'E'}, uint32(len(text)+4)), text...))
						return
					}
				}
				kept = append(kept, 0)
				back, err := net.Dial("tcp", server)
				if err != nil {
					return
				}
				defer back.Close()
				back.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(kept)+4)), kept...))
				go func() {
					io.Copy(back, client)
					back.Close()
				}()
				io.Copy(client, back)
			}()
		}
	}()
	return l.Addr().String()
}

// message reads what begins a connection, without its length.
func message(c net.Conn) []byte {
	var size [4]byte
	if _, err := io.ReadFull(c, size[:]); err != nil {
		return nil
	}
	text := make([]byte, binary.BigEndian.Uint32(size[:])-4)
	if _, err := io.ReadFull(c, text); err != nil {
		return nil
	}
	return text
}

// TestBehindAPooler reads every kind of interval through a pooler, and from
// sessions that write intervals in other ways.
func TestBehindAPooler(t *testing.T) {
	direct, err := url.Parse(testdb.Postgres(t))
	require.NoError(t, err)
	for name, refuses := range map[string]bool{"refuses": true, "drops": false} {
		t.Run(name, func(t *testing.T) {
			through := *direct
			through.Host = pooler(t, direct.Host, refuses)
			db, err := postgres.Open(t.Context(), through.String())
			require.NoError(t, err)
			defer db.Close()
			for _, style := range []string{"", "postgres", "postgres_verbose", "sql_standard", "iso_8601"} {
				if style != "" {
					_, err := db.Exec(t.Context(), "SET intervalstyle = "+style, nil)
					require.NoError(t, err)
				}
				for text, want := range map[string]string{"1 year 2 mons 3 days 04:05:06.5": "P1Y2M3DT4H5M6.5S", "-1 day +00:00:00.000001": "P-1DT0.000001S", "-00:05:00": "PT-5M", "0": "PT0S"} {
					v, err := gate.ReadValue(t.Context(), db, gate.NewSQL(db).Text("SELECT interval '"+text+"'"), func(v *gate.Interval) any { return v })
					require.NoError(t, err)
					assert.Equal(t, want, v.String(), style)
				}
			}
		})
	}
	for text, want := range map[string]string{"1 year 2 mons -3 days +04:05:06.5": "P1Y2M-3DT4H5M6.5S", "00:00:00": "PT0S", "-00:05:00": "PT-5M", "1 day": "P1D"} {
		var v gate.Interval
		require.NoError(t, gate.Assign(&v, text))
		assert.Equal(t, want, v.String())
	}
	for _, text := range []string{"", "x", "1 fortnight", "1:2", "days 1"} {
		assert.Error(t, gate.Assign(new(gate.Interval), text), text)
	}
}
