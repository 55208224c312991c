package rest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"maps"
	"net/http"
	"slices"
	"time"

	"widegate/gate"
)

// keptAnswer is the answer to a request with an Idempotency-Key, as the table of
// Config.Repeats keeps it.
type keptAnswer struct {
	Status int         `json:"status"`
	Header http.Header `json:"header"`
	Body   string      `json:"body"`
	Sight  string      `json:"sight,omitempty"` // what was known of who it was made for
}

// errRepeated says that a request was made before.
var errRepeated = errors.New("the request was made before")

// maxRepeatKey bounds the length of an Idempotency-Key.
const maxRepeatKey = 255

// once does what a POST asks for once, however often it is sent with the same
// Idempotency-Key: the key and the answer are stored in the transaction of the
// request, so that there is both of them and what it did, or nothing.
func (a *API) once(w http.ResponseWriter, r *http.Request, route Route) error {
	key := r.Header.Get("Idempotency-Key")
	if key == "" || verbOf(r.Method) == toRead {
		return route.do(w, r)
	}
	if err := a.checkRepeatKey(r, key); err != nil {
		return err
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		r.Body = io.NopCloser(io.MultiReader(bytes.NewReader(body), failingReader{err}))
		return route.do(w, r) // which says what is wrong with the body
	}
	id, request := a.repeatKeys(r, key, body)
	var kept keptAnswer
	ctx := r.Context()
	err = gate.InTx(ctx, a.db(ctx), func(tx gate.DB) (err error) {
		kept, err = a.doOnce(context.WithValue(ctx, txKey{}, tx), tx, r, route, body, id, request)
		return err
	})
	if errors.Is(err, errRepeated) {
		if kept, err = a.repeated(ctx, id, request); err != nil {
			return err
		}
		r = r.WithContext(context.WithValue(ctx, repeatKey{}, &kept))
		r.Body = io.NopCloser(bytes.NewReader(body))
		return a.again(w, r, route)
	}
	if err != nil {
		return err
	}
	kept.send(w)
	return nil
}

// checkRepeatKey refuses a key that nobody would keep.
func (a *API) checkRepeatKey(r *http.Request, key string) error {
	switch {
	case r.Method != http.MethodPost:
		return NewProblem(http.StatusBadRequest, "an Idempotency-Key goes with POST; If-Match keeps %s from being done twice", r.Method)
	case a.config.Repeats == "":
		return NewProblem(http.StatusBadRequest, "this service keeps no answers, and cannot tell a repeated request: leave out Idempotency-Key, or name a table for them with api.repeats in widegate.yaml")
	case len(key) > maxRepeatKey:
		return NewProblem(http.StatusBadRequest, "an Idempotency-Key has at most %d characters", maxRepeatKey)
	}
	return nil
}

func (kept *keptAnswer) send(w http.ResponseWriter) {
	for name, values := range kept.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(kept.Status)
	_, _ = io.WriteString(w, kept.Body) // an error means that nobody listens any more
}

// repeatKey finds the answer that was given before in the context of a request
// that was made again.
type repeatKey struct{}

func repeatedAnswer(ctx context.Context) *keptAnswer {
	kept, _ := ctx.Value(repeatKey{}).(*keptAnswer)
	return kept
}

// again answers a request that was made before, if its sender may have the
// answer now.
func (a *API) again(w http.ResponseWriter, r *http.Request, route Route) error {
	kept := repeatedAnswer(r.Context())
	if verbOf(r.Method) == toRead { // a call of a batch: what it reads now is what may be read now
		return route.do(w, r.WithContext(context.WithValue(r.Context(), repeatKey{}, nil)))
	}
	if route.repeats {
		return route.do(w, r)
	}
	if route.may != nil {
		if err := route.may(r.Context()); err != nil {
			return err
		}
	}
	if kept.Sight != a.sight(r.Context()) {
		return NewProblem(http.StatusForbidden, "this request was made before, by one with other rights; its answer is not told to you as you are now")
	}
	kept.send(w)
	return nil
}

