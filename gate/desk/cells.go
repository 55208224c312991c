package desk

import (
	"encoding/json"
	"fmt"
	"html/template"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"widegate/gate"
)

// cell is a value as it is shown.
type cell struct {
	Text   string
	Class  string       // number, none, code
	Href   string       // where it leads
	Call   template.URL // a telephone number to call
	Src    string       // of a picture
	Title  string       // all of it, where Text is a part
	Format string       // by which the reader's browser writes Value
	Value  string
	Row    bool // it leads to another row, which may be shown beside the page
}

// The formats that a look may give a column; what follows a space is their own.
const (
	formatCurrency = "currency" // currency EUR
	formatPercent  = "percent"
	formatNumber   = "number" // with its thousands apart
	formatDate     = "date"   // of a point in time, the day
	formatRelative = "relative"
	formatPhone    = "phone"
	formatMail     = "mail"
	formatLink     = "link"
	formatPicture  = "picture"
	formatOwn      = "own" // own stars: by a function of the project's script
)

// shortText is how much of a text a table shows; what is longer than longCell may
// take two lines.
const (
	shortText = 80
	longCell  = 28
)

func (c *column) isNumber() bool {
	switch c.Type {
	case gate.TypeInt16, gate.TypeInt32, gate.TypeInt64, gate.TypeUint64, gate.TypeFloat32, gate.TypeFloat64, gate.TypeNumeric:
		return true
	}
	return false
}

// cell is how a value of a column is shown. at is the path of its row in the
// API, for what is a resource of its own; short is for tables.
func (c *column) cell(value any, at string, now time.Time, short bool) cell {
	if value == nil {
		if c.IsNumber() {
			return cell{Text: "–", Class: "none number"}
		}
		return cell{Text: "–", Class: "none"}
	}
	text := plain(value)
	out := cell{Text: text}
	kind, rest, _ := strings.Cut(c.Format, " ")
	switch kind {
	case formatCurrency:
		out.Text, out.Class = strings.TrimSpace(thousands(text)+" "+rest), "number"
		out.Format, out.Value = c.Format, text
		return out
	case formatPercent:
		out.Text, out.Class = text+" %", "number"
		return out
	case formatNumber:
		out.Text, out.Class = thousands(text), "number"
		out.Format, out.Value = c.Format, text
		return out
	case formatOwn:
		out.Format, out.Value = c.Format, text
		return out
	case formatDate:
		out.Text, _, _ = strings.Cut(text, "T")
		out.Format, out.Value, out.Title = formatDate, out.Text, text
		return out
	case formatRelative:
		out.Text, out.Title = since(text, now), text
		return out
	case formatPhone:
		out.Call = template.URL("tel:" + strings.Map(func(r rune) rune {
			if strings.ContainsRune("+0123456789", r) {
				return r
			}
			return -1
		}, text)) // digits and signs only
		return out
	case formatMail:
		out.Href = "mailto:" + url.PathEscape(text)
		return out
	case formatLink:
		if u, err := url.Parse(text); err == nil && (u.Scheme == "https" || u.Scheme == "http") {
			out.Href = text
		}
		return out
	}
	switch {
	case c.Type == gate.TypeBytes:
		return c.bytesCell(text, at)
	case c.isNumber():
		out.Text, out.Class = c.padded(text), "number"
	case c.Type == gate.TypeBool:
		out.Text = map[bool]string{true: "yes", false: "no"}[value == true]
		out.Class = "bool " + out.Text
	case c.Type == gate.TypeTimestampTZ || c.Type == gate.TypeTimestamp:
		out.Text, out.Title = shortTime(text), text
		out.Class = "time"
		if c.Type == gate.TypeTimestampTZ {
			out.Format, out.Value = "moment", text
		}
	case c.Type == gate.TypeDate:
		out.Class, out.Format, out.Value, out.Title = "time", formatDate, text, text
	case c.Type == gate.TypeEnum:
		out.Class = "label"
	case c.Type == gate.TypeJSON, c.Type == gate.TypeList, c.Type == gate.TypeRange, c.Type == gate.TypeRecord:
		out.Class = "code"
		if !short {
			out.Text = indented(value)
		}
	}
	if short && out.Class == "" && utf8.RuneCountInString(out.Text) > longCell {
		out.Class = "text"
	}
	if short && utf8.RuneCountInString(out.Text) > shortText {
		out.Title = text
		out.Text = string([]rune(out.Text)[:shortText-1]) + "…"
	}
	return out
}

