package rehearse

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"unicode"

	"github.com/modelcontextprotocol/go-sdk/mcp"
)

// Rank orders functions for a job in plain words, best first. It counts the words that the
// job shares with their names, titles and descriptions; rare words count more. It stands in
// for an assistant, to find out whether descriptions tell functions apart.
func Rank(tools []*mcp.Tool, job string) []string {
	type scored struct {
		name string
		sum  float64
	}
	texts, titles := make([][]string, len(tools)), make([][]string, len(tools))
	in := map[string]int{} // in how many texts a word is
	for i, t := range tools {
		titles[i] = words(strings.ReplaceAll(t.Name, "_", " ") + " " + t.Title)
		texts[i] = words(t.Name + " " + t.Title + " " + t.Description)
		for _, w := range texts[i] {
			in[w]++
		}
	}
	list := make([]scored, len(tools))
	asked := words(job)
	for i, t := range tools {
		list[i].name = t.Name
		for _, w := range asked {
			weight := math.Log(1 + float64(len(tools))/float64(max(in[w], 1)))
			if slices.Contains(texts[i], w) {
				list[i].sum += weight
			}
			if slices.Contains(titles[i], w) {
				list[i].sum += weight
			}
		}
		list[i].sum /= math.Sqrt(1 + float64(len(texts[i]))/40)
	}
	slices.SortStableFunc(list, func(a, b scored) int { return cmp.Compare(b.sum, a.sum) })
	names := make([]string, len(list))
	for i, s := range list {
		names[i] = s.name
	}
	return names
}

// common are words that tell nothing.
var common = strings.Fields("a an the of to in is are was were and or for by with her his its it that what who we did do i me my please this there from on at as be has have")

// words are those of a text that tell something, without their endings.
func words(text string) (list []string) {
	for _, w := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		if slices.Contains(common, w) {
			continue
		}
		for _, ending := range []string{"s", "ie", "e", "y"} {
			w = strings.TrimSuffix(w, ending)
		}
		if !slices.Contains(list, w) {
			list = append(list, w)
		}
	}
	return list
}
