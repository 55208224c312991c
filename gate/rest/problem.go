package rest

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"

	"widegate/gate"
)

// Problem is an error that a caller of the service is told, in the form of
// RFC 9457. Any handler may return one.
type Problem struct {
	Type     string  `json:"type"`
	Title    string  `json:"title"`
	Status   int     `json:"status"`
	Detail   string  `json:"detail,omitempty"`
	Instance string  `json:"instance,omitempty"`
	Errors   []Fault `json:"errors,omitempty"`
	Trace    string  `json:"trace,omitempty"` // of what the operator should look into, as the log has it

	retryAfter string
	challenge  string // what credentials would help (RFC 9110)
}

// Fault is one thing that is wrong with a request body. Pointer is an RFC 6901
// JSON pointer as a URI fragment.
type Fault struct {
	Pointer string `json:"pointer"`
	Detail  string `json:"detail"`
}

// NewProblem returns a problem of a status of RFC 9110.
func NewProblem(status int, format string, args ...any) *Problem {
	return &Problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: fmt.Sprintf(format, args...)}
}

// Error returns the detail.
func (p *Problem) Error() string { return p.Detail }

// ServeHTTP answers a request with the problem, for handlers around an API.
func (p *Problem) ServeHTTP(w http.ResponseWriter, r *http.Request) { p.send(w, r) }

// send writes the problem.
func (p *Problem) send(w http.ResponseWriter, r *http.Request) {
	p.Instance = r.URL.EscapedPath()
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	enc.SetEscapeHTML(false) // so that < and > are read as they are
	if err := enc.Encode(p); err != nil {
		text.WriteString("{\"type\":\"about:blank\",\"title\":\"Internal Server Error\",\"status\":500}\n")
	}
	h := w.Header()
	h.Set("Content-Type", "application/problem+json")
	h.Set("Cache-Control", "no-store")
	if p.challenge != "" {
		h.Set("WWW-Authenticate", p.challenge)
	}
	if p.retryAfter != "" {
		h.Set("Retry-After", p.retryAfter)
	}
	w.WriteHeader(p.Status)
	if r.Method != http.MethodHead {
		w.Write(text.Bytes())
	}
}

// problemOf says what a caller is told of an error. What only the operator
// should know stays in the log.
func (a *API) problemOf(ctx context.Context, r *resource, err error) *Problem {
	var p *Problem
	var broken *gate.ConstraintError
	at := ""
	if f := (*refused)(nil); errors.As(err, &f) {
		r, at = f.res, f.pointer()
	}
	switch {
	case errors.As(err, &p):
		return p
	case ctx.Err() != nil && errors.Is(ctx.Err(), context.Canceled):
		return NewProblem(http.StatusRequestTimeout, "the request was given up") // nobody listens any more
	case errors.Is(err, gate.ErrNotFound):
		return NewProblem(http.StatusNotFound, "there is no such row")
	case errors.Is(err, gate.ErrStale):
		return NewProblem(http.StatusConflict, "the row has been changed meanwhile; read it again")
	case errors.As(err, &broken):
		if r != nil {
			r = r.own.seen(ctx)
			shown := *broken
			shown.Columns = r.outwards(broken.Columns)
			broken = &shown
		}
		p := a.problemOfConstraint(r, broken)
		for i := range p.Errors {
			p.Errors[i].Pointer = "#" + at + p.Errors[i].Pointer[1:]
		}
		return p
	case errors.Is(err, gate.ErrCursor):
		return errOtherCursor()
	case errors.Is(err, gate.ErrUnavailable):
		p := NewProblem(http.StatusServiceUnavailable, "the database does not answer just now; try again soon")
		p.retryAfter = "2"
		p.Trace = TraceOf(ctx)
		logError(ctx, slog.LevelWarn, "database unavailable", err)
		return p
	case errors.Is(err, context.DeadlineExceeded), errors.Is(err, gate.ErrTimeout):
		return NewProblem(http.StatusGatewayTimeout, "the database took too long to answer")
	}
	logError(ctx, slog.LevelError, "request failed", err)
	unexpected := NewProblem(http.StatusInternalServerError, "something went wrong here; the log of the service says what")
	unexpected.Trace = TraceOf(ctx)
	return unexpected
}

func (a *API) problemOfConstraint(r *resource, broken *gate.ConstraintError) *Problem {
	switch broken.Kind {
	case gate.UniqueBroken:
		return faulty(NewProblem(http.StatusConflict, "%s", takenText(broken.Columns)), broken.Columns, "this value is taken")
	case gate.StillReferenced:
		return NewProblem(http.StatusConflict, "%s", r.referencedText(broken.Table))
	case gate.ReferenceBroken:
		return faulty(noSuchReference(), broken.Columns, noSuchRow)
	case gate.NotNullBroken:
		return faulty(NewProblem(http.StatusUnprocessableEntity, "a value is missing"), broken.Columns, "must not be null")
	case gate.TooLong:
		return faulty(NewProblem(http.StatusUnprocessableEntity, "a value is too long or out of range"), broken.Columns, "is too long or out of range")
	}
	if broken.Kind == gate.WrongForm {
		return faulty(NewProblem(http.StatusUnprocessableEntity, "a value does not have the form that its column takes"), broken.Columns, "does not have the form that the column takes")
	}
	return NewProblem(http.StatusUnprocessableEntity, "the row breaks a rule of the database%s", named(broken.Name))
}

// noSuchReference is the problem of a row that refers to nothing, or to what its
// sender may not see, which looks the same.
func noSuchReference() *Problem {
	return NewProblem(http.StatusUnprocessableEntity, "the row refers to one that is not there")
}

func named(rule string) string {
	if rule == "" {
		return ""
	}
	return ": " + rule
}

func takenText(columns []string) string {
	switch len(columns) {
	case 0:
		return "another row has this value already"
	case 1:
		return "another row has this " + columns[0] + " already"
	}
	return "another row has this combination of " + strings.Join(columns, ", ") + " already"
}

// referencedText names who still refers to a row: the table that the engine
// named, or all that may where it did not.
func (r *resource) referencedText(table string) string {
	if r == nil || len(r.referredBy) == 0 {
		return "other rows still refer to this one"
	}
	var paths []string
	for _, other := range r.referredBy {
		if other.info.Name == table {
			return "the row is still referred to by " + other.path
		}
		paths = append(paths, other.path)
	}
	return "the row is still referred to, by one of " + strings.Join(paths, ", ")
}

func faulty(p *Problem, columns []string, detail string) *Problem {
	for _, c := range columns {
		p.Errors = append(p.Errors, Fault{Pointer: pointer(c), Detail: detail})
	}
	return p
}

var pointerEscaper = strings.NewReplacer("~", "~0", "/", "~1")

func pointer(name string) string { return "#/" + pointerEscaper.Replace(name) }
