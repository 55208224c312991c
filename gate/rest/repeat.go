package rest

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"time"

	"widegate/gate"
)

// keptAnswer is the answer to a request with an Idempotency-Key, as the table of
// Config.Repeats keeps it.
type keptAnswer struct {
	Status int         `json:"status"`
	Header http.Header `json:"header"`
	Body   string      `json:"body"`
}

// errRepeated says that a request was made before.
var errRepeated = errors.New("the request was made before")

// maxRepeatKey bounds the length of an Idempotency-Key.
const maxRepeatKey = 255

// once does what a POST asks for once, however often it is sent with the same
// Idempotency-Key: the key and the answer are stored in the transaction of the
// request, so that there is both of them and what it did, or nothing.
func (a *API) once(w http.ResponseWriter, r *http.Request, h Handler) error {
	key := r.Header.Get("Idempotency-Key")
	if key == "" || a.config.Repeats == "" || r.Method != http.MethodPost {
		return h(w, r)
	}
	if len(key) > maxRepeatKey {
		return NewProblem(http.StatusBadRequest, "an Idempotency-Key has at most %d characters", maxRepeatKey)
	}
	body, err := io.ReadAll(r.Body)
	if err != nil {
		r.Body = io.NopCloser(io.MultiReader(bytes.NewReader(body), failingReader{err}))
		return h(w, r) // which says what is wrong with the body
	}
	id, request := a.repeatKeys(r, key, body)
	var kept keptAnswer
	ctx := r.Context()
	err = gate.InTx(ctx, a.db(ctx), func(tx gate.DB) (err error) {
		kept, err = a.doOnce(context.WithValue(ctx, txKey{}, tx), tx, r, h, body, id, request)
		return err
	})
	if errors.Is(err, errRepeated) {
		kept, err = a.repeated(ctx, id, request)
	}
	if err != nil {
		return err
	}
	for name, values := range kept.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(kept.Status)
	_, _ = io.WriteString(w, kept.Body) // an error means that nobody listens any more
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
func (a *API) doOnce(ctx context.Context, tx gate.DB, r *http.Request, h Handler, body []byte, id, request string) (keptAnswer, error) {
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
	if err := h(out, again); err != nil {
		return keptAnswer{}, err
	}
	kept := keptAnswer{out.status, out.header, out.body.String()}
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
