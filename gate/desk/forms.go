package desk

import (
	"bytes"
	"encoding/json"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"widegate/gate"
)

// formView is a page with a form for a row.
type formView struct {
	frame
	Resource *resource
	Action   string
	Fields   []*field
	Version  string   // of the row that is changed
	Problem  *problem // why it was not stored
	Stale    []value  // the row as it is now, where another has changed it
	Back     string
	Creates  bool
}

// field is a property in a form.
type field struct {
	*column
	Value    string
	Null     bool
	Fault    string
	Control  string // text, long, number, decimal, bool, choice, date, moment, file, reference, fixed
	Required bool
	Pick     string // where rows to refer to are looked up
	Shown    string // what tells the row that is referred to
	Picture  string
	before   string // the value in the row that is changed
}

// longText is where a line becomes a larger field.
const longText = 160

// maxForm bounds what a form sends.
const maxForm = 32 << 20

func (c *column) control(v *visit) (control, pick string) {
	switch {
	case c.refers != nil:
		return "reference", v.at("pick", c.refers.To) + "?" + url.Values{"property": {c.refers.Target[0]}}.Encode()
	case c.Input == "long", c.Type == gate.TypeText && (c.Max == 0 || c.Max > longText), c.Type == gate.TypeJSON, c.Type == gate.TypeList, c.Type == gate.TypeRange, c.Type == gate.TypeRecord:
		return "long", ""
	case c.Type == gate.TypeBytes:
		return "file", ""
	case c.Type == gate.TypeEnum:
		return "choice", ""
	case c.Type == gate.TypeBool:
		return "bool", ""
	case c.Type == gate.TypeDate:
		return "date", ""
	case c.Type == gate.TypeTimestamp, c.Type == gate.TypeTimestampTZ:
		return "moment", ""
	case c.Type == gate.TypeNumeric, c.Type == gate.TypeFloat32, c.Type == gate.TypeFloat64:
		return "decimal", ""
	case c.isNumber():
		return "number", ""
	}
	return "text", ""
}

// fields are those of a form, with the values of a row. given are properties
// that have their values from elsewhere.
func (v *visit) fields(r *resource, row record, creates bool, given []string) []*field {
	var list []*field
	for _, c := range r.columns {
		auto := c.Is(gate.Auto | gate.Generated | gate.CreatedAt | gate.UpdatedAt | gate.Version)
		if slices.Contains(given, c.Name) || creates && auto {
			continue
		}
		f := &field{column: c, Value: plain(row[c.Name]), Null: row[c.Name] == nil}
		f.Control, f.Pick = c.control(v)
		f.Required = c.Required()
		if _, there := row[c.Name]; creates && !there && c.Default != "" {
			f.Value, f.Null = c.Default, false
		}
		if c.Fixed || auto || !creates && slices.Contains(r.Keys, c.Name) {
			f.Control = "fixed"
		}
		if f.Control == "long" && c.Type == gate.TypeJSON && row[c.Name] != nil {
			f.Value = indented(row[c.Name])
		}
		if f.Control == "moment" {
			f.Value = strings.TrimSuffix(f.Value, "Z")
		}
		if !creates {
			f.before = f.Value
		}
		if c.refers != nil {
			if other, ok := row[c.refers.Name].(map[string]any); ok {
				if to, err := v.find(c.refers.To); err == nil {
					f.Shown = to.tell(other)
				}
			}
		}
		list = append(list, f)
	}
	return list
}

func (v *visit) resourceFor(may func(*resource) bool) (*resource, error) {
	r, err := v.find(v.r.PathValue("resource"))
	if err != nil {
		return nil, err
	}
	if !may(r) || v.config.ReadOnly {
		return nil, &problem{Status: http.StatusForbidden, Title: "Not allowed", Detail: "This cannot be done here."}
	}
	return r, nil
}

// newForm shows an empty form.
func (v *visit) newForm() error {
	r, err := v.resourceFor(func(r *resource) bool { return r.Creates })
	if err != nil {
		return err
	}
	return v.show(http.StatusOK, "form", v.creating(r, record{}))
}

func (v *visit) creating(r *resource, row record) *formView {
	under := v.r.URL.Query().Get("_under")
	view := &formView{
		frame:    v.frame("New "+r.One, crumb{r.Label, v.at("rows", r.Path)}, crumb{"New " + r.One, ""}),
		Resource: r, Action: v.at("new", r.Path) + query(v.r.URL.Query()), Back: v.at("rows", r.Path), Creates: true,
	}
	view.Fields = v.fields(r, row, true, v.given(under, r))
	if parent, key, ok := v.parent(under); ok {
		view.Back = v.rowPath(parent, key)
		view.Trail = []crumb{{parent.Label, v.at("rows", parent.Path)}, {parent.One, view.Back}, {"New " + r.One, ""}}
	}
	return view
}