// ofTheToken are claims that differ from one token of a sender to the next.
var ofTheToken = []string{"exp", "iat", "nbf", "jti"}

// sight is what is known of who sends a request, as far as it decides what they
// see.
func (a *API) sight(ctx context.Context) string {
	id := IdentityOf(ctx)
	if id == nil {
		return ""
	}
	own := maps.Clone(id.Claims)
	for _, name := range ofTheToken {
		delete(own, name)
	}
	claims, _ := json.Marshal(own)
	sum := sha256.Sum256(append([]byte(a.viewKeyFor(ctx).roles+"\x00"), claims...))
	return hex.EncodeToString(sum[:])
}

// giveAgain gives the answer of before to a request that is made again: what its
// sender may see of it now. It reports whether the request is one.
func (r *resource) giveAgain(w http.ResponseWriter, req *http.Request) (given bool, err error) {
	kept := repeatedAnswer(req.Context())
	if kept == nil {
		return false, nil
	}
	seen := *kept
	if kept.Body != "" {
		text, err := r.visible(req.Context(), []byte(kept.Body))
		if err != nil {
			return true, err
		}
		seen.Body = string(text)
	}
	seen.send(w)
	return true, nil
}

// visible is what the sender of a request may see of an answer with rows of the
// resource.
func (r *resource) visible(ctx context.Context, text []byte) ([]byte, error) {
	text = bytes.TrimSpace(text)
	o, err := oneObject(text)
	if err != nil {
		return nil, err
	}
	if len(o) != 1 || o[0].name != "items" || o[0].raw[0] != '[' {
		text, err := r.visibleRows(ctx, r.rows, []object{o})
		return append(text, '\n'), err
	}
	list, _, err := objectsOf(o[0].raw)
	if err != nil {
		return nil, err
	}
	items, err := r.visibleRows(ctx, r.rows, list)
	return append(append(append([]byte(`{"items":[`), items...), ']', '}'), '\n'), err
}

// visibleRows writes rows, one after the other, without what may not be seen of
// them. Where one may not be seen at all, as conds have it, none may.
func (r *resource) visibleRows(ctx context.Context, conds []gate.Cond[any], rows []object) ([]byte, error) {
	if len(conds) > 0 {
		if err := r.stillThere(ctx, conds, rows); err != nil {
			return nil, err
		}
	}
	var b []byte
	for i, row := range rows {
		if i > 0 {
			b = append(b, ',')
		}
		b = append(b, '{')
		start := len(b)
		for _, m := range row {
			value, err := r.visibleMember(ctx, m)
			if err != nil {
				return nil, err
			}
			if value == nil {
				continue
			}
			if len(b) > start {
				b = append(b, ',')
			}
			b = append(append(gate.AppendJSONString(b, m.name), ':'), value...)
		}
		b = append(b, '}')
	}
	return b, nil
}

// visibleMember is the value of a member, or nil where there is none to see.
func (r *resource) visibleMember(ctx context.Context, m jsonMember) ([]byte, error) {
	if r.holds(m.name) {
		return m.raw, nil
	}
	i := r.relationIndex(m.name)
	if i < 0 {
		return nil, nil
	}
	rel := &r.relations[i]
	var conds []gate.Cond[any]
	if cond, ruled := rel.at.rowsFor(rel.who, toRead); rel.bound && ruled {
		conds = append(conds, cond)
	}
	switch m.raw[0] {
	case '{':
		o, err := members(m.raw)
		if err != nil {
			return nil, err
		}
		return rel.to().visibleRows(ctx, conds, []object{o})
	case '[':
		list, _, err := objectsOf(m.raw)
		if err != nil {
			return nil, err
		}
		items, err := rel.to().visibleRows(ctx, conds, list)
		return append(append([]byte{'['}, items...), ']'), err
	}
	return m.raw, nil
}

