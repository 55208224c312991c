package remote

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	mathrand "math/rand/v2"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"widegate/gate"
)

// call is one request.
type call struct {
	method string
	path   string // below the address of the service
	root   bool   // the path begins at the root of the host
	values url.Values
	header http.Header
	body   []byte
	safe   bool      // sending it twice is as good as once
	about  *resource // whose columns faults name
	row    bool      // it is about one row: 404 says that there is none
}

// answer is what came back, with a body to be read.
type answer struct {
	status int
	header http.Header
	body   io.ReadCloser
}

func (a *answer) close() error {
	_, _ = io.Copy(io.Discard, io.LimitReader(a.body, 1<<16)) // so that the connection can be used again
	return a.body.Close()
}

// text is the whole body.
func (a *answer) text() ([]byte, error) {
	defer a.body.Close()
	var b bytes.Buffer
	if n, err := strconv.Atoi(a.header.Get("Content-Length")); err == nil && n > 0 && n < 1<<26 {
		b.Grow(n + bytes.MinRead)
	}
	if _, err := b.ReadFrom(a.body); err != nil {
		return nil, fmt.Errorf("reading the answer of the service: %w", errors.Join(err, gate.ErrUnavailable))
	}
	return b.Bytes(), nil
}

// lines calls do with each line. One that is longer than any buffer is put together.
func (a *answer) lines(do func(line []byte) error) error {
	defer a.body.Close()
	r := bufio.NewReaderSize(a.body, 64<<10)
	var long []byte
	for {
		line, err := r.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			long = append(long, line...)
			continue
		}
		if len(long) > 0 {
			line = append(long, line...)
			long = long[:0]
		}
		if len(bytes.TrimSpace(line)) > 0 && (err == nil || errors.Is(err, io.EOF)) {
			if err := do(line); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("reading the answer of the service: %w", errors.Join(err, gate.ErrUnavailable))
		}
	}
}

// get reads the JSON text of an answer.
func (s *Service) get(ctx context.Context, path string, values url.Values, about *resource) ([]byte, error) {
	a, err := s.send(ctx, call{method: http.MethodGet, path: path, values: values, safe: true, about: about})
	if err != nil {
		return nil, err
	}
	return a.text()
}

// send sends a request, again where that can do no harm and may help.
func (s *Service) send(ctx context.Context, c call) (*answer, error) {
	for tried := 0; ; tried++ {
		a, again, wait, err := s.attempt(ctx, c)
		if err == nil {
			s.compare()
			return a, nil
		}
		if !again || tried >= s.options.Retries || ctx.Err() != nil {
			return nil, err
		}
		if wait == 0 {
			wait = min(200*time.Millisecond<<min(tried, 10), 10*time.Second)
			wait = wait/2 + time.Duration(mathrand.Int64N(int64(wait)))
		}
		if wait > s.options.Wait {
			return nil, err
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			timer.Stop()
			return nil, errors.Join(ctx.Err(), err)
		case <-timer.C:
		}
	}
}

// attempt sends a request once. It tells whether, and after what pause, sending it
// again may help.
func (s *Service) attempt(ctx context.Context, c call) (a *answer, again bool, wait time.Duration, err error) {
	req, err := s.request(ctx, c)
	if err != nil {
		return nil, false, 0, err
	}
	resp, err := s.options.Client.Do(req)
	switch {
	case err != nil && ctx.Err() != nil:
		return nil, false, 0, fmt.Errorf("asking the service: %w", ctx.Err())
	case err != nil && c.method != http.MethodGet && !c.safe:
		return nil, false, 0, fmt.Errorf("asking the service: %w (whether the change was made is not known)", errors.Join(err, gate.ErrUnavailable))
	case err != nil:
		return nil, c.safe, 0, fmt.Errorf("asking the service: %w", errors.Join(err, gate.ErrUnavailable))
	case resp.StatusCode < 300:
		return &answer{resp.StatusCode, resp.Header, resp.Body}, false, 0, nil
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	again = resp.StatusCode == http.StatusTooManyRequests || resp.StatusCode == http.StatusServiceUnavailable && c.safe
	return nil, again, pause(resp.Header.Get("Retry-After")), s.problem(c, resp.StatusCode, text)
}

// pause reads Retry-After (RFC 9110): seconds, or a time.
func pause(text string) time.Duration {
	if n, err := strconv.Atoi(text); err == nil && n >= 0 && n < 1<<30 {
		return max(time.Duration(n)*time.Second, time.Millisecond)
	}
	if at, err := http.ParseTime(text); err == nil {
		return max(time.Until(at), time.Millisecond)
	}
	return 0
}

// request makes the request of a call.
func (s *Service) request(ctx context.Context, c call) (*http.Request, error) {
	address := s.url + "/" + c.path
	if c.root {
		address = s.root() + c.path
	}
	if len(c.values) > 0 {
		address += "?" + c.values.Encode()
	}
	var body io.Reader
	if c.body != nil {
		body = bytes.NewReader(c.body)
	}
	req, err := http.NewRequestWithContext(ctx, c.method, address, body)
	if err != nil {
		return nil, fmt.Errorf("asking the service: %w", err)
	}
	for _, header := range []http.Header{s.options.Header, c.header} {
		for name, values := range header {
			req.Header[http.CanonicalHeaderKey(name)] = values
		}
	}
	if c.body != nil && req.Header.Get("Content-Type") == "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if s.options.Token != nil {
		token, err := s.options.Token(ctx)
		if err != nil {
			return nil, fmt.Errorf("asking for a token: %w", err)
		}
		if token != "" {
			req.Header.Set("Authorization", "Bearer "+token)
		}
	}
	return req, nil
}

