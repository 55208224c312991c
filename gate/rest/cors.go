package rest

import (
	"net/http"
	"slices"
)

// The headers that pages of other origins may send and read.
const (
	corsSent = "Authorization, Content-Type, Idempotency-Key, If-Match, If-None-Match, Prefer, Traceparent, X-API-Key"
	corsRead = "ETag, Link, Location, OGC-NumberMatched, Preference-Applied, Retry-After"
)

// allowOrigin lets pages of the origins listed read the answer. It reports
// whether the request was only a page's question whether it may ask (a
// preflight of the Fetch standard), which is answered then.
func (a *API) allowOrigin(w http.ResponseWriter, r *http.Request) (answered bool) {
	origin := r.Header.Get("Origin")
	if origin == "" || len(a.config.Origins) == 0 {
		return false
	}
	h := w.Header()
	h.Add("Vary", "Origin")
	if !slices.Contains(a.config.Origins, origin) {
		return false
	}
	h.Set("Access-Control-Allow-Origin", origin)
	h.Set("Access-Control-Expose-Headers", corsRead)
	if r.Method != http.MethodOptions || r.Header.Get("Access-Control-Request-Method") == "" {
		return false
	}
	h.Set("Access-Control-Allow-Methods", "GET, HEAD, POST, PUT, PATCH, DELETE")
	h.Set("Access-Control-Allow-Headers", corsSent)
	h.Set("Access-Control-Max-Age", "600")
	w.WriteHeader(http.StatusNoContent)
	return true
}
