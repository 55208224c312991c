package project

import (
	"maps"
	"net/url"
	"slices"
	"time"

	"widegate/internal/fault"
)

// Tokens says which bearer tokens are good. Secrets stay in the environment of
// the service; here stands the name of the variable.
type Tokens struct {
	Issuer     string   `yaml:"issuer"`
	Audience   string   `yaml:"audience"`
	Algorithms []string `yaml:"algorithms"`
	Keys       string   `yaml:"keys"`   // a JWKS: its file or https URL
	Secret     string   `yaml:"secret"` // a variable of the environment
	Roles      string   `yaml:"roles"`  // the claim with the roles
}

// Allow says which roles may do what; anybody and known stand for more.
type Allow struct {
	Read   []string `yaml:"read"`
	Create []string `yaml:"create"`
	Change []string `yaml:"change"`
	Delete []string `yaml:"delete"`
}

// Limits bound what requests may cost; what is left out has a default.
type Limits struct {
	Body      int    `yaml:"body"`      // bytes of a body
	Requests  int    `yaml:"requests"`  // answered at once
	Statement string `yaml:"statement"` // how long a statement may take, as 30s
}

// Timeout is how long a statement may take; 0 is the default.
func (l *Limits) Timeout() time.Duration {
	d, _ := time.ParseDuration(l.Statement) // which was checked
	return d
}

// Guarded reports whether the service asks for credentials.
func (a *API) Guarded() bool { return a.Tokens != nil || a.KeyFile != "" }

func (p *Project) checkAccess(path string) error {
	a := &p.API
	if err := p.checkLimits(path); err != nil {
		return err
	}
	if a.Access != "" && a.Access != Open {
		return fault.New("write `access: open`, or leave it out to serve this machine only", "%s: api.access is %q", path, a.Access)
	}
	if !a.Guarded() {
		return p.checkUnguarded(path)
	}
	if a.Access == Open {
		return fault.New("take one of them out", "%s: api.access is open, and api asks for credentials", path)
	}
	if a.Allow == nil {
		return fault.New("say who may do what, as in `allow: {read: [known], create: [keeper], change: [keeper], delete: [admin]}`", "%s: api has no allow, so nobody may do anything", path)
	}
	t := a.Tokens
	switch {
	case t == nil:
	case t.Issuer == "" || t.Audience == "":
		return fault.New("name both, so that the tokens of others are no good here", "%s: api.tokens wants an issuer and an audience", path)
	case (t.Keys == "") == (t.Secret == ""):
		return fault.New("write `keys: https://…` or `keys: keys.json`, or `secret:` and the name of a variable of the environment", "%s: api.tokens wants either keys or a secret", path)
	}
	return nil
}

func (p *Project) checkLimits(path string) error {
	for _, origin := range p.API.CORS {
		u, err := url.Parse(origin)
		if err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || origin != u.Scheme+"://"+u.Host {
			return fault.New("write a scheme and a host, as in `cors: [\"https://bees.example\"]`", "%s: api.cors: %q is no origin", path, origin)
		}
	}
	l := p.API.Limits
	if l == nil {
		return nil
	}
	if d, err := time.ParseDuration(l.Statement); l.Statement != "" && (err != nil || d <= 0) {
		return fault.New("write it as 30s or 2m", "%s: api.limits.statement: %q is no duration", path, l.Statement)
	}
	if l.Body < 0 || l.Requests < 0 {
		return fault.New("leave it out to have the default", "%s: api.limits: a limit is below 0", path)
	}
	return nil
}

// checkUnguarded finds roles where nobody has one.
func (p *Project) checkUnguarded(path string) error {
	named := p.API.Allow != nil
	where := "api"
	for _, table := range slices.Sorted(maps.Keys(p.Entities)) {
		if p.Entities[table].Allow != nil && !named {
			named, where = true, "entities."+table
		}
	}
	if named {
		return fault.New("say how roles are known: `api: {tokens: {issuer: …, audience: …, keys: …}}`, or `keyfile` for API keys", "%s: %s has an allow, but the service asks for no credentials", path, where)
	}
	return nil
}
