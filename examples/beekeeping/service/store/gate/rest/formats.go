package rest

import (
	"bytes"
	"encoding/xml"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"beekeeping/store/gate"
)

// format is a form in which rows are sent.
type format struct {
	name    string
	media   string
	open    string // before the first row of a page
	between string // rows of a page
	streams bool   // all rows of a collection can be sent in it
	flat    bool   // it has columns and nothing below them
	whole   bool   // it is made of entities
}

// The formats of rows.
var (
	asJSON   = format{name: "json", media: "application/json", open: `{"items":[`, between: ","}
	asNDJSON = format{name: "ndjson", media: "application/x-ndjson", between: "\n", streams: true}
	asCSV    = format{name: "csv", media: "text/csv; charset=utf-8; header=present", streams: true, flat: true, whole: true}
	asSafe   = format{name: "csv-safe", media: asCSV.media, streams: true, flat: true, whole: true}
	asXML    = format{name: "xml", media: "application/xml", whole: true}

	rowFormats  = []format{asJSON, asNDJSON, asCSV, asSafe, asXML}
	jsonFormats = []format{asJSON}
)

// isCSV reports whether the format is a table; csv-safe is one that a spreadsheet
// reads without taking any cell for a formula.
func (f format) isCSV() bool { return f.name == asCSV.name || f.name == asSafe.name }

// chooseFormat chooses by the parameter f, else by Accept, which is refused
// where nothing in it can be met.
func chooseFormat(r *http.Request, name string, known []format) (format, error) {
	if name != "" {
		for _, f := range known {
			if f.name == name {
				return f, nil
			}
		}
		return format{}, NewProblem(http.StatusBadRequest, "f wants %s; got %q", formatNames(known, func(f format) string { return f.name }), name)
	}
	accept := r.Header.Values("Accept")
	if len(accept) == 0 {
		return known[0], nil
	}
	ranges := acceptRanges(accept)
	best, bestQuality := format{}, 0.0
	for _, f := range known {
		if q := qualityOf(f, ranges); q > bestQuality {
			best, bestQuality = f, q
		}
	}
	if bestQuality == 0 {
		return best, NewProblem(http.StatusNotAcceptable, "answers here are %s; Accept wants %s",
			formatNames(known, func(f format) string { return bareMedia(f.media) }), strings.Join(accept, ", "))
	}
	return best, nil
}

// acceptRange is a range of media types that a caller accepts, and how gladly.
type acceptRange struct {
	media   string
	quality float64
}

func acceptRanges(accept []string) []acceptRange {
	var list []acceptRange
	for _, part := range strings.Split(strings.Join(accept, ","), ",") {
		media, params, err := mime.ParseMediaType(part)
		if err != nil {
			continue
		}
		quality := 1.0
		if q, err := strconv.ParseFloat(params["q"], 64); err == nil {
			quality = q
		}
		list = append(list, acceptRange{media, quality})
	}
	return list
}

// qualityOf is how gladly a format is taken: as the range says that names it most
// closely (RFC 9110, section 12.5.1). What stands first wins among equals.
func qualityOf(f format, ranges []acceptRange) float64 {
	quality, closest := 0.0, -1
	for _, r := range ranges {
		if !accepts(r.media, f) {
			continue
		}
		close := 2 - strings.Count(r.media, "*")
		if close > closest {
			quality, closest = r.quality, close
		}
	}
	return quality
}

func bareMedia(media string) string {
	bare, _, _ := strings.Cut(media, ";")
	return bare
}

// accepts reports whether a range of media types has the one of the format.
func accepts(media string, f format) bool {
	own := bareMedia(f.media)
	kind, _, _ := strings.Cut(own, "/")
	return media == "*/*" || media == own || media == kind+"/*" || f.name == "ndjson" && media == "application/ndjson"
}

func formatNames(list []format, name func(format) string) string {
	names := make([]string, len(list))
	for i, f := range list {
		names[i] = name(f)
	}
	return strings.Join(names, ", ")
}

// sendPage sends a page of rows.
func (f format) sendPage(w http.ResponseWriter, set *rowSet, p page) error {
	b := set.buffer
	switch f.name {
	case "json":
		*b = append(*b, ']')
		if p.next != "" {
			*b = gate.AppendJSONString(append(*b, `,"next":`...), p.next)
		}
		if p.matched >= 0 {
			*b = strconv.AppendInt(append(*b, `,"matched":`...), p.matched, 10)
		}
		*b = append(*b, '}', '\n')
	case "ndjson":
		if set.count > 0 {
			*b = append(*b, '\n')
		}
	case asCSV.name, asSafe.name:
		f.begin(b, set.shown(), set.res)
		for _, row := range set.rows {
			*b = f.appendRow(*b, set.listing, row)
		}
	default:
		*b = appendXML(*b, set, p)
	}
	if p.matched >= 0 && f.name != "json" {
		w.Header().Set("OGC-NumberMatched", strconv.FormatInt(p.matched, 10))
	}
	send(w, http.StatusOK, f.media, *b)
	return nil
}