// root is the address without the path where the resources begin.
func (s *Service) root() string {
	if before, ok := strings.CutSuffix(s.url, strings.TrimRight(s.made.Base, "/")); ok {
		return before
	}
	u, err := url.Parse(s.url)
	if err != nil {
		return s.url
	}
	return u.Scheme + "://" + u.Host
}

// newKey is an idempotency key.
func newKey() string { return rand.Text() }

// compare compares the interfaces once, beside the first call.
func (s *Service) compare() {
	if s.options.Unchecked || s.made.ETag == "" {
		return
	}
	s.check.Do(func() {
		go func() {
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			defer cancel()
			if list := s.differences(ctx); len(list) > 0 {
				s.report(list)
			}
		}()
	})
}

// Problem is what a service answers in place of what was asked for (RFC 9457).
type Problem struct {
	Type     string  `json:"type"`
	Title    string  `json:"title"`
	Status   int     `json:"status"`
	Detail   string  `json:"detail"`
	Instance string  `json:"instance"`
	Trace    string  `json:"trace"`
	Faults   []Fault `json:"errors"`

	err error // of the store, that means the same
}

// Fault is what is wrong with one property of what was sent. Pointer is a JSON pointer
// (RFC 6901) as a URI fragment.
type Fault struct {
	Pointer string `json:"pointer"`
	Detail  string `json:"detail"`
}

// Error is the detail, and the faults.
func (p *Problem) Error() string {
	text := p.Detail
	switch {
	case text != "":
	case p.Status == http.StatusRequestHeaderFieldsTooLarge || p.Status == http.StatusRequestURITooLong:
		text = fmt.Sprintf("the service answered %d: the conditions are too long for an address; ask for fewer values at once", p.Status)
	default:
		text = fmt.Sprintf("the service answered %d", p.Status)
	}
	for _, f := range p.Faults {
		if !strings.Contains(text, f.Detail) {
			text += "; " + strings.TrimPrefix(f.Pointer, "#/") + ": " + f.Detail
		}
	}
	return text
}

// Unwrap is the error of the store that means the same, if there is one.
func (p *Problem) Unwrap() error { return p.err }

// problem reads a problem.
func (s *Service) problem(c call, status int, text []byte) *Problem {
	p := &Problem{}
	if json.Unmarshal(text, p) != nil {
		*p = Problem{}
	}
	p.Status = status
	p.err = p.meaning(c)
	return p
}

// meaning is the error of the store that means the same as the problem.
func (p *Problem) meaning(c call) error {
	switch p.Status {
	case http.StatusNotFound:
		if c.row {
			return gate.ErrNotFound
		}
	case http.StatusPreconditionFailed:
		return gate.ErrStale
	case http.StatusConflict:
		return p.conflict(c)
	case http.StatusUnprocessableEntity:
		return p.faults(c)
	case http.StatusServiceUnavailable, http.StatusBadGateway:
		return gate.ErrUnavailable
	case http.StatusGatewayTimeout:
		return gate.ErrTimeout
	case http.StatusMethodNotAllowed:
		return gate.ErrNotOffered
	}
	return nil
}

func (p *Problem) conflict(c call) error {
	broken := &gate.ConstraintError{Kind: gate.StillReferenced, Err: errors.New(p.Detail)}
	switch {
	case strings.Contains(p.Detail, "changed meanwhile"):
		return gate.ErrStale
	case len(p.Faults) > 0 || strings.HasPrefix(p.Detail, "another row"):
		broken.Kind = gate.UniqueBroken
		for _, f := range p.Faults {
			broken.Columns = append(broken.Columns, c.column(f.Pointer))
		}
	}
	if c.about != nil {
		broken.Table = c.about.info.Name
	}
	return broken
}

func (p *Problem) faults(c call) error {
	if len(p.Faults) == 0 {
		return &gate.ConstraintError{Kind: gate.CheckBroken, Err: errors.New(p.Detail)}
	}
	list := make(gate.Faults, len(p.Faults))
	for i, f := range p.Faults {
		list[i] = gate.Fault{Column: c.column(f.Pointer), Text: f.Detail}
	}
	return list
}

// The signs of a JSON pointer (RFC 6901) that names cannot have.
var (
	escapePointer   = strings.NewReplacer("~", "~0", "/", "~1")
	unescapePointer = strings.NewReplacer("~1", "/", "~0", "~")
)

// column is the name of the column that a pointer leads to, perhaps in one of several
// rows; else it is the pointer.
func (c call) column(pointer string) string {
	name := strings.TrimPrefix(pointer, "#/")
	if number, rest, ok := strings.Cut(name, "/"); ok && strings.Trim(number, "0123456789") == "" {
		name = rest
	}
	name = unescapePointer.Replace(name)
	if c.about != nil {
		if i, ok := c.about.place[name]; ok {
			return c.about.info.Columns[i].Name
		}
	}
	return name
}
