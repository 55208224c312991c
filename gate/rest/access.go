package rest

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
)

// Identity is who sends a request.
type Identity struct {
	Subject string         // who it is
	Roles   []string       // what they are
	Claims  map[string]any // what else is known of them
}

// IdentityOf is who sent the request of a context; nil is nobody known.
func IdentityOf(ctx context.Context) *Identity {
	id, _ := ctx.Value(identityKey{}).(*Identity)
	return id
}

type identityKey struct{}

// ErrCredentials marks credentials that are wrong, as against none at all. What
// it wraps is told the caller.
var ErrCredentials = errors.New("wrong credentials")

// Allow says which roles may do what with a resource. Two names stand for more:
// Anybody needs no credentials, and Known is whoever has good ones. Nobody may
// do what is not named.
type Allow struct {
	Read   []string // lists, rows, relations and summaries
	Create []string
	Change []string // PUT, PATCH, and links
	Delete []string

	// Rows ties those of a role to rows for which a condition in CQL2 holds, in
	// which claim.sub is a claim of the caller: keeper_id = claim.sub. Whoever
	// has a role that is not named here too is tied to none.
	Rows map[string]string
	// Columns keeps columns to roles, within what these may do.
	Columns map[string]AllowColumn
}

// AllowColumn says which roles see a column, and which may give it a value; nil
// is all.
type AllowColumn struct {
	Read   []string
	Change []string
}

// The names that stand for more than one role.
const (
	Anybody = "anybody"
	Known   = "known"
)

// verb is a kind of access.
type verb int

const (
	toRead verb = iota
	toCreate
	toChange
	toDelete
)

// verbOf is what a method of HTTP does with rows.
func verbOf(method string) verb {
	switch method {
	case http.MethodPost:
		return toCreate
	case http.MethodPut, http.MethodPatch:
		return toChange
	case http.MethodDelete:
		return toDelete
	}
	return toRead
}

func (v verb) String() string { return [...]string{"read", "create", "change", "delete"}[v] }

func (a Allow) roles(v verb) []string {
	return [...][]string{a.Read, a.Create, a.Change, a.Delete}[v]
}

// holds reports whether one of the roles is that of the identity.
func holds(roles []string, id *Identity) bool {
	return slices.ContainsFunc(roles, func(role string) bool {
		return role == Anybody || id != nil && (role == Known || slices.Contains(id.Roles, role))
	})
}

// allowOf is what holds for a resource.
func (c *Config) allowOf(path string) Allow {
	if own, ok := c.Allow[path]; ok {
		return own
	}
	return c.Allow[""]
}

// Identified is a request with who sends it in its context; IdentityOf finds that.
// It fails where the credentials are wrong.
func (a *API) Identified(r *http.Request) (*http.Request, error) { return a.identify(r) }

// identify finds out who sends a request, and remembers it in its context.
func (a *API) identify(r *http.Request) (*http.Request, error) {
	if a.config.Identify == nil || IdentityOf(r.Context()) != nil {
		return r, nil
	}
	id, err := a.config.Identify(r)
	if errors.Is(err, ErrCredentials) {
		p := NewProblem(http.StatusUnauthorized, "%s", strings.TrimPrefix(err.Error(), ErrCredentials.Error()+": "))
		p.challenge = `Bearer error="invalid_token"`
		if a.config.KeysOnly {
			p.challenge = "ApiKey"
		}
		return r, p
	}
	if err != nil || id == nil {
		return r, err
	}
	return r.WithContext(context.WithValue(r.Context(), identityKey{}, id)), nil
}

// Caller is the subject of whoever sends a request; empty for nobody known.
func (a *API) Caller(r *http.Request) string {
	known, err := a.identify(r)
	if err != nil {
		return ""
	}
	if id := IdentityOf(known.Context()); id != nil {
		return id.Subject
	}
	return ""
}

// needed names roles in prose.
func needed(roles []string) string {
	switch len(roles) {
	case 0:
		return "a role that nobody has: it is not allowed at all"
	case 1:
		return "the role " + roles[0]
	}
	return "one of the roles " + strings.Join(roles, ", ")
}

// unknown is the problem of a request that brings no credentials.
func (c *Config) unknown(format string, args ...any) *Problem {
	how, scheme := "Authorization: Bearer, and a token", "Bearer"
	if c.KeysOnly {
		how, scheme = "X-API-Key, and a key", "ApiKey"
	}
	p := NewProblem(http.StatusUnauthorized, "%s, send credentials: %s", fmt.Sprintf(format, args...), how)
	p.challenge = scheme
	return p
}

// rolesNamed are all roles that the configuration speaks of.
func (c *Config) rolesNamed() []string {
	var list []string
	for _, allow := range c.Allow {
		list = slices.Concat(list, allow.Read, allow.Create, allow.Change, allow.Delete)
		for _, column := range allow.Columns {
			list = slices.Concat(list, column.Read, column.Change)
		}
	}
	for _, roles := range c.Calls {
		list = append(list, roles...)
	}
	slices.Sort(list)
	return slices.Compact(list)
}
