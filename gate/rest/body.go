package rest

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"widegate/gate"
	"widegate/gate/internal/jsonscan"
)

// jsonMember is a member of a JSON object, or a cell of a table, whose value is
// a text in the form of URLs.
type jsonMember struct {
	name string
	raw  json.RawMessage
	text *string
}

// object is the members of one row of a body, in their order.
type object []jsonMember

func (o object) names() []string {
	names := make([]string, len(o))
	for i, m := range o {
		names[i] = m.name
	}
	return names
}

// readBody reads the body of a request of one of the media types. Without one
// it says which to send.
func readBody(r *http.Request, media ...string) (text []byte, sent string, err error) {
	if _, err := chooseFormat(r, "", jsonFormats); err != nil {
		return nil, "", err
	}
	sent, _, err = mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || !slices.Contains(media, sent) {
		return nil, "", NewProblem(http.StatusUnsupportedMediaType, "send the body as Content-Type: %s", strings.Join(media, " or "))
	}
	if err := refuseCoding(r); err != nil {
		return nil, "", err
	}
	text, err = io.ReadAll(r.Body)
	if err == nil && !utf8.Valid(text) {
		return nil, "", NewProblem(http.StatusBadRequest, "the body is not UTF-8, from its byte %d on", invalidAt(text))
	}
	return text, sent, bodyFault(err)
}

// invalidAt is where a text stops being UTF-8.
func invalidAt(text []byte) int {
	at := 0
	for at < len(text) {
		r, size := utf8.DecodeRune(text[at:])
		if r == utf8.RuneError && size < 2 {
			break
		}
		at += size
	}
	return at
}

// refuseCoding refuses a body that is packed: what it unpacks to has no bounds.
func refuseCoding(r *http.Request) error {
	if coding := r.Header.Get("Content-Encoding"); coding != "" && coding != "identity" {
		return NewProblem(http.StatusUnsupportedMediaType, "send the body as it is, without Content-Encoding: %s", coding)
	}
	return nil
}

// bodyFault is what a caller is told of a body that could not be read.
func bodyFault(err error) error {
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		return NewProblem(http.StatusRequestEntityTooLarge, "the body may have %d bytes at most", large.Limit)
	case errors.Is(err, errTooSlow):
		return NewProblem(http.StatusRequestTimeout, "the body came too slowly; send it at %d bytes a second at least, and not more than %d at once", leastRate, mostReading)
	case err != nil:
		return NewProblem(http.StatusBadRequest, "the body did not arrive whole")
	}
	return nil
}

// readObject reads a body that is one JSON object.
func readObject(r *http.Request, media ...string) (object, string, error) {
	text, sent, err := readBody(r, media...)
	if err != nil {
		return nil, "", err
	}
	o, err := oneObject(text)
	return o, sent, err
}

func oneObject(text []byte) (object, error) {
	if err := checkJSON(text); err != nil {
		return nil, err
	}
	return objectOf(text)
}

// objectOf reads an object from a text that is JSON.
func objectOf(text []byte) (object, error) {
	if bytes.TrimSpace(text)[0] != '{' {
		return nil, NewProblem(http.StatusUnprocessableEntity, "the body must be a JSON object")
	}
	return members(text)
}

// maxNesting bounds how deep a body is nested.
const maxNesting = 64

// checkJSON refuses what is not JSON, or is nested very deep.
func checkJSON(text []byte) error {
	if !json.Valid(text) {
		var whole json.RawMessage
		return notJSON(text, json.Unmarshal(text, &whole))
	}
	depth, inside := 0, false
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case inside && c == '\\':
			if n := surrogate(text[i:]); n < 0 {
				return NewProblem(http.StatusUnprocessableEntity, "the text at byte %d of the body has a half of a surrogate pair, %s, which is no character; send both halves", i, text[i:i+6])
			} else {
				i += n
			}
		case c == '"':
			inside = !inside
		case !inside && (c == '{' || c == '['):
			if depth++; depth > maxNesting {
				return NewProblem(http.StatusUnprocessableEntity, "the body is nested deeper than %d levels", maxNesting)
			}
		case !inside && (c == '}' || c == ']'):
			depth--
		}
	}
	return nil
}

