package gate

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// ReadJSON reads a JSON value for the column into the field that p points to. It
// is stricter than ParseJSON: a text is no number, and what the column could only
// keep as another value is an error.
func (c *Column) ReadJSON(p any, raw []byte) error {
	quoted := len(raw) > 1 && raw[0] == '"'
	if quoted && c.Type == TypeNumeric && !c.Quoted() && !NonFinite(string(raw[1:len(raw)-1])) {
		return wrongJSON(raw, "a number such as 12.50")
	}
	if quoted && c.hasForm() {
		if fault := c.formFault(string(raw[1 : len(raw)-1])); fault != "" {
			return fmt.Errorf("%s; got %s", fault, shortened(raw))
		}
	}
	return ParseJSON(p, raw)
}

// ReadText reads the text form of a value of the column, as ReadJSON does.
func (c *Column) ReadText(p any, s string) error {
	switch {
	case !utf8.ValidString(s):
		return errors.New("wants text in UTF-8")
	case strings.IndexByte(s, 0) >= 0:
		return errors.New("wants text without the character U+0000")
	}
	if fault := c.formFault(s); fault != "" {
		return fmt.Errorf("%s; got %s", fault, shortened(AppendJSONString(nil, s)))
	}
	return ParseText(p, s)
}

// NonFinite reports whether a text is the JSON form of a value of a column of
// numbers that JSON has no number for.
func NonFinite(text string) bool {
	return text == "NaN" || text == "Infinity" || text == "-Infinity"
}

func shortened(raw []byte) string {
	if len(raw) > 40 {
		return strings.ToValidUTF8(string(raw[:40]), "") + "…"
	}
	return string(raw)
}

var (
	zoned    = regexp.MustCompile(`^\d{4,}-\d\d-\d\d[T ].*(?:[Zz]|[+-]\d\d(?::?\d\d)?)$`)
	fraction = regexp.MustCompile(`:\d\d\.(\d+)`)
)

// secondDigits is how many digits of a second are kept by the engines.
const secondDigits = 6

// hasForm reports whether formFault looks at texts of the column.
func (c *Column) hasForm() bool {
	switch c.Type {
	case TypeTimestamp, TypeDate, TypeTimestampTZ, TypeTimeOfDay:
		return true
	}
	return false
}

// formFault says what the form of a text has that the column cannot keep.
func (c *Column) formFault(s string) string {
	switch {
	case !c.hasForm():
		return ""
	case c.Type == TypeTimestamp && zoned.MatchString(s):
		return "wants a time without a zone, such as 2026-05-01T09:30:00, since the column keeps none"
	}
	return c.momentFault(s)
}

func (c *Column) momentFault(s string) string {
	if c.Type != TypeTimeOfDay && noDay(s) {
		return "wants a day that the calendar has"
	}
	digits := secondDigits
	if c.Is(WholeSeconds) || c.Scale > 0 {
		digits = c.Scale
	}
	m := fraction.FindStringSubmatch(s)
	if m == nil || len(strings.TrimRight(m[1], "0")) <= digits {
		return ""
	}
	if digits == 0 {
		return "wants whole seconds, since the column keeps no fraction"
	}
	return fmt.Sprintf("wants at most %d digits of a second", digits)
}

// noDay reports whether a date has a month or a day 00, as MySQL lets dates have
// that are not known.
func noDay(s string) bool {
	year, rest, ok := cutYear(s)
	return ok && len(rest) >= len("-00-00") && (rest[1:3] == "00" || rest[4:6] == "00" || year == 0 && rest[:6] == "-00-00")
}

// OwnForm says what is wrong with a text for a column of a type that only the
// engine knows, as far as this can be told without asking it. It is empty for a
// good text, and for types that are not known here.
func (e *Engine) OwnForm(c *Column, s string) string {
	if !e.hasOwnForm(c) {
		return ""
	}
	if fault := e.ownFault(c, s); fault != "" {
		return fmt.Sprintf("%s; got %s", fault, shortened(AppendJSONString(nil, s)))
	}
	return ""
}

// hasOwnForm reports whether OwnForm can say anything of a value of the column.
func (e *Engine) hasOwnForm(c *Column) bool {
	return c.Type == TypeUUID && e.OwnUUIDs || c.Type == TypeNumeric && e.Check != nil || c.Type == TypeRange || c.Cast != ""
}