// parent is the row below which a new one is stored.
func (v *visit) parent(under string) (r *resource, key string, ok bool) {
	parts := strings.Split(under, "/")
	if len(parts) != 3 {
		return nil, "", false
	}
	r, err := v.find(parts[0])
	return r, parts[1], err == nil
}

// given are the properties of a new row that refer to the row it is stored below.
func (v *visit) given(under string, of *resource) []string {
	parent, _, ok := v.parent(under)
	if !ok {
		return nil
	}
	for _, rel := range of.Relations {
		if rel.To == parent.Path && rel.Holds != nil && strings.HasSuffix(under, "/"+inversePath(parent, of, rel.Holds)) {
			return rel.Holds
		}
	}
	return nil
}

// inversePath is the path of the relation of a parent to those that refer to it.
func inversePath(parent, of *resource, holds []string) string {
	for _, rel := range parent.Relations {
		if rel.To == of.Path && slices.Equal(rel.Given, holds) {
			return rel.Path
		}
	}
	return ""
}

// create stores the row of a form.
func (v *visit) create() error {
	r, err := v.resourceFor(func(r *resource) bool { return r.Creates })
	if err != nil {
		return err
	}
	view := v.creating(r, record{})
	body, err := v.readForm(view.Fields)
	if err != nil {
		return err
	}
	path := "/" + r.Path
	if under := v.r.URL.Query().Get("_under"); under != "" {
		if _, _, ok := v.parent(under); ok {
			path = "/" + under
		}
	}
	a, err := v.ask(http.MethodPost, path, "application/json", bytes.NewReader(body))
	if err != nil {
		return v.refused(view, err)
	}
	stored := record{}
	if err := decode(a.body, &stored); err != nil {
		return err
	}
	next := v.at("rows", r.Path)
	if len(r.Keys) > 0 {
		next = v.rowPath(r, r.keyOf(stored))
	}
	http.Redirect(v.w, v.r, next+"?_done=created", http.StatusSeeOther)
	return nil
}

// editForm shows a form with the values of a row.
func (v *visit) editForm() error {
	r, err := v.resourceFor(func(r *resource) bool { return r.Changes })
	if err != nil {
		return err
	}
	view, err := v.editing(r)
	if err != nil {
		return err
	}
	return v.show(http.StatusOK, "form", view)
}

func (v *visit) editing(r *resource) (*formView, error) {
	key := v.key()
	// The version is that of the row alone; what it refers to is read with it.
	_, version, err := v.one("/"+r.Path+"/"+key, url.Values{})
	if err != nil {
		return nil, err
	}
	row, _, err := v.one("/"+r.Path+"/"+key, withRelations(r, r.columns))
	if err != nil {
		return nil, err
	}
	view := &formView{
		frame:    v.frame("Edit "+r.tell(row), crumb{r.Label, v.at("rows", r.Path)}, crumb{r.tell(row), v.rowPath(r, key)}, crumb{"Edit", ""}),
		Resource: r, Action: v.config.Root + "/edit/" + r.Path + "/" + key, Back: v.rowPath(r, key), Version: version,
		Fields: v.fields(r, row, false, nil),
	}
	for _, f := range view.Fields {
		if f.Content != "" && row[f.Name] != nil {
			f.Picture = v.api.Base() + "/" + r.Path + "/" + key + "/" + f.Content
		}
	}
	return view, nil
}

// change stores what a form changes of a row, unless another has changed it
// meanwhile.
func (v *visit) change() error {
	r, err := v.resourceFor(func(r *resource) bool { return r.Changes })
	if err != nil {
		return err
	}
	view, err := v.editing(r)
	if err != nil {
		return err
	}
	now := view.Version
	before := make([]value, len(view.Fields))
	for i, f := range view.Fields {
		before[i] = value{f.column, cell{Text: f.Value}}
	}
	body, err := v.readForm(view.Fields)
	if err != nil {
		return err
	}
	key := v.key()
	view.Version = v.r.FormValue("_version")
	_, err = v.ask(http.MethodPatch, "/"+r.Path+"/"+key, "application/merge-patch+json", bytes.NewReader(body), "If-Match", view.Version)
	if p := problemOf(err); err != nil && p.Status == http.StatusPreconditionFailed {
		view.Version, view.Stale = now, before
	}
	if err != nil {
		return v.refused(view, err)
	}
	http.Redirect(v.w, v.r, v.rowPath(r, key)+"?_done=changed", http.StatusSeeOther)
	return nil
}