// surrogate is how far the escape at the beginning of a text goes on behind its
// backslash; it is negative for a half of a surrogate pair without the other.
func surrogate(text []byte) int {
	unit := func(at int) (n uint64) {
		if len(text) >= at+6 && text[at] == '\\' && text[at+1] == 'u' {
			n, _ = strconv.ParseUint(string(text[at+2:at+6]), 16, 16)
		}
		return n
	}
	switch first := unit(0); {
	case first < 0xd800 || first > 0xdfff:
		return 1
	case first >= 0xdc00 || unit(6) < 0xdc00 || unit(6) > 0xdfff:
		return -1
	}
	return 11
}

// The media types in which rows are sent for storing.
const (
	mediaJSON   = "application/json"
	mediaNDJSON = "application/x-ndjson"
	mediaCSV    = "text/csv"
	mediaMerge  = "application/merge-patch+json"
	mediaPatch  = "application/json-patch+json"
)

// readObjects reads a body of one row or of many.
func readObjects(r *http.Request, res *resource) (list []object, many bool, err error) {
	text, sent, err := readBody(r, mediaJSON, mediaNDJSON, mediaCSV)
	if err != nil {
		return nil, false, err
	}
	switch sent {
	case mediaNDJSON:
		list, err = objectLines(text)
		return list, true, err
	case mediaCSV:
		list, err = res.table(text)
		return list, true, err
	}
	if err := checkJSON(text); err != nil {
		return nil, false, err
	}
	if bytes.TrimSpace(text)[0] != '[' {
		o, err := objectOf(text)
		return []object{o}, false, err
	}
	list, fault, err := objectsOf(text)
	if fault == "" {
		return list, true, err
	}
	return nil, false, NewProblem(http.StatusUnprocessableEntity, "the body must be a JSON object, or an array of objects; %s", fault)
}

// objectsOf reads an array of objects, which is JSON.
func objectsOf(text []byte) (list []object, fault string, err error) {
	s := jsonscan.Scanner{Text: text}
	if s.Next() != '[' {
		return nil, "it is no array", nil
	}
	for c := s.Skip(); c != ']'; c = s.Skip() {
		item := s.Value()
		if item[0] != '{' {
			return nil, fmt.Sprintf("number %d is none", len(list)), nil
		}
		o, err := members(item)
		if err != nil {
			return nil, "", err
		}
		list = append(list, o)
	}
	return list, "", nil
}

// objectLines reads an object from each line.
func objectLines(text []byte) ([]object, error) {
	var list []object
	for n, line := range bytes.Split(text, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) == 0 {
			continue
		}
		o, err := oneObject(line)
		var p *Problem
		if errors.As(err, &p) {
			p.Detail = fmt.Sprintf("line %d: %s", n+1, p.Detail)
		}
		if err != nil {
			return nil, err
		}
		list = append(list, o)
	}
	return list, nil
}

// members are those of an object, which is JSON. Their names share one text.
func members(text []byte) (object, error) {
	list := make(object, 0, 16)
	var room [256]byte
	names, ends := room[:0], make([]int, 0, 16)
	s := jsonscan.Scanner{Text: text}
	s.Next()
	for c := s.Skip(); c == '"'; c = s.Skip() {
		quoted := s.Value()
		m := jsonMember{}
		if inside := quoted[1 : len(quoted)-1]; jsonscan.Plain(inside) {
			names = append(names, inside...)
		} else if err := json.Unmarshal(quoted, &m.name); err != nil {
			return nil, notJSON(text, err)
		} else {
			names = append(names, m.name...)
		}
		s.Skip()
		m.raw = s.Value()
		ends = append(ends, len(names))
		list = append(list, m)
	}
	all, start := string(names), 0
	for i, end := range ends {
		list[i].name, start = all[start:end], end
	}
	return list, nil
}

// notJSON tells where a text stops being JSON.
func notJSON(text []byte, err error) error {
	var syntax *json.SyntaxError
	at := len(text)
	if errors.As(err, &syntax) && int(syntax.Offset) <= len(text) {
		at = max(int(syntax.Offset)-1, 0)
	}
	line := 1 + bytes.Count(text[:at], []byte("\n"))
	column := at - bytes.LastIndexByte(text[:at], '\n')
	return NewProblem(http.StatusBadRequest, "the body is not JSON: line %d, column %d: %s", line, column, strings.TrimPrefix(err.Error(), "json: "))
}

