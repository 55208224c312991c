package rest

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"sync"
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

// identify finds out who sends a request, and remembers it in its context.
func (a *API) identify(r *http.Request) (*http.Request, error) {
	if a.config.Identify == nil || IdentityOf(r.Context()) != nil {
		return r, nil
	}
	id, err := a.config.Identify(r)
	if errors.Is(err, ErrCredentials) {
		p := NewProblem(http.StatusUnauthorized, "%s", strings.TrimPrefix(err.Error(), ErrCredentials.Error()+": "))
		p.challenge = `Bearer error="invalid_token"`
		return r, p
	}
	if err != nil || id == nil {
		return r, err
	}
	return r.WithContext(context.WithValue(r.Context(), identityKey{}, id)), nil
}

// sight is the resources as they look to those with the same roles: what may
// not be read is not there, for relations, filters and summaries alike.
type sight map[*resource]*resource

// sights are known by the roles that they are of.
type sights struct {
	list sync.Map // of string, sight
}

// in is the resource as it looks to whoever sent the request, which must be
// allowed to do this with it.
func (r *resource) in(ctx context.Context, v verb) (*resource, error) {
	a := r.api
	if a.config.Identify == nil {
		return r, nil
	}
	id := IdentityOf(ctx)
	roles := a.config.allowOf(r.path).roles(v)
	switch {
	case holds(roles, id):
		return a.sightOf(id)[r], nil
	case id == nil:
		p := NewProblem(http.StatusUnauthorized, "to %s %s, send credentials: Authorization: Bearer, and a token", v, r.path)
		p.challenge = "Bearer"
		return nil, p
	}
	return nil, NewProblem(http.StatusForbidden, "to %s %s one needs %s", v, r.path, needed(roles))
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

func (a *API) sightOf(id *Identity) sight {
	key := ""
	if id != nil {
		// Only roles that are spoken of make a difference, so that tokens with
		// many of their own do not make many sights.
		roles := slices.DeleteFunc(slices.Clone(id.Roles), func(role string) bool { return !slices.Contains(a.roles, role) })
		slices.Sort(roles)
		key = "known," + strings.Join(slices.Compact(roles), ",")
	}
	if s, ok := a.sights.list.Load(key); ok {
		return s.(sight)
	}
	s, _ := a.sights.list.LoadOrStore(key, a.newSight(id))
	return s.(sight)
}

func (a *API) newSight(id *Identity) sight {
	s := sight{}
	for _, r := range a.resources {
		copied := *r
		if !holds(a.config.allowOf(r.path).roles(toCreate), id) {
			copied.create = nil
		}
		s[r] = &copied
	}
	for _, r := range a.resources {
		seen := s[r]
		seen.relations = nil
		for _, rel := range r.relations {
			if holds(a.config.allowOf(rel.to.path).roles(toRead), id) {
				rel.to = s[rel.to]
				seen.relations = append(seen.relations, rel)
			}
		}
		seen.referredBy = nil
		for _, path := range r.referredBy {
			if holds(a.config.allowOf(path).roles(toRead), id) {
				seen.referredBy = append(seen.referredBy, path)
			}
		}
	}
	return s
}

// rolesNamed are all roles that the configuration speaks of.
func (c *Config) rolesNamed() []string {
	var list []string
	for _, allow := range c.Allow {
		list = slices.Concat(list, allow.Read, allow.Create, allow.Change, allow.Delete)
	}
	slices.Sort(list)
	return slices.Compact(list)
}
