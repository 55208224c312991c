package rest

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"widegate/gate"
)

// batchCall is a call of a batch.
type batchCall struct {
	Method  string            `json:"method"`
	Path    string            `json:"path"` // below the base, with its query
	Headers map[string]string `json:"headers"`
	Body    json.RawMessage   `json:"body"`
}

// batchAnswer is what came back for a call.
type batchAnswer struct {
	Status  int               `json:"status"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    json.RawMessage   `json:"body,omitempty"`
}

// maxCalls bounds a batch.
const maxCalls = 100

// The headers of a call that its author may set, and those of its answer that
// are told.
var (
	callHeaders   = []string{"Content-Type", "If-Match", "If-None-Match", "Prefer"}
	answerHeaders = []string{"Location", "Etag", "Preference-Applied"}
)

// serveBatch makes several calls in one transaction: all of them, or none.
func (a *API) serveBatch(w http.ResponseWriter, r *http.Request) error {
	text, _, err := readBody(r, mediaJSON)
	if err != nil {
		return err
	}
	calls, err := readCalls(text)
	if err != nil {
		return err
	}
	before, err := answersBefore(r.Context(), len(calls))
	if err != nil {
		return err
	}
	var answers []batchAnswer
	err = gate.InTx(r.Context(), a.db(r.Context()), func(tx gate.DB) error {
		answers = answers[:0]
		ctx := context.WithValue(r.Context(), txKey{}, tx)
		for i, c := range calls {
			ctx := ctx
			if before != nil {
				ctx = context.WithValue(ctx, repeatKey{}, before[i])
			}
			answer, err := a.call(ctx, c)
			if err != nil {
				return atCall(i, err)
			}
			answers = append(answers, answer)
		}
		return nil
	})
	if err != nil {
		return err
	}
	b, err := json.Marshal(map[string]any{"answers": answers})
	if err != nil {
		return err
	}
	send(w, http.StatusOK, mediaJSON, append(b, '\n'))
	return nil
}

// answersBefore are the answers to the calls of a batch that is made again.
func answersBefore(ctx context.Context, calls int) ([]*keptAnswer, error) {
	kept := repeatedAnswer(ctx)
	if kept == nil {
		return nil, nil
	}
	var whole struct {
		Answers []batchAnswer `json:"answers"`
	}
	if err := json.Unmarshal([]byte(kept.Body), &whole); err != nil || len(whole.Answers) != calls {
		return nil, cmp.Or(err, errors.New("the kept answer is not that of the batch"))
	}
	list := make([]*keptAnswer, calls)
	for i, answer := range whole.Answers {
		list[i] = &keptAnswer{Status: answer.Status, Header: http.Header{}, Body: string(answer.Body), Sight: kept.Sight}
		for name, value := range answer.Headers {
			list[i].Header.Set(name, value)
		}
		if len(answer.Body) > 0 {
			list[i].Header.Set("Content-Type", mediaJSON)
		}
	}
	return list, nil
}

// errDryRun takes back what a dry run stored.
var errDryRun = errors.New("nothing is to be stored")

// DryRun answers a request, and takes back whatever it stored.
func (a *API) DryRun(w http.ResponseWriter, r *http.Request) {
	var answer *record
	err := gate.InTx(r.Context(), a.config.DB, func(tx gate.DB) error {
		answer = &record{header: http.Header{}}
		a.ServeHTTP(answer, r.Clone(context.WithValue(r.Context(), txKey{}, tx)))
		return errDryRun
	})
	if !errors.Is(err, errDryRun) {
		a.problemOf(r.Context(), nil, err).send(w, r)
		return
	}
	maps.Copy(w.Header(), answer.header)
	w.WriteHeader(answer.status)
	w.Write(answer.body.Bytes())
}

func readCalls(text []byte) ([]batchCall, error) {
	if err := checkJSON(text); err != nil {
		return nil, err
	}
	var batch struct {
		Calls []batchCall `json:"calls"`
	}
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.DisallowUnknownFields()
	const form = `a batch looks like {"calls":[{"method":"POST","path":"/hives","body":{…}}]}`
	var wrong *json.UnmarshalTypeError
	if err := dec.Decode(&batch); errors.As(err, &wrong) {
		return nil, NewProblem(http.StatusUnprocessableEntity, "%s: %s cannot be of type %s", form, cmp.Or(wrong.Field, "the body"), wrong.Value)
	} else if err != nil {
		return nil, NewProblem(http.StatusUnprocessableEntity, "%s: %s", form, strings.TrimPrefix(err.Error(), "json: "))
	}
	if n := len(batch.Calls); n == 0 || n > maxCalls {
		return nil, NewProblem(http.StatusUnprocessableEntity, "a batch has 1 to %d calls; got %d", maxCalls, n)
	}
	return batch.Calls, nil
}

// call makes one call in the transaction of the context, as whoever sent the
// batch.
func (a *API) call(ctx context.Context, c batchCall) (batchAnswer, error) {
	methods := []string{http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete}
	base := a.baseFor(ctx)
	target, err := url.Parse(base + c.Path)
	switch {
	case !slices.Contains(methods, c.Method):
		return batchAnswer{}, NewProblem(http.StatusUnprocessableEntity, "the method is one of %s; got %q", strings.Join(methods, ", "), c.Method)
	case err != nil || !strings.HasPrefix(c.Path, "/") || target.Host != "" || target.Path == base+"/batch":
		return batchAnswer{}, NewProblem(http.StatusUnprocessableEntity, "the path is one below %s, such as /hives; got %q", base, c.Path)
	}
	r, err := http.NewRequestWithContext(ctx, c.Method, target.String(), bytes.NewReader(c.Body))
	if err != nil {
		return batchAnswer{}, err
	}
	r.URL = markSlashes(r.URL)
	if len(c.Body) > 0 {
		r.Header.Set("Content-Type", mediaJSON)
	}
	for name, value := range c.Headers {
		if !slices.ContainsFunc(callHeaders, func(known string) bool { return strings.EqualFold(known, name) }) {
			return batchAnswer{}, NewProblem(http.StatusUnprocessableEntity, "a call has no header %s; it has %s", name, strings.Join(callHeaders, ", "))
		}
		r.Header.Set(name, value)
	}
	answer := &record{header: http.Header{}}
	a.mux.ServeHTTP(&routed{ResponseWriter: answer, request: r, api: a}, r)
	return answer.result()
}

// record keeps an answer.
type record struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (r *record) Header() http.Header { return r.header }

func (r *record) WriteHeader(status int) {
	if r.status == 0 {
		r.status = status
	}
}

var errAnswerTooLarge = errors.New("the answer is too large for a batch")

// maxAnswer bounds the answer to one call.
const maxAnswer = 8 << 20

func (r *record) Write(b []byte) (int, error) {
	r.WriteHeader(http.StatusOK)
	if r.body.Len()+len(b) > maxAnswer {
		return 0, errAnswerTooLarge
	}
	return r.body.Write(b)
}

// result is the answer; a problem is an error.
func (r *record) result() (batchAnswer, error) {
	if r.status >= http.StatusBadRequest {
		p := &Problem{}
		if err := json.Unmarshal(r.body.Bytes(), p); err != nil {
			return batchAnswer{}, err
		}
		return batchAnswer{}, p
	}
	a := batchAnswer{Status: r.status, Headers: map[string]string{}}
	for _, name := range answerHeaders {
		if value := r.header.Get(name); value != "" {
			a.Headers[name] = value
		}
	}
	if r.body.Len() == 0 {
		return a, nil
	}
	if !strings.HasPrefix(r.header.Get("Content-Type"), mediaJSON) {
		return a, NewProblem(http.StatusUnprocessableEntity, "answers in a batch are JSON; leave out f and Accept")
	}
	a.Body = bytes.TrimSpace(r.body.Bytes())
	return a, nil
}

// atCall tells which call of a batch went wrong; none of them is done then.
func atCall(i int, err error) error {
	var p *Problem
	if !errors.As(err, &p) {
		return err
	}
	at := "#/calls/" + strconv.Itoa(i)
	whole := NewProblem(p.Status, "call %d, and so none of the batch: %s", i, p.Detail)
	whole.Trace, whole.retryAfter = p.Trace, p.retryAfter
	for _, f := range p.Errors {
		whole.Errors = append(whole.Errors, Fault{at + "/body" + strings.TrimPrefix(f.Pointer, "#"), f.Detail})
	}
	if whole.Errors == nil {
		whole.Errors = []Fault{{at, p.Detail}}
	}
	return whole
}
