package words

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"widegate/internal/catalog"
)

func TestSplit(t *testing.T) {
	l := New([]string{"GlassHive"}, nil)
	for name, want := range map[string]string{
		"hive_box": "hive box", "HiveBox": "hive box", "hiveBox2": "hive box2", "HTTPServer": "http server", "userIDs": "user ids", "OAuthClient": "oauth client", "HTTPURL": "http url",
		"IPv4Range": "ipv4 range", "APIKey": "api key", "CPUs": "cpus", "CPUsUsed": "cpus used", "USER_ID": "user id", "a b-c.d": "a b c d", "größeCm": "größe cm", "": "", "__": "",
		"SaaSPlans": "saas plans", "GlassHiveKeys": "glasshive keys", "IDCard": "id card", "ID": "id", "Idea": "idea", "IPAddress": "ip address", "X": "x",
	} {
		assert.Equal(t, want, strings.Join(l.Split(name), " "), name)
	}
}

// TestEarlierSplitsAsBefore holds the words that projects of earlier versions have.
func TestEarlierSplitsAsBefore(t *testing.T) {
	l := Earlier(nil, nil)
	for _, name := range []string{"userIDs", "HTTPURL", "OAuthClient", "IPv4Range", "hive_box", "HiveBox", "a b-c", "XMLHttpURL", "größeCm", "SKUs", "x10"} {
		assert.Equal(t, catalog.Words(name), l.Split(name), name)
	}
	assert.Equal(t, "SkuID", l.Title([]string{"sku", "id"}))
}

func TestTitle(t *testing.T) {
	l := New(nil, nil)
	for text, want := range map[string]string{
		"hive box": "HiveBox", "api keys": "APIKeys", "cpus": "CPUs", "oauth client": "OAuthClient", "user ids": "UserIDs", "ipv4 range": "IPv4Range", "dns": "DNS", "größe": "Größe", "iot hub": "IoTHub",
	} {
		assert.Equal(t, want, l.Title(strings.Fields(text)), text)
		assert.Equal(t, strings.Fields(text), l.Split(want), "the words of a name are those that it was made of")
	}
}

func TestNumbers(t *testing.T) {
	l := New(nil, map[string]string{"Bien": "Bienen"})
	for plural, singular := range map[string]string{
		"hives": "hive", "hosts templates": "host template", "points of interest": "point of interest", "stats monthly": "stats monthly", "sales orders": "sales order", "bienen": "bien",
		"filters2": "filter2", "not unique": "not unique", "is active": "is active", "rfid reads": "rfid read", "goods": "goods", "zeroes": "zero", "axes": "axis", "pending jobs": "pending job", "level3": "level3", "cpus": "cpu", "news": "news",
	} {
		words := strings.Fields(plural)
		assert.Equal(t, singular, strings.Join(l.Singular(words), " "), plural)
		one, many := l.Noun(words)
		assert.Equal(t, l.Singular(words), one)
		assert.Equal(t, strings.ReplaceAll(plural, "hosts ", "host "), strings.Join(many, " "), plural)
	}
	assert.Equal(t, "host templates", strings.Join(l.Plural([]string{"host", "template"}), " "))
}

func FuzzWords(f *testing.F) {
	l := New(nil, nil)
	for _, s := range []string{"hives", "HTTPServerIDs", "a_b", "ß", "x10", "", "ǅ", "é"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		list := l.Split(s)
		for _, w := range list {
			assert.NotEmpty(t, w)
		}
		single := l.Singular(list)
		assert.Len(t, single, len(list))
		assert.Len(t, l.Plural(single), len(list))
		l.Title(list)
	})
}
