// Package desk serves pages on which people look at the rows of an API, and
// change them: a list of resources, tables with filters, rows with what they are
// related to, and forms.
//
// The pages are made here, and work without scripts; one small script adds keys,
// copying and lookups. All that they show and store goes through the API by its
// own requests, with the credentials of whoever asks for the page, so that a page
// can do what its reader can do and no more.
package desk

import (
	"bytes"
	"cmp"
	"embed"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"widegate/gate"
	"widegate/gate/rest"
)

//go:embed assets
var assets embed.FS

//go:embed pages/*.html
var pages embed.FS

// Config says how the pages look.
type Config struct {
	Title string
	Root  string          // before all paths of the pages, such as /desk
	Looks map[string]Look // by the paths of resources
	// Links are shown beside the title: pages of others, by their names.
	Links []Link
	// ReadOnly shows no way to save anything.
	ReadOnly bool
	Notes    []Note // what needs attention
	Colour   string // of buttons and marks, such as #8a4b08
	Icon     string // a data URL
	// Script is a script of the project's own: it adds functions to desk.formatters,
	// which show the values of columns with the format "own NAME".
	Script []byte
}

// Link is a page of others.
type Link struct{ Name, Path string }

// Look says how a resource looks. All that is left out is found out.
type Look struct {
	Label   string // Hives
	One     string // hive
	Group   string // under which it is listed
	Help    string
	Tells   string   // the property that tells a row
	Order   []string // properties, in the order in which they are shown
	Columns map[string]ColumnLook
	Rows    int64 // about how many there are; -1 where nobody knows
}

// ColumnLook says how a property looks.
type ColumnLook struct {
	Label  string
	Help   string
	Format string // see formats
	Input  string // long: a large field
	Aside  bool   // is shown on request only
}

// Desk is the pages of an API. It is an http.Handler.
type Desk struct {
	api    *rest.API
	data   http.Handler // that answers as the API does
	config Config
	mux    *http.ServeMux
	pages  *template.Template
}

// New makes the pages of an API. data answers the requests for its rows: the API
// itself, or a handler around it.
func New(api *rest.API, data http.Handler, config Config) (*Desk, error) {
	d := &Desk{api: api, data: data, config: config, mux: http.NewServeMux()}
	var err error
	if d.pages, err = template.New("").Funcs(d.funcs()).ParseFS(pages, "pages/*.html"); err != nil {
		return nil, fmt.Errorf("reading the pages: %w", err)
	}
	for pattern, serve := range map[string]func(*visit) error{
		"GET /{$}": (*visit).home, "GET /rows/{resource}": (*visit).table, "GET /row/{resource}/{key}": (*visit).row,
		"GET /under/{resource}/{key}/{relation}": (*visit).under,
		"GET /new/{resource}":                    (*visit).newForm, "POST /new/{resource}": (*visit).create,
		"GET /edit/{resource}/{key}": (*visit).editForm, "POST /edit/{resource}/{key}": (*visit).change,
		"GET /remove/{resource}/{key}": (*visit).removeForm, "POST /remove/{resource}/{key}": (*visit).remove,
		"GET /many/{resource}": (*visit).manyForm, "POST /many/{resource}": (*visit).changeMany,
		"GET /pick/{resource}": (*visit).pick, "GET /docs": (*visit).docs, "GET /chart/{resource}": (*visit).chart, "GET /recent": (*visit).recent, "GET /sizes": (*visit).sizes,
		"GET /sign-in": (*visit).signInForm, "POST /sign-in": (*visit).signIn, "POST /sign-out": (*visit).signOut,
	} {
		method, path, _ := strings.Cut(pattern, " ")
		d.mux.HandleFunc(method+" "+config.Root+path, func(w http.ResponseWriter, r *http.Request) { d.serve(w, r, serve) })
	}
	d.mux.HandleFunc("GET "+config.Root+"/api/", d.passOn)
	d.mux.HandleFunc("GET "+config.Root+"/assets/brand.css", d.brand)
	d.mux.HandleFunc("GET "+config.Root+"/assets/own.js", d.own)
	files := http.FileServerFS(assets)
	d.mux.Handle("GET "+config.Root+"/assets/", http.StripPrefix(config.Root, files))
	return d, nil
}

// policy lets a page load what this service itself has, and nothing else.
const policy = "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"

// ServeHTTP implements http.Handler.
func (d *Desk) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Content-Security-Policy", policy)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	if err := http.NewCrossOriginProtection().Check(r); err != nil {
		http.Error(w, "this form was sent from another site", http.StatusForbidden)
		return
	}
	d.mux.ServeHTTP(w, r)
}