// refused shows the form again with what is wrong with it.
func (v *visit) refused(view *formView, err error) error {
	view.Problem = problemOf(err)
	for _, fault := range view.Problem.Errors {
		name := strings.NewReplacer("~1", "/", "~0", "~").Replace(strings.TrimPrefix(fault.Pointer, "#/"))
		for _, f := range view.Fields {
			if f.Name == name {
				f.Fault = fault.Detail
			}
		}
	}
	return v.show(view.Problem.Status, "form", view)
}

// readForm reads what a form sends into its fields, and makes a JSON object of it.
func (v *visit) readForm(fields []*field) ([]byte, error) {
	v.r.Body = http.MaxBytesReader(v.w, v.r.Body, maxForm)
	err := v.r.ParseMultipartForm(8 << 20)
	if err == http.ErrNotMultipart {
		err = v.r.ParseForm()
	}
	if err != nil {
		return nil, &problem{Status: http.StatusBadRequest, Title: "Bad request", Detail: "The form did not arrive whole, or is larger than 32 MB."}
	}
	body := map[string]json.RawMessage{}
	for _, f := range fields {
		if f.Control == "fixed" {
			continue
		}
		if f.Control == "file" {
			if err := f.readFile(v.r, body); err != nil {
				return nil, err
			}
			continue
		}
		if !v.r.Form.Has("v." + f.Name) {
			continue
		}
		f.Value = strings.ReplaceAll(v.r.Form.Get("v."+f.Name), "\r\n", "\n")
		if raw, send := f.json(); send {
			body[f.Name] = raw
		}
	}
	return json.Marshal(body)
}

// readFile reads the file of a binary property, if one was chosen.
func (f *field) readFile(r *http.Request, body map[string]json.RawMessage) error {
	if r.FormValue("empty."+f.Name) != "" && f.Is(gate.Nullable) {
		body[f.Name] = json.RawMessage("null")
		return nil
	}
	file, header, err := r.FormFile("v." + f.Name)
	if err != nil {
		return nil // none was chosen
	}
	defer file.Close()
	data, err := io.ReadAll(file)
	if err != nil {
		return &problem{Status: http.StatusBadRequest, Title: "Bad request", Detail: "The file did not arrive whole."}
	}
	if len(data) == 0 && header.Filename == "" {
		return nil
	}
	body[f.Name], err = json.Marshal(data)
	f.setMedia(header, r, body)
	return err
}

// setMedia gives the media type of a file to the property that holds it, unless
// the form says another.
func (f *field) setMedia(header *multipart.FileHeader, r *http.Request, body map[string]json.RawMessage) {
	for _, name := range []string{"media_type", "content_type", "mime_type", "mediaType", "contentType", "mimeType"} {
		if media := header.Header.Get("Content-Type"); media != "" && r.Form.Has("v."+name) {
			body[name] = json.RawMessage(strconv.Quote(media))
		}
	}
}

// json is the value of a field in JSON; what is left empty is null, or is not
// sent at all.
func (f *field) json() (raw json.RawMessage, send bool) {
	if f.Null = f.Value == ""; f.Null {
		// What is emptied must be refused where there must be a value, and what was
		// empty before is left as it is.
		return json.RawMessage("null"), f.Is(gate.Nullable) || f.before != ""
	}
	value := f.Value
	switch f.Control {
	case "number", "decimal":
		if json.Valid([]byte(value)) && !strings.HasPrefix(value, `"`) && !f.Quoted() {
			return json.RawMessage(value), true
		}
	case "bool":
		return json.RawMessage(strconv.FormatBool(value == "true")), true
	case "moment":
		if strings.Count(value, ":") == 1 {
			value += ":00"
		}
		if f.Type == gate.TypeTimestampTZ && !strings.HasSuffix(value, "Z") {
			value += "Z"
		}
	case "reference":
		if f.isNumber() && json.Valid([]byte(value)) {
			return json.RawMessage(value), true
		}
	case "long":
		if f.Type != gate.TypeText && json.Valid([]byte(value)) {
			return json.RawMessage(value), true
		}
	}
	text, err := json.Marshal(value)
	return text, err == nil
}

// removeForm asks whether a row should really go.
func (v *visit) removeForm() error {
	r, err := v.resourceFor(func(r *resource) bool { return r.Removes })
	if err != nil {
		return err
	}
	return v.removing(r, nil)
}

