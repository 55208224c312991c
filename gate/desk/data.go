package desk

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"widegate/gate/rest"
)

// problem is a problem document (RFC 9457) as a page shows it.
type problem struct {
	Title  string
	Status int
	Detail string
	Errors []struct{ Pointer, Detail string }
}

func (p *problem) Error() string { return p.Detail }

// problemOf is an error as a page shows it, and nil where there is none.
func problemOf(err error) *problem {
	var p *problem
	if err == nil {
		return nil
	}
	if errors.As(err, &p) {
		return p
	}
	if said := (*rest.Problem)(nil); errors.As(err, &said) {
		return &problem{Status: said.Status, Title: said.Title, Detail: said.Detail}
	}
	return &problem{Status: http.StatusInternalServerError, Title: "Something went wrong", Detail: err.Error()}
}

// record is a row as it came: numbers keep their digits.
type record map[string]any

// answer is what the API said.
type answer struct {
	status int
	header http.Header
	body   []byte
}

// passedOn are the headers of a page's request that say who sends it.
var passedOn = []string{"Authorization", "Cookie", "X-Api-Key", "Traceparent"}

// ask sends a request for a path of the API, as whoever asks for the page.
func (v *visit) ask(method, path, media string, body io.Reader, headers ...string) (*answer, error) {
	return v.askAt(method, v.api.Base()+path, media, body, headers...)
}

// askAt is ask for a path of the whole service.
func (v *visit) askAt(method, path, media string, body io.Reader, headers ...string) (*answer, error) {
	r, err := http.NewRequestWithContext(v.r.Context(), method, path, body)
	if err != nil {
		return nil, fmt.Errorf("asking for %s: %w", path, err)
	}
	for _, name := range passedOn {
		if value := v.r.Header.Get(name); value != "" {
			r.Header.Set(name, value)
		}
	}
	if media != "" {
		r.Header.Set("Content-Type", media)
	}
	for i := 0; i < len(headers); i += 2 {
		if headers[i+1] != "" {
			r.Header.Set(headers[i], headers[i+1])
		}
	}
	r.Host, r.RemoteAddr = v.r.Host, v.r.RemoteAddr
	w := &written{header: http.Header{}}
	v.data.ServeHTTP(w, r)
	a := &answer{max(w.status, http.StatusOK), w.header, w.body.Bytes()}
	if a.status < 400 {
		return a, nil
	}
	p := &problem{Status: a.status, Title: http.StatusText(a.status)}
	if err := json.Unmarshal(a.body, p); err != nil {
		p.Detail = "The service answered with " + http.StatusText(a.status) + "."
	}
	return a, p
}

// written keeps an answer.
type written struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (w *written) Header() http.Header { return w.header }

func (w *written) WriteHeader(status int) {
	if w.status == 0 {
		w.status = status
	}
}

func (w *written) Write(b []byte) (int, error) {
	w.WriteHeader(http.StatusOK)
	return w.body.Write(b)
}

// page is a page of rows.
type page struct {
	Items   []record
	Next    string
	Matched *int64
	links   map[string]string // by their relation, the parameters that lead there
}

// list asks for rows.
func (v *visit) list(path string, q url.Values) (*page, error) {
	a, err := v.ask(http.MethodGet, path+"?"+q.Encode(), "", nil)
	if err != nil {
		return nil, err
	}
	p := &page{links: map[string]string{}}
	if err := decode(a.body, p); err != nil {
		return nil, err
	}
	for _, line := range a.header.Values("Link") {
		target, rel, _ := strings.Cut(line, ">; rel=")
		if _, query, ok := strings.Cut(target, "?"); ok {
			p.links[strings.Trim(rel, `"`)] = query
		} else {
			p.links[strings.Trim(rel, `"`)] = ""
		}
	}
	return p, nil
}

// one asks for a row, and its version.
func (v *visit) one(path string, q url.Values) (record, string, error) {
	a, err := v.ask(http.MethodGet, path+"?"+q.Encode(), "", nil)
	if err != nil {
		return nil, "", err
	}
	row := record{}
	return row, a.header.Get("ETag"), decode(a.body, &row)
}

func decode(text []byte, to any) error {
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.UseNumber()
	if err := dec.Decode(to); err != nil {
		return fmt.Errorf("reading the answer: %w", err)
	}
	return nil
}

// keyOf is the key of a row as it stands in a path.
func (r *resource) keyOf(row record) string {
	parts := make([]string, len(r.Keys))
	for i, name := range r.Keys {
		parts[i] = plain(row[name])
	}
	return rest.KeySegment(parts...)
}

// plain is a value as text.
func plain(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	case bool:
		if v {
			return "true"
		}
		return "false"
	case json.Number:
		return v.String()
	}
	text, err := json.Marshal(v)
	if err != nil {
		return ""
	}
	return string(text)
}

// tell is the text that tells a row: its telling property, else its key.
func (r *resource) tell(row record) string {
	if text := plain(row[r.Tells]); text != "" {
		return text
	}
	var parts []string
	for _, name := range r.Keys {
		parts = append(parts, plain(row[name]))
	}
	if len(parts) == 0 {
		return r.One
	}
	return sentenceCase(r.One) + " " + strings.Join(parts, ", ")
}