// stillThere holds rows of an answer, by their keys, to conditions.
func (r *resource) stillThere(ctx context.Context, conds []gate.Cond[any], rows []object) error {
	found := written{res: r}
	for _, o := range rows {
		row := r.info.New()
		fields := r.info.Fields(nil, row)
		for _, k := range r.info.Keys {
			at := slices.IndexFunc(o, func(m jsonMember) bool { return m.name == r.facets[k].name })
			if at < 0 || r.facets[k].hidden || gate.ParseJSON(fields[k], o[at].raw) != nil {
				return gate.ErrNotFound
			}
		}
		found.drafts = append(found.drafts, &draft{res: r, row: row})
	}
	for part := range slices.Chunk(found.drafts, checkChunk) {
		ok, err := found.hold(ctx, r.api.db(ctx), part, conds...)
		if err != nil {
			return err
		}
		if !ok {
			return gate.ErrNotFound
		}
	}
	return nil
}

// failingReader gives an error that was met before.
type failingReader struct{ err error }

func (f failingReader) Read([]byte) (int, error) { return 0, f.err }

// repeatKeys are the key under which a request is kept, which is its sender's
// own, and what it asks for.
func (a *API) repeatKeys(r *http.Request, key string, body []byte) (id, request string) {
	subject := ""
	if who := IdentityOf(r.Context()); who != nil {
		subject = who.Subject
	}
	own := sha256.Sum256([]byte(subject + "\x00" + key))
	whole := sha256.New()
	for _, part := range []string{r.Method, r.URL.EscapedPath(), r.URL.RawQuery, r.Header.Get("Content-Type"), string(body)} {
		whole.Write([]byte(part))
		whole.Write([]byte{0})
	}
	return hex.EncodeToString(own[:]), hex.EncodeToString(whole.Sum(nil))
}

// doOnce stores the key, does what is asked for, and stores the answer. A
// problem takes all of it back, so that the request can be mended and sent
// again with the same key.
func (a *API) doOnce(ctx context.Context, tx gate.DB, r *http.Request, route Route, body []byte, id, request string) (keptAnswer, error) {
	insert := gate.NewSQL(tx).Text("INSERT INTO " + a.config.Repeats + " (id, request, answer, made_at) VALUES (").
		Arg(id).Text(", ").Arg(request).Text(", ").Arg("").Text(", ").Arg(time.Now().UTC().Truncate(time.Second)).Text(")")
	_, err := insert.Run(ctx, tx)
	var broken *gate.ConstraintError
	if errors.As(err, &broken) && broken.Kind == gate.UniqueBroken {
		return keptAnswer{}, errRepeated
	}
	if err != nil {
		return keptAnswer{}, err
	}
	again := r.WithContext(ctx)
	again.Body = io.NopCloser(bytes.NewReader(body))
	out := &record{header: http.Header{}}
	if err := route.do(out, again); err != nil {
		return keptAnswer{}, err
	}
	kept := keptAnswer{out.status, out.header, out.body.String(), a.sight(ctx)}
	text, err := json.Marshal(kept)
	if err != nil {
		return kept, err
	}
	_, err = gate.NewSQL(tx).Text("UPDATE "+a.config.Repeats+" SET answer = ").Arg(string(text)).Text(" WHERE id = ").Arg(id).Run(ctx, tx)
	return kept, err
}

// repeated is the answer that was given before.
func (a *API) repeated(ctx context.Context, id, request string) (keptAnswer, error) {
	var kept keptAnswer
	db := a.db(ctx)
	type row struct{ request, answer string }
	found, err := gate.ReadRow(ctx, db, gate.NewSQL(db).Text("SELECT request, answer FROM "+a.config.Repeats+" WHERE id = ").Arg(id),
		func(v *row, to []any) []any { return append(to, &v.request, &v.answer) })
	switch {
	case errors.Is(err, gate.ErrNotFound): // the one before was taken back meanwhile
		p := NewProblem(http.StatusConflict, "a request with this Idempotency-Key was being answered, and failed; send it again")
		p.retryAfter = "1"
		return kept, p
	case err != nil:
		return kept, err
	case found.request != request:
		return kept, NewProblem(http.StatusUnprocessableEntity, "this Idempotency-Key was sent with another request; a new request wants a new key")
	}
	return kept, json.Unmarshal([]byte(found.answer), &kept)
}