func (v *visit) removing(r *resource, p *problem) error {
	key := v.key()
	row, version, err := v.one("/"+r.Path+"/"+key, url.Values{})
	if err != nil {
		return err
	}
	status := http.StatusOK
	if p != nil {
		status = p.Status
	}
	return v.show(status, "remove", struct {
		frame
		Resource           *resource
		Name, Action, Back string
		Version            string
		Problem            *problem
	}{
		v.frame("Delete "+r.tell(row), crumb{r.Label, v.at("rows", r.Path)}, crumb{r.tell(row), v.rowPath(r, key)}, crumb{"Delete", ""}),
		r, r.tell(row), v.config.Root + "/remove/" + r.Path + "/" + key, v.rowPath(r, key), version, p,
	})
}

// remove removes a row.
func (v *visit) remove() error {
	r, err := v.resourceFor(func(r *resource) bool { return r.Removes })
	if err != nil {
		return err
	}
	if _, err := v.ask(http.MethodDelete, "/"+r.Path+"/"+v.key(), "", nil, "If-Match", v.r.FormValue("_version")); err != nil {
		return v.removing(r, problemOf(err))
	}
	http.Redirect(v.w, v.r, v.at("rows", r.Path)+"?_done=removed", http.StatusSeeOther)
	return nil
}

// manyView is a page on all rows that are chosen.
type manyView struct {
	frame
	Resource *resource
	Action   string
	Back     string
	Filter   url.Values
	Matched  int64
	Fields   []*field
	Chosen   string // the property to change
	Problem  *problem
	Done     string
}

// manyForm shows how many rows are chosen, and asks what to do with them.
func (v *visit) manyForm() error { return v.showMany(http.StatusOK, nil, "") }

func (v *visit) showMany(status int, p *problem, done string) error {
	r, err := v.resourceFor(func(r *resource) bool { return r.Many })
	if err != nil {
		return err
	}
	chosen := choice(apiQuery(v.r.URL.Query()))
	counted, err := v.list("/"+r.Path, with(chosen, "count", "true", "limit", "1"))
	if err != nil {
		return err
	}
	view := &manyView{
		frame:    v.frame("Many "+r.Label, crumb{r.Label, v.at("rows", r.Path) + query(chosen)}, crumb{"All that are chosen", ""}),
		Resource: r, Action: v.at("many", r.Path) + query(chosen), Back: v.at("rows", r.Path) + query(chosen), Filter: chosen, Problem: p, Done: done,
	}
	if counted.Matched != nil {
		view.Matched = *counted.Matched
	}
	for _, f := range v.fields(r, record{}, false, nil) {
		if f.Control != "fixed" && f.Control != "file" {
			view.Fields = append(view.Fields, f)
		}
	}
	view.Chosen = v.r.FormValue("property")
	return v.show(status, "many", view)
}

// changeMany changes or removes all rows that are chosen.
func (v *visit) changeMany() error {
	r, err := v.resourceFor(func(r *resource) bool { return r.Many })
	if err != nil {
		return err
	}
	target := "/" + r.Path + query(choice(apiQuery(v.r.URL.Query())))
	var a *answer
	if v.r.FormValue("do") == "remove" {
		a, err = v.ask(http.MethodDelete, target, "", nil)
	} else {
		a, err = v.giveAll(r, target)
	}
	if err != nil {
		return v.showMany(problemOf(err).Status, problemOf(err), "")
	}
	var done struct{ Count int64 }
	if err := decode(a.body, &done); err != nil {
		return err
	}
	what := "changed"
	if v.r.FormValue("do") == "remove" {
		what = "removed"
	}
	return v.showMany(http.StatusOK, nil, count(done.Count)+" rows "+what+".")
}

// giveAll gives a property the value of the form in all rows that are chosen.
func (v *visit) giveAll(r *resource, target string) (*answer, error) {
	c := r.column(v.r.FormValue("property"))
	if c == nil {
		return nil, &problem{Status: http.StatusBadRequest, Title: "Bad request", Detail: "Choose a property to change."}
	}
	f := &field{column: c, Value: v.r.FormValue("value")}
	f.Control, _ = c.control(v)
	raw, _ := f.json() // nothing empties it, where that may be
	body, err := json.Marshal(map[string]json.RawMessage{c.Name: raw})
	if err != nil {
		return nil, err
	}
	return v.ask(http.MethodPatch, target, "application/merge-patch+json", bytes.NewReader(body))
}
