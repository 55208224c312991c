package remote_test

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/require"

	"widegate/gate/remote"
)

// byHand is a row as a developer would read it without a client.
type byHand struct {
	ID      int64           `json:"id"`
	Name    string          `json:"name"`
	Frames  int64           `json:"frames"`
	FromID  *int64          `json:"from_id"`
	Details json.RawMessage `json:"details"`
}

// BenchmarkClient reads the same answers by the client and by hand: one row, a page of
// 100, and an export of 200,000.
func BenchmarkClient(b *testing.B) {
	const exported = 200_000
	line := func(i int) string {
		return fmt.Sprintf(`{"id":%d,"name":"hive number %d","frames":%d,"from_id":null,"details":{"roof":"flat"}}`, i, i, i%20)
	}
	var page, export bytes.Buffer
	page.WriteString(`{"items":[`)
	for i := range 100 {
		if i > 0 {
			page.WriteByte(',')
		}
		page.WriteString(line(i))
	}
	page.WriteString(`]}`)
	for i := range exported {
		export.WriteString(line(i) + "\n")
	}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path != "/hives":
			fmt.Fprint(w, line(7))
		case r.URL.Query().Get("limit") == "none":
			w.Write(export.Bytes())
		default:
			w.Write(page.Bytes())
		}
	}))
	defer s.Close()
	client, err := remote.Connect(s.URL, remote.Interface{Rows: 1000, Resources: []remote.Resource{remote.Describe("hives", &hives)}})
	require.NoError(b, err)
	get := func(b *testing.B, path string) *http.Response {
		resp, err := http.Get(s.URL + path)
		require.NoError(b, err)
		return resp
	}
	for _, c := range []struct {
		name         string
		hand, client func(b *testing.B)
	}{
		{"one", func(b *testing.B) {
			resp := get(b, "/hives/7")
			var row byHand
			require.NoError(b, json.NewDecoder(resp.Body).Decode(&row))
			resp.Body.Close()
		}, func(b *testing.B) {
			_, err := hives.Find(b.Context(), client, 7)
			require.NoError(b, err)
		}},
		{"page", func(b *testing.B) {
			resp := get(b, "/hives?limit=100")
			var list struct{ Items []byHand }
			require.NoError(b, json.NewDecoder(resp.Body).Decode(&list))
			resp.Body.Close()
			require.Len(b, list.Items, 100)
		}, func(b *testing.B) {
			list, err := hives.Query().Limit(100).All(b.Context(), client)
			require.NoError(b, err)
			require.Len(b, list, 100)
		}},
		{"export", func(b *testing.B) {
			resp := get(b, "/hives?limit=none")
			lines := bufio.NewScanner(resp.Body)
			n := 0
			for ; lines.Scan(); n++ {
				var row byHand
				require.NoError(b, json.Unmarshal(lines.Bytes(), &row))
			}
			resp.Body.Close()
			require.Equal(b, exported, n)
		}, func(b *testing.B) {
			n := 0
			for _, err := range hives.Query().Each(b.Context(), client) {
				require.NoError(b, err)
				n++
			}
			require.Equal(b, exported, n)
		}},
	} {
		b.Run(c.name+"/hand", func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				c.hand(b)
			}
		})
		b.Run(c.name+"/client", func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				c.client(b)
			}
		})
	}
}
