package rest

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"io"
	"mime"
	"net/http"
	"strings"
	"time"

	"widegate/gate"
)

// Content is a binary column as a resource of its own.
type Content struct {
	Column      string
	Media       string // what it is, such as image/png or image/*; empty: whatever is sent
	MediaColumn string // the column that holds the media type; empty: none does
	Most        int64  // bytes; 0: as much as any body
}

// SendContent makes a handler that sends a binary column as it is, or a part of
// it (RFC 9110, range requests).
//
//go:noinline
func SendContent[E, K any](s *Shape[E, K], c Content) Handler {
	return func(w http.ResponseWriter, r *http.Request) error {
		res, i, err := c.in(r, &s.res, toRead)
		if err != nil {
			return err
		}
		key, err := ReadKey(r, s)
		if err != nil {
			return err
		}
		row, err := one(s, res, key).First(r.Context(), res.api.readDB(r.Context()))
		if err != nil {
			return err
		}
		data, there := bytesOf(res, row, i)
		if !there {
			return NewProblem(http.StatusNotFound, "the row has no %s", res.facets[i].name)
		}
		c.describe(w.Header(), res, row, data)
		http.ServeContent(w, r, "", time.Time{}, bytes.NewReader(data))
		return nil
	}
}

// StoreContent makes a handler that stores the body of a request in a binary
// column.
//
//go:noinline
func StoreContent[E, K any](s *Shape[E, K], c Content, own ...Update[E]) Handler {
	update := updatingBy(&s.res, own)
	return func(w http.ResponseWriter, r *http.Request) error {
		res, i, err := c.in(r, &s.res, toChange)
		if err != nil {
			return err
		}
		media, data, err := c.read(r)
		if err != nil {
			return err
		}
		text := base64.StdEncoding.EncodeToString(data)
		o := object{{name: res.facets[i].name, raw: []byte(`"` + text + `"`)}}
		if name := res.outward(c.MediaColumn); name != "" {
			o = append(o, jsonMember{name: name, raw: gate.AppendJSONString(nil, media)})
		}
		if err := changeContent(r, s, res, i, o, update); err != nil {
			return err
		}
		w.Header().Set("ETag", digest(data))
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
}

// RemoveContent makes a handler that empties a binary column.
//
//go:noinline
func RemoveContent[E, K any](s *Shape[E, K], c Content, own ...Update[E]) Handler {
	update := updatingBy(&s.res, own)
	return func(w http.ResponseWriter, r *http.Request) error {
		res, i, err := c.in(r, &s.res, toChange)
		if err != nil {
			return err
		}
		if err := changeContent(r, s, res, i, object{{name: res.facets[i].name, raw: []byte("null")}}, update); err != nil {
			return err
		}
		w.WriteHeader(http.StatusNoContent)
		return nil
	}
}

// changeContent stores properties of the row that a request is for, if the
// conditions of the request hold for what column i has.
func changeContent[E, K any](r *http.Request, s *Shape[E, K], res *resource, i int, o object, update updating) error {
	key, err := ReadKey(r, s)
	if err != nil {
		return err
	}
	return res.inTx(r, func(tx gate.DB) error {
		row, err := one(s, res, key).Lock(gate.ForUpdate).First(r.Context(), tx)
		if err != nil {
			return err
		}
		if err := res.checkContent(r, row, i); err != nil {
			return err
		}
		return patchRow(r.Context(), tx, res, patch{merge: o}, row, update)
	})
}

// in is the resource as the caller sees it, who must be allowed to do this with
// it, and the place of the column.
func (c Content) in(r *http.Request, own *resource, v verb) (*resource, int, error) {
	res, err := own.in(r.Context(), v)
	if err != nil {
		return nil, 0, err
	}
	i, ok := res.info.Find(c.Column)
	if !ok || res.facets[i].hidden {
		return nil, 0, NewProblem(http.StatusNotFound, "there is nothing at this path")
	}
	return res, i, nil
}

// read reads the body of a request, and its media type.
func (c Content) read(r *http.Request) (media string, data []byte, err error) {
	media = r.Header.Get("Content-Type")
	bare, _, err := mime.ParseMediaType(media)
	if err != nil || !c.takes(bare) {
		return "", nil, NewProblem(http.StatusUnsupportedMediaType, "send the body as Content-Type: %s", cmp.Or(c.Media, "what it is, such as image/png"))
	}
	if err := refuseCoding(r); err != nil {
		return "", nil, err
	}
	body := r.Body
	if c.Most > 0 {
		body = http.MaxBytesReader(nil, body, c.Most)
	}
	data, err = io.ReadAll(body)
	return media, data, bodyFault(err)
}

// takes reports whether a media type is one of those of the column.
func (c Content) takes(media string) bool {
	kind, all := strings.CutSuffix(c.Media, "/*")
	return c.Media == "" || media == c.Media || all && strings.HasPrefix(media, kind+"/")
}

// describe says what is sent, and that a browser must not run it as a page of
// this service.
func (c Content) describe(h http.Header, res *resource, row any, data []byte) {
	media := c.Media
	if i, ok := res.info.Find(c.MediaColumn); ok {
		media = string(gate.AppendText(nil, res.info.Fields(nil, row)[i]))
	}
	bare, _, err := mime.ParseMediaType(media)
	if err != nil || strings.HasSuffix(bare, "/*") || !c.takes(bare) {
		if media = http.DetectContentType(data); !c.takes(bareMedia(media)) {
			media = "application/octet-stream"
		}
		bare = bareMedia(media)
	}
	h.Set("Content-Type", media)
	h.Set("ETag", digest(data))
	h.Set("Content-Security-Policy", "default-src 'none'; sandbox")
	if kind, _, _ := strings.Cut(bare, "/"); bare == "image/svg+xml" || kind != "image" && kind != "audio" && kind != "video" {
		h.Set("Content-Disposition", "attachment")
	}
}

// bytesOf is the value of a binary column; there may be none.
func bytesOf(res *resource, row any, i int) (data []byte, there bool) {
	switch p := res.info.Fields(nil, row)[i].(type) {
	case *[]byte:
		return *p, true
	case *gate.Maybe[[]byte]:
		return p.Get()
	}
	return nil, false
}

// checkContent holds what a binary column has to the conditions of a request.
func (r *resource) checkContent(req *http.Request, row any, i int) error {
	match, none := req.Header.Values("If-Match"), req.Header.Values("If-None-Match")
	data, there := bytesOf(r, row, i)
	switch tag := digest(data); {
	case len(match) == 0 && len(none) == 0 && r.api.config.RequireIfMatch:
		return NewProblem(http.StatusPreconditionRequired, "say with If-Match which version you have read; its ETag is in the answer to GET")
	case len(match) > 0 && (!there || !matches(match, tag)):
		return NewProblem(http.StatusPreconditionFailed, "it has been changed since you read it; read it again, and send If-Match with its new ETag")
	case len(none) > 0 && there && matches(none, tag):
		return NewProblem(http.StatusPreconditionFailed, "there is one already, which If-None-Match rules out")
	}
	return nil
}