// draft is a row of a body that is not stored yet, with the rows that are
// embedded in it.
type draft struct {
	res     *resource
	row     any
	fields  []any
	pointer string   // where it stands in the body, without the #
	fixed   []string // columns whose values come from elsewhere, as from the path
	whole   bool     // what is absent must have a value from elsewhere
	present []int
	filled  []int // the columns that have a value before the body is read
	merges  bool  // objects are merged into JSON that is there (RFC 7396)
	claims  []claim
	odd     *gate.Odd // what is stored in place of values that do not fit
	nested  []nested
}

// nested are rows embedded under the name of a relation.
type nested struct {
	index  int // of the relation
	drafts []*draft
}

// draftReader gathers what is wrong with the rows of a body.
type draftReader struct {
	faults    []Fault
	forbidden bool // one of them is that the caller may not do this
}

// maxFaults is how many faults are told at once.
const maxFaults = 100

func (d *draftReader) add(at *draft, name, text string) {
	if len(d.faults) < maxFaults {
		d.faults = append(d.faults, Fault{"#" + at.pointer + "/" + pointerEscaper.Replace(name), text})
	}
}

// problem tells all faults, or is nil.
func (d *draftReader) problem() error {
	if len(d.faults) == 0 {
		return nil
	}
	status := http.StatusUnprocessableEntity
	if d.forbidden {
		status = http.StatusForbidden
	}
	p := NewProblem(status, "%s", faultsText(d.faults))
	p.Errors = d.faults
	return p
}

func faultsText(faults []Fault) string {
	if len(faults) == 1 {
		return "one value of the body is not right"
	}
	return fmt.Sprintf("%d values of the body are not right", len(faults))
}

// newRow drafts a new row.
func (d *draftReader) newRow(res *resource, o object, fixed []string, pointer string) (*draft, error) {
	row := res.info.New()
	res.info.SetDefaults(row)
	at := &draft{res: res, row: row, fields: res.info.Fields(nil, row), pointer: pointer, fixed: fixed, whole: true}
	if err := at.fill(); err != nil {
		return nil, err
	}
	return at, d.read(at, o)
}

// fill gives columns the values that they have from elsewhere: from a version
// that does not know them, or from what is known of the caller.
func (at *draft) fill() error {
	values := map[int]string{}
	for i, f := range at.res.facets {
		if f.value != nil {
			values[i] = *f.value
		}
	}
	if len(at.res.rules) > 0 {
		maps.Copy(values, at.res.fills())
	}
	for i, text := range values {
		if err := gate.ParseText(at.fields[i], text); err != nil {
			return fmt.Errorf("giving %s of %s its value: it %w", at.res.info.Columns[i].Name, at.res.path, err)
		}
		at.filled = append(at.filled, i)
	}
	return nil
}

// read reads members into a draft.
func (d *draftReader) read(at *draft, o object) error {
	faults := len(d.faults)
	if name, twice := doubled(o.names()); twice {
		d.add(at, name, "is given twice")
	}
	for _, m := range o {
		i, known := at.res.findSent(m.name)
		if !known && at.whole {
			if rel := at.res.relationIndex(m.name); rel >= 0 {
				if err := d.readNested(at, rel, m); err != nil {
					return err
				}
				continue
			}
		}
		if !known {
			d.add(at, m.name, at.res.unknown())
			continue
		}
		if fault := at.readMember(i, m); fault != "" {
			d.add(at, m.name, fault)
		}
		if at.res.facets[i].change != nil && slices.Contains(at.present, i) {
			d.forbidden = true
			d.add(at, m.name, "to change it one needs "+needed(at.res.facets[i].change))
		}
	}
	if at.whole {
		d.checkMissing(at, d.faults[faults:])
	}
	return nil
}

// relationIndex is the place of a relation, whose name is that of no column.
func (r *resource) relationIndex(name string) int {
	return slices.IndexFunc(r.relations, func(rel relation) bool { return rel.name == name })
}

