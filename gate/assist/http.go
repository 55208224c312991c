package assist

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
)

// Path is where the functions are served over HTTP.
const Path = "/mcp"

// MetadataPath is where clients learn what they need credentials for (RFC 9728).
const MetadataPath = "/.well-known/oauth-protected-resource"

// Handler serves the functions by the streamable HTTP transport of the protocol. Who asks
// is told by the credentials of each request, as the service takes them; without the ones
// that it needs the answer is 401. Requests of pages of other origins are refused.
func (a *Assist) Handler() http.Handler {
	servers := &servers{assist: a, known: map[string]*mcp.Server{}, seen: map[string]seen{}, sessions: map[string]string{}}
	stream := mcp.NewStreamableHTTPHandler(func(r *http.Request) *mcp.Server {
		s, _ := r.Context().Value(serverKey{}).(*mcp.Server)
		return s
	}, streaming())
	return http.NewCrossOriginProtection().Handler(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		server, err := servers.of(r)
		if err != nil {
			refuse(w, r, err)
			return
		}
		name := a.callerOf(r.Header).name()
		if !servers.owns(r.Header.Get(sessionHeader), name) {
			refuse(w, r, &Refused{Status: http.StatusNotFound, Detail: "there is no such session"})
			return
		}
		stream.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), serverKey{}, server)))
		servers.own(w.Header().Get(sessionHeader), name)
	}))
}

// Shared serves the functions over HTTP to whoever asks, where nobody is told apart. While
// ctx lives it looks now and then whether the schema is another one, and tells clients.
func (a *Assist) Shared(ctx context.Context, look time.Duration) (http.Handler, error) {
	c := a.callerOf(nil)
	server, d, err := a.server(ctx, c)
	if err != nil {
		return nil, err
	}
	go a.follow(ctx, server, c, d, look)
	stream := mcp.NewStreamableHTTPHandler(func(*http.Request) *mcp.Server { return server }, streaming())
	return http.NewCrossOriginProtection().Handler(stream), nil
}

// streaming is how the transport is served.
func streaming() *mcp.StreamableHTTPOptions {
	return &mcp.StreamableHTTPOptions{SessionTimeout: time.Hour, PropagateRequestCancellation: true, MaxRequestBodyBytes: 1 << 20}
}

type serverKey struct{}

// sessionHeader names the session of a request.
const sessionHeader = "Mcp-Session-Id"

// servers are those of callers, one for each document.
type servers struct {
	assist   *Assist
	mu       sync.Mutex
	known    map[string]*mcp.Server // by ETag
	seen     map[string]seen        // by caller
	sessions map[string]string      // the callers that began them
}

// seen is which document a caller had a moment ago. Each call asks the service anew.
type seen struct {
	etag string
	at   time.Time
}

const (
	moment      = 5 * time.Second // for which a document is not asked for again
	mostServers = 32
	mostCallers = 10_000
)

// owns reports whether a session is that of a caller, or not known.
func (s *servers) owns(session, caller string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	owner, ok := s.sessions[session]
	return !ok || owner == caller
}

func (s *servers) own(session, caller string) {
	if session == "" {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.sessions) >= mostCallers {
		clear(s.sessions)
	}
	s.sessions[session] = caller
}

func (s *servers) of(r *http.Request) (*mcp.Server, error) {
	c := s.assist.callerOf(r.Header)
	name := c.name()
	s.mu.Lock()
	last := s.seen[name]
	server := s.known[last.etag]
	s.mu.Unlock()
	if server != nil && time.Since(last.at) < moment {
		return server, nil
	}
	d, err := s.assist.document(r.Context(), c)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.seen) >= mostCallers {
		clear(s.seen)
	}
	s.seen[name] = seen{d.etag, time.Now()}
	if server, ok := s.known[d.etag]; ok {
		return server, nil
	}
	if server, _, err = s.assist.server(r.Context(), c); err != nil {
		return nil, err
	}
	if len(s.known) >= mostServers {
		clear(s.known)
	}
	s.known[d.etag] = server
	return server, nil
}

// refuse answers a request of somebody who is not let in.
func refuse(w http.ResponseWriter, r *http.Request, err error) {
	status, detail := http.StatusInternalServerError, "the functions cannot be offered; the log of the service says why"
	var refused *Refused
	if errors.As(err, &refused) {
		status, detail = refused.Status, refused.Detail
		if status == http.StatusUnauthorized {
			w.Header().Set("WWW-Authenticate", challenge(r, refused.Challenge))
		}
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(map[string]any{"type": "about:blank", "title": http.StatusText(status), "status": status, "detail": detail})
}

// challenge says where to learn which credentials are needed.
func challenge(r *http.Request, before string) string {
	if before == "" {
		before = "Bearer"
	}
	separator := " "
	if strings.Contains(before, "=") {
		separator = ", "
	}
	return before + separator + `resource_metadata="` + address(r) + MetadataPath + `"`
}

// address is that of the service as the client sees it.
func address(r *http.Request) string {
	scheme := "http"
	if r.TLS != nil || r.Header.Get("X-Forwarded-Proto") == "https" {
		scheme = "https"
	}
	return scheme + "://" + r.Host
}

// Metadata answers what a client must know to ask for a token (RFC 9728). Issuers are those
// of the tokens that the service takes.
func Metadata(issuers ...string) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		about := map[string]any{"resource": address(r) + Path, "bearer_methods_supported": []string{"header"}}
		if len(issuers) > 0 {
			about["authorization_servers"] = issuers
		}
		_ = json.NewEncoder(w).Encode(about)
	})
}