// Page serves a page of another's making between the head and the foot of all
// others. It may be empty; content makes what stands in it.
func (d *Desk) Page(title string, content func(r *http.Request) template.HTML) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Security-Policy", policy)
		d.serve(w, r, func(v *visit) error {
			return v.show(http.StatusOK, "page", struct {
				frame
				Content template.HTML
			}{v.frame(title), content(r)})
		})
	}
}

// visit is one request for a page.
type visit struct {
	*Desk
	w         http.ResponseWriter
	r         *http.Request
	resources []*resource
}

func (d *Desk) serve(w http.ResponseWriter, r *http.Request, page func(*visit) error) {
	r = signedIn(r)
	identified, err := d.api.Identified(r)
	v := &visit{Desk: d, w: w, r: identified}
	if err != nil && strings.HasPrefix(r.URL.Path, d.config.Root+"/sign-") {
		v.r = without(r)
	} else if err != nil {
		v.fail(err)
		return
	}
	for _, o := range d.api.Outlines(identified.Context()) {
		v.resources = append(v.resources, newResource(o, d.config.Looks[o.Path]))
	}
	if err := page(v); err != nil {
		v.fail(err)
	}
}

// show sends a page.
func (v *visit) show(status int, name string, data any) error {
	var b bytes.Buffer
	if err := v.pages.ExecuteTemplate(&b, name+".html", data); err != nil {
		return fmt.Errorf("making the page %s: %w", name, err)
	}
	v.w.Header().Set("Content-Type", "text/html; charset=utf-8")
	v.w.Header().Set("Cache-Control", "no-store")
	v.w.WriteHeader(status)
	v.w.Write(b.Bytes()) // an error means that nobody looks any more
	return nil
}

// frame is what every page has.
type frame struct {
	Title  string
	Desk   Config
	Trail  []crumb
	Notice string
	Here   string // the resource that the page is about
	Menu   []*group
	Asks   bool   // there are credentials to sign in with
	Who    string // who has signed in
	This   string // the page itself, to come back to
	Wide   bool   // so many resources that they are searched for
}

// manyResources is from how many on the menu has a field to search it.
const manyResources = 15

func (v *visit) frame(title string, trail ...crumb) frame {
	f := frame{Title: title, Desk: v.config, Trail: trail, Notice: notices[v.r.URL.Query().Get("_done")], Menu: grouped(v.resources)}
	f.Here, f.This, f.Asks, f.Wide = v.r.PathValue("resource"), v.r.URL.RequestURI(), v.api.Asks(), len(v.resources) > manyResources
	if id := rest.IdentityOf(v.r.Context()); id != nil {
		f.Who = cmp.Or(id.Subject, "signed in")
	}
	return f
}

// notices tell what the form before this page has done.
var notices = map[string]string{"created": "Saved.", "changed": "The changes are saved.", "removed": "Deleted."}

// fail shows what went wrong.
func (v *visit) fail(err error) {
	p := problemOf(err)
	page := struct {
		frame
		Problem *problem
	}{v.frame(p.Title), p}
	if err := v.show(p.Status, "problem", page); err != nil {
		http.Error(v.w, "the page could not be made", http.StatusInternalServerError)
	}
}

// resource is one as the pages show it.
type resource struct {
	rest.Outline
	Look
	columns []*column
}

// column is a property as the pages show it.
type column struct {
	rest.Property
	ColumnLook
	refers *rest.Relationship // that it is the reference of
}

func newResource(o rest.Outline, look Look) *resource {
	r := &resource{Outline: o, Look: look}
	if r.Label == "" {
		r.Label = sentenceCase(o.Path)
	}
	if r.One == "" {
		r.One = words(o.Table)
	}
	for _, p := range o.Columns {
		c := &column{Property: p, ColumnLook: look.Columns[p.Name]}
		if c.Label == "" {
			c.Label = columnLabel(p.Name)
		}
		for i, rel := range o.Relations {
			if len(rel.Holds) == 1 && rel.Holds[0] == p.Name && len(rel.Target) == 1 {
				c.refers = &o.Relations[i]
				c.Label = sentenceCase(rel.Name)
			}
			// Of several columns the last shows what they refer to.
			if n := len(rel.Holds); n > 1 && rel.Holds[n-1] == p.Name && c.refers == nil {
				c.refers = &o.Relations[i]
				c.Label = sentenceCase(rel.Name)
			}
		}
		r.columns = append(r.columns, c)
	}
	slices.SortStableFunc(r.columns, func(a, b *column) int { return r.place(a.Name) - r.place(b.Name) })
	if r.Tells == "" {
		r.Tells = r.telling()
	}
	return r
}