// readNested reads rows that are embedded in another.
func (d *draftReader) readNested(at *draft, index int, m jsonMember) error {
	rel := &at.res.relations[index]
	if rel.to().create == nil {
		d.add(at, m.name, "rows of "+rel.to().path+" cannot be stored here")
		return nil
	}
	if strings.Count(at.pointer, "/") > 2*maxDepth {
		d.add(at, m.name, fmt.Sprintf("rows are embedded at most %d deep", maxDepth))
		return nil
	}
	var objects []object
	var fault string
	var err error
	single := rel.rel.Single()
	switch {
	case m.text != nil:
		fault = "a table has no place for related rows"
	case single && len(m.raw) > 0 && m.raw[0] == '{':
		var o object
		o, err = members(m.raw)
		objects = []object{o}
	case single:
		fault = "wants an object; " + strings.Join(at.res.outwards(rel.rel.Holds()), ", ") + " refers to a row that is there already"
	default:
		objects, fault, err = objectsOf(m.raw)
	}
	if err != nil {
		return err
	}
	if fault != "" {
		d.add(at, m.name, fault)
		return nil
	}
	if holds := rel.rel.Holds(); holds != nil {
		at.fixed = append(slices.Clip(at.fixed), holds...)
	}
	n := nested{index: index}
	for i, o := range objects {
		pointer := at.pointer + "/" + pointerEscaper.Replace(m.name)
		if !single {
			pointer += "/" + strconv.Itoa(i)
		}
		child, err := d.newRow(rel.to(), o, rel.rel.ReferredBy(), pointer)
		if err != nil {
			return err
		}
		n.drafts = append(n.drafts, child)
	}
	at.nested = append(at.nested, n)
	return nil
}

// unknown is what is wrong with a property that there is not.
func (r *resource) unknown() string {
	return "there is no such property; there are " + strings.Join(slices.Concat(r.columnNames(), r.relationNames()), ", ")
}

// readMember reads the value of column i, and says what is wrong with it.
func (at *draft) readMember(i int, m jsonMember) string {
	res := at.res
	c := &res.info.Columns[i]
	if c.Is(gate.Generated) {
		return "is computed by the database"
	}
	if slices.Contains(at.fixed, c.Name) {
		return at.checkFixed(i, m)
	}
	if c.Is(gate.DeletedAt) {
		return at.checkMark(i, m)
	}
	if at.isAsStored(i, m) {
		return ""
	}
	if string(m.raw) == "null" && !c.Is(gate.Nullable) {
		return "must not be null"
	}
	if at.merges && c.Type == gate.TypeJSON && len(m.raw) > 0 && m.raw[0] == '{' {
		merged, err := mergeJSON(gate.AppendJSON(nil, at.fields[i]), m.raw)
		if err != nil {
			return err.Error()
		}
		m.raw = merged
	}
	if fault := res.readValue(i, at.fields[i], m); fault != "" {
		return fault
	}
	if !slices.Contains(at.present, i) {
		at.present = append(at.present, i)
	}
	return c.Fault(at.fields[i])
}

// isAsStored reports whether a patch sends a value back that does not fit its
// column, as it was read: it stays.
func (at *draft) isAsStored(i int, m jsonMember) bool {
	text, null, odd := at.odd.Text(at.fields[i])
	if !odd || at.whole {
		return false
	}
	if null {
		return string(m.raw) == "null"
	}
	return bytes.Equal(m.raw, gate.AppendJSONString(nil, text))
}

// readValue reads the value of column i into the field that p points to, and says
// what is wrong with it.
func (r *resource) readValue(i int, p any, m jsonMember) string {
	c := &r.info.Columns[i]
	var err error
	if m.text != nil {
		err = c.ReadText(p, *m.text)
	} else if err = c.ReadJSON(p, m.raw); err == nil && c.Type == gate.TypeJSON {
		err = checkNames(m.raw)
	}
	if err != nil {
		return err.Error()
	}
	if gate.IsNull(p) {
		return ""
	}
	return r.api.engine().OwnFault(c, p)
}