// begin writes what comes before the rows of an export.
func (f format) begin(b *[]byte, shown []member, res *resource) {
	if !f.isCSV() {
		return
	}
	names := make([]string, len(shown))
	for i, m := range shown {
		names[i] = res.nameOf(m)
	}
	*b = f.appendRecord(*b, names)
}

// appendRow writes a row of an export.
func (f format) appendRow(b []byte, l *listing, row any) []byte {
	if !f.isCSV() {
		return append(l.res.appendMembers(b, l.shown(), row, l.nodes), '\n')
	}
	fields := l.res.info.Fields(nil, row)
	record := make([]string, len(l.shown()))
	for i, m := range l.shown() {
		record[i], _ = l.res.cellText(m, fields, row)
	}
	return f.appendRecord(b, record)
}

// cellText is a value as it stands in a table; null is not there, and empty.
func (r *resource) cellText(m member, fields []any, row any) (text string, there bool) {
	if m.column < 0 {
		text = string(r.appendComputed(nil, m, row))
		return strings.Trim(text, `"`), text != "null"
	}
	if m.link != "" {
		if gate.IsNull(fields[m.column]) {
			return "", false
		}
		return r.location(row) + "/" + m.link, true
	}
	c, field := &r.info.Columns[m.column], fields[m.column]
	if text, null, odd := r.odd.Text(field); odd {
		return text, !null
	}
	if gate.IsNull(field) {
		return "", false
	}
	switch c.Type {
	case gate.TypeTimestamp:
		return strings.Trim(string(c.AppendJSON(nil, field)), `"`), true
	case gate.TypeBytes, gate.TypeTimestampTZ:
		return strings.Trim(string(gate.AppendJSON(nil, field)), `"`), true
	}
	return string(gate.AppendText(nil, field)), true
}

// appendRecord writes a record of RFC 4180.
func (f format) appendRecord(b []byte, record []string) []byte {
	if f.name == asSafe.name {
		for i, cell := range record {
			record[i] = harmless(cell)
		}
	}
	return appendCSV(b, record)
}

// harmless is a cell that no spreadsheet takes for a formula: what begins like
// one, and is no number, has an apostrophe before it.
func harmless(cell string) string {
	if cell == "" || !strings.ContainsRune("=+-@\t\r\n", rune(cell[0])) {
		return cell
	}
	if _, err := strconv.ParseFloat(cell, 64); err == nil {
		return cell
	}
	return "'" + cell
}

// appendXML writes a page as an element for each row, in it one for each
// property.
func appendXML(b []byte, set *rowSet, p page) []byte {
	b = append(b, xml.Header...)
	b = append(b, `<page xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance">`...)
	for _, row := range set.rows {
		b = set.res.appendElement(b, "item", row, set.shown(), set.nodes)
	}
	if p.next != "" {
		b = appendText(append(b, "<next>"...), p.next)
		b = append(b, "</next>"...)
	}
	if p.matched >= 0 {
		b = strconv.AppendInt(append(b, "<matched>"...), p.matched, 10)
		b = append(b, "</matched>"...)
	}
	return append(b, "</page>\n"...)
}

func (r *resource) appendElement(b []byte, name string, row any, shown []member, nodes []node) []byte {
	b = append(append(append(b, '<'), name...), '>')
	fields := r.info.Fields(nil, row)
	for _, m := range shown {
		tag := xmlName(r.nameOf(m))
		b = append(append(b, '<'), tag...)
		text, there := r.cellText(m, fields, row)
		if !there {
			b = append(b, ` xsi:nil="true"/>`...)
			continue
		}
		b = appendText(append(b, '>'), text)
		b = append(append(append(b, "</"...), tag...), '>')
	}
	for _, n := range nodes {
		rel := &r.relations[n.index]
		rel.rel.Each(row, func(child any) {
			b = n.to.appendElement(b, xmlName(rel.name), child, n.to.listed, n.children)
		})
	}
	return append(append(append(b, "</"...), name...), '>')
}

func appendText(b []byte, s string) []byte {
	var text bytes.Buffer
	_ = xml.EscapeText(&text, []byte(s)) // a buffer takes everything
	return append(b, text.Bytes()...)
}

// xmlName is a name that an element may have; what no name may hold becomes an
// underscore.
func xmlName(name string) string {
	clean := strings.Map(func(r rune) rune {
		if r == '_' || r == '-' || r == '.' || r >= '0' && r <= '9' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= 0x4e00 && r < 0xd800 || r >= 0xc0 && r < 0x2c0 && r != 0xd7 && r != 0xf7 {
			return r
		}
		return '_'
	}, name)
	if clean == "" || !slices.ContainsFunc([]byte{clean[0]}, func(c byte) bool { return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80 }) {
		return "_" + clean
	}
	return clean
}

func send(w http.ResponseWriter, status int, media string, b []byte) {
	h := w.Header()
	h.Set("Content-Type", media)
	h.Set("Content-Length", strconv.Itoa(len(b)))
	w.WriteHeader(status)
	writeInTime(w, b) // an error means that nobody listens any more
}