// OwnFault is OwnForm for the value that p points to.
func (e *Engine) OwnFault(c *Column, p any) string {
	if !e.hasOwnForm(c) {
		return ""
	}
	return e.OwnForm(c, string(AppendText(nil, p)))
}

func (e *Engine) ownFault(c *Column, s string) string {
	if c.Type == TypeUUID && e.OwnUUIDs && !isUUID(s) {
		return "wants a UUID such as 0190b3b4-2c9c-7c3e-9d25-3f1f0c2b7a11"
	}
	if c.Type == TypeList {
		return "" // the server looks at elements
	}
	if c.Type == TypeNumeric && e.Check != nil {
		if broken := e.Check(c, s); broken != nil && !isFloat(s) {
			return "wants a number that the database can keep: " + broken.Err.Error()
		}
	}
	if c.Type == TypeRange && backwards(s) {
		return "wants a range whose end does not come before its beginning"
	}
	if c.Cast == "" {
		return ""
	}
	name, size, _ := strings.Cut(strings.ToLower(c.Cast), "(")
	check := ownForms[strings.TrimSpace(name)]
	if check.good == nil || check.good(s) {
		return lengthOfBits(name, size, s)
	}
	return "wants " + check.want
}

// isFloat reports whether a decimal number is a floating-point number exactly as it
// is written.
func isFloat(s string) bool {
	f, err := strconv.ParseFloat(s, 64)
	written, err2 := ParseDecimal(strconv.FormatFloat(f, 'f', -1, 64))
	meant, err3 := ParseDecimal(s)
	return err == nil && err2 == nil && err3 == nil && written.Cmp(meant) == 0
}

// backwards reports whether the bounds of a range, as JSON, stand the wrong way
// round.
func backwards(text string) bool {
	var bounds struct{ From, To json.RawMessage }
	if json.Unmarshal([]byte(text), &bounds) != nil {
		return false
	}
	from, to := strings.Trim(string(bounds.From), `"`), strings.Trim(string(bounds.To), `"`)
	a, err1 := ParseDecimal(from)
	b, err2 := ParseDecimal(to)
	if err1 == nil && err2 == nil {
		return a.Cmp(b) > 0
	}
	_, _, moment := cutYear(from)
	return moment && len(from) == len(to) && from > to
}

// ownForm is what texts of a type look like.
type ownForm struct {
	want string
	good func(s string) bool
}

var ownForms = map[string]ownForm{
	"inet":        {"an address such as 192.0.2.1 or 2001:db8::1/64", isInet},
	"cidr":        {"a network such as 192.0.2.0/24", isCIDR},
	"macaddr":     {"a hardware address such as 08:00:2b:01:02:03", func(s string) bool { return isHardware(s, 6) }},
	"macaddr8":    {"a hardware address such as 08:00:2b:01:02:03:04:05", func(s string) bool { return isHardware(s, 8) }},
	"bit":         {"bits such as 1010", isBits},
	"bit varying": {"bits such as 1010", isBits},
	"varbit":      {"bits such as 1010", isBits},
	"oid":         {"a whole number from 0 to 4294967295", func(s string) bool { _, err := strconv.ParseUint(s, 10, 32); return err == nil }},
}

var uuidForm = regexp.MustCompile(`^[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}$`)

func isUUID(s string) bool { return uuidForm.MatchString(s) }

func isInet(s string) bool {
	if _, err := netip.ParseAddr(s); err == nil {
		return !strings.Contains(s, "%")
	}
	_, err := netip.ParsePrefix(s)
	return err == nil
}

func isCIDR(s string) bool {
	if a, err := netip.ParseAddr(s); err == nil {
		return a.Zone() == ""
	}
	p, err := netip.ParsePrefix(s)
	return err == nil && p.Masked() == p
}

func isHardware(s string, n int) bool {
	a, err := net.ParseMAC(s)
	return err == nil && (len(a) == n || n == 8 && len(a) == 6)
}

func isBits(s string) bool { return strings.Trim(s, "01") == "" }

// lengthOfBits holds a text of bits to the size of its type.
func lengthOfBits(name, size, s string) string {
	n, err := strconv.Atoi(strings.TrimSuffix(size, ")"))
	switch {
	case err != nil:
	case strings.TrimSpace(name) == "bit" && len(s) != n:
		return fmt.Sprintf("wants %d bits", n)
	case (name == "bit varying" || name == "varbit") && len(s) > n:
		return fmt.Sprintf("wants at most %d bits", n)
	}
	return ""
}