// checkNames refuses JSON in which a name stands twice in an object: what is
// kept of it differs from one database to the next.
func checkNames(raw []byte) error {
	raw = bytes.TrimSpace(raw)
	switch {
	case len(raw) == 0:
	case raw[0] == '{':
		o, err := members(raw)
		if err != nil {
			return err
		}
		if name, twice := doubled(o.names()); twice {
			return fmt.Errorf("has the name %q twice in an object", name)
		}
		for _, m := range o {
			if err := checkNames(m.raw); err != nil {
				return err
			}
		}
	case raw[0] == '[':
		s := jsonscan.Scanner{Text: raw}
		s.Next()
		for c := s.Skip(); c != ']'; c = s.Skip() {
			if err := checkNames(s.Value()); err != nil {
				return err
			}
		}
	}
	return nil
}

// claim is a value that a body gives a column whose value comes from elsewhere.
type claim struct {
	column int
	field  any
	name   string
}

// checkFixed reads a value that is said elsewhere already. A patch has the row
// at hand and can see whether it is the same; a new row is compared when it has
// the value.
func (at *draft) checkFixed(i int, m jsonMember) string {
	field := at.res.info.Fields(nil, at.res.info.New())[i]
	if fault := at.res.readValue(i, field, m); fault != "" {
		return fault
	}
	if at.whole {
		at.claims = append(at.claims, claim{i, field, m.name})
		return ""
	}
	if !sameText(field, at.fields[i]) {
		return "is part of the key and cannot be changed"
	}
	return ""
}

func sameText(a, b any) bool { return bytes.Equal(gate.AppendText(nil, a), gate.AppendText(nil, b)) }

// checkClaims finds values of the body that differ from what they are by the path
// of the request, or by the row that they are embedded in.
func (d *draftReader) checkClaims(at *draft) {
	for _, c := range at.claims {
		if !sameText(c.field, at.fields[c.column]) {
			d.add(at, c.name, fmt.Sprintf("differs from what the path says, which is %s; leave it out, or write to the path of that row", gate.AppendText(nil, at.fields[c.column])))
		}
	}
}

// checkMark lets a mark of deletion be said as it is, as in a row that was read:
// only deleting sets it.
func (at *draft) checkMark(i int, m jsonMember) string {
	field := at.res.info.Fields(nil, at.res.info.New())[i]
	if fault := at.res.readValue(i, field, m); fault != "" {
		return fault
	}
	if gate.IsNull(field) != gate.IsNull(at.fields[i]) {
		return "is set by DELETE, and not by itself"
	}
	return ""
}

// zeroed are the columns whose empty values were said, and are no reason to take
// the default.
func (at *draft) zeroed() []int {
	list := at.res.info.LeftToDefault(nil, at.fields, at.present)
	return at.res.info.LeftToDefault(list, at.fields, at.filled)
}

// saysVersion reports whether the body says which version of the row it is.
func (at *draft) saysVersion() bool {
	return slices.ContainsFunc(at.present, func(i int) bool { return at.res.info.Columns[i].Is(gate.Version) })
}

// withZeros is a database on which the rows of drafts are stored as was said.
func withZeros(db gate.DB, drafts ...*draft) gate.DB {
	var rows map[any][]int
	for _, d := range drafts {
		if list := d.zeroed(); list != nil {
			if rows == nil {
				rows = map[any][]int{}
			}
			rows[d.row] = list
		}
	}
	if rows == nil {
		return db
	}
	return gate.WithRowZeros(db, rows)
}

// needsSecret reports whether a new row must bring a secret along: nothing but the
// row decides what is stored.
func (r *resource) needsSecret(f facet) bool {
	return f.secret && r.alone && !r.info.HookedInsert()
}

// checkMissing finds columns without a value; those with a fault have one. What
// is not shown is left to the database and to the functions that store rows.
func (d *draftReader) checkMissing(at *draft, own []Fault) {
	for i := range at.res.info.Columns {
		c, f := &at.res.info.Columns[i], at.res.facets[i]
		if !c.Required() || f.hidden && !at.res.needsSecret(f) || slices.Contains(at.present, i) || slices.Contains(at.filled, i) || slices.Contains(at.fixed, c.Name) {
			continue
		}
		pointer := "#" + at.pointer + "/" + pointerEscaper.Replace(f.name)
		if !slices.ContainsFunc(own, func(f Fault) bool { return f.Pointer == pointer }) {
			d.add(at, f.name, "is missing")
		}
	}
}