// IsNumber reports whether values stand under each other by their last digits.
func (c *column) IsNumber() bool {
	kind, _, _ := strings.Cut(c.Format, " ")
	return c.isNumber() && c.refers == nil || slices.Contains([]string{formatCurrency, formatPercent, formatNumber}, kind) || c.Type == gate.TypeBytes && c.Content == ""
}

// padded is a decimal with all digits that its column has after the point.
func (c *column) padded(text string) string {
	_, fraction, point := strings.Cut(text, ".")
	if c.Type != gate.TypeNumeric || c.Scale == 0 || len(fraction) >= c.Scale || strings.Trim(text, "-.0123456789") != "" {
		return text
	}
	if !point {
		text += "."
	}
	return text + strings.Repeat("0", c.Scale-len(fraction))
}

// bytesCell shows a picture, where it is one, or how much there is.
func (c *column) bytesCell(text, at string) cell {
	size := len(text) * 3 / 4
	out := cell{Text: byteSize(size), Class: "number"}
	if c.Content == "" {
		return out
	}
	out.Href = at + "/" + c.Content
	if c.Format == formatPicture || strings.HasPrefix(text, "iVBORw0KGgo") || strings.HasPrefix(text, "/9j/") || strings.HasPrefix(text, "R0lGOD") || strings.HasPrefix(text, "UklGR") {
		out.Src = out.Href
	}
	return out
}

// contentCell shows a picture, or leads to a value that lists leave out.
func (c *column) contentCell(at string, row record) cell {
	out := cell{Text: words(c.Name), Href: at + "/" + c.Content}
	picture := c.Format == formatPicture
	for _, v := range row { // one of them may be its media type
		picture = picture || strings.HasPrefix(plain(v), "image/")
	}
	if picture {
		out.Src = out.Href
	}
	return out
}

func byteSize(n int) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d bytes", n)
	case n < 1_000_000:
		return fmt.Sprintf("%.1f kB", float64(n)/1000)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1_000_000)
}

// thousands parts the digits of a number by thin spaces.
func thousands(text string) string {
	whole, fraction, point := strings.Cut(text, ".")
	sign := ""
	if strings.HasPrefix(whole, "-") {
		sign, whole = "−", whole[1:]
	}
	if _, err := strconv.ParseUint(whole, 10, 64); err != nil {
		return text
	}
	for i := len(whole) - 3; i > 0; i -= 3 {
		whole = whole[:i] + "\u202f" + whole[i:]
	}
	if point {
		whole += "." + fraction
	}
	return sign + whole
}

// shortTime is a time to the minute; its zone is UTC, as in the API.
func shortTime(text string) string {
	for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05.999999999"} {
		if at, err := time.Parse(layout, text); err == nil {
			return at.Format("2006-01-02 15:04")
		}
	}
	return text
}

// since says how long ago a time is, or how far ahead.
func since(text string, now time.Time) string {
	at, err := time.Parse(time.RFC3339Nano, text)
	if err != nil {
		if at, err = time.Parse(time.DateOnly, text); err != nil {
			return text
		}
	}
	d, form := now.Sub(at), "%d %s%s ago"
	if d < 0 {
		d, form = -d, "in %d %s%s"
	}
	for _, unit := range []struct {
		size time.Duration
		name string
	}{{365 * 24 * time.Hour, "year"}, {30 * 24 * time.Hour, "month"}, {24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}} {
		if n := int(d / unit.size); n > 0 {
			s := "s"
			if n == 1 {
				s = ""
			}
			return fmt.Sprintf(form, n, unit.name, s)
		}
	}
	return "just now"
}

func indented(v any) string {
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return plain(v)
	}
	return string(text)
}