// place is where a property stands: those of the order first.
func (r *resource) place(name string) int {
	if i := slices.Index(r.Order, name); i >= 0 {
		return i
	}
	return len(r.Order)
}

// tellingNames are what columns are called that tell a row, best first.
var tellingNames = []string{"name", "title", "label", "code", "number", "subject", "email", "username", "caption"}

// longestTelling is how long a text may be that tells a row.
const longestTelling = 120

// telling finds the property that tells a row: one with a telling name, else the
// first short text.
func (r *resource) telling() string {
	for _, name := range tellingNames {
		for _, c := range r.columns {
			if c.Name == name || strings.HasSuffix(c.Name, "_"+name) && len(r.Holds(c.Name)) == 0 {
				return c.Name
			}
		}
	}
	for _, c := range r.columns {
		if c.Type == gate.TypeText && c.Max > 0 && c.Max <= longestTelling && !slices.Contains(r.Keys, c.Name) && !strings.HasSuffix(words(c.Name), " type") {
			return c.Name
		}
	}
	return ""
}

// Holds are the relations that a property is a reference of.
func (r *resource) Holds(name string) []rest.Relationship {
	var list []rest.Relationship
	for _, rel := range r.Relations {
		if slices.Contains(rel.Holds, name) {
			list = append(list, rel)
		}
	}
	return list
}

func (r *resource) column(name string) *column {
	for _, c := range r.columns {
		if c.Name == name {
			return c
		}
	}
	return nil
}

func (r *resource) relation(name string) *rest.Relationship {
	for i := range r.Relations {
		if r.Relations[i].Name == name {
			return &r.Relations[i]
		}
	}
	return nil
}

// find is the resource of a path.
func (v *visit) find(path string) (*resource, error) {
	for _, r := range v.resources {
		if r.Path == path {
			return r, nil
		}
	}
	return nil, &problem{Status: http.StatusNotFound, Title: "Not found", Detail: "There are no " + path + " here."}
}

// without is a request without credentials.
func without(r *http.Request) *http.Request {
	next := r.Clone(r.Context())
	next.Header.Del("Authorization")
	next.Header.Del("X-Api-Key")
	return next
}

// passOn answers with what the API does, for whoever has signed in: pictures and
// exports of the pages.
func (d *Desk) passOn(w http.ResponseWriter, r *http.Request) {
	next := signedIn(r).Clone(r.Context())
	next.URL.Path = d.api.Base() + strings.TrimPrefix(r.URL.Path, d.config.Root+"/api")
	if r.URL.RawPath != "" {
		next.URL.RawPath = d.api.Base() + strings.TrimPrefix(r.URL.RawPath, d.config.Root+"/api")
	}
	d.data.ServeHTTP(w, next)
}

var colourForm = regexp.MustCompile(`^#[0-9a-fA-F]{6}$`)

// brand is the colour of the project, and what can be read on it.
func (d *Desk) brand(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/css; charset=utf-8")
	if !colourForm.MatchString(d.config.Colour) {
		return
	}
	n, _ := strconv.ParseUint(d.config.Colour[1:], 16, 32) // which has that form
	on := "#ffffff"
	if luminance(n) > .36 {
		on = "#14110d"
	}
	fmt.Fprintf(w, ":root { --accent: %s; --on-accent: %s; }\n", d.config.Colour, on)
}

// luminance is the relative luminance of WCAG 2, of a colour as 0xrrggbb.
func luminance(colour uint64) float64 {
	part := func(n uint64) float64 {
		c := float64(n&0xff) / 255
		if c <= .04045 {
			return c / 12.92
		}
		return math.Pow((c+.055)/1.055, 2.4)
	}
	return .2126*part(colour>>16) + .7152*part(colour>>8) + .0722*part(colour)
}

func (d *Desk) own(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/javascript; charset=utf-8")
	w.Write(d.config.Script) // an error means that nobody waits any more
}

// crumb is a step of the way to a page.
type crumb struct{ Name, Path string }

// at is the path of a page.
func (d *Desk) at(parts ...string) string {
	for i, p := range parts {
		if i > 0 {
			parts[i] = url.PathEscape(p)
		}
	}
	return d.config.Root + "/" + strings.Join(parts, "/")
}
