package project

import (
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"
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

	Rows    map[string]string      `yaml:"rows"`    // by role, a condition on the rows that it has to do with
	Columns map[string]AllowColumn `yaml:"columns"` // columns that not all of them see or change
}

// AllowColumn says which roles see a column, and which give it a value; all when
// left out.
type AllowColumn struct {
	Read   []string `yaml:"read"`
	Change []string `yaml:"change"`
}

// silent reports whether no role is allowed anything.
func (a *Allow) silent() bool {
	return a.Read == nil && a.Create == nil && a.Change == nil && a.Delete == nil
}

// Version is an earlier version of the interface that is answered still.
type Version struct {
	Base       string            `yaml:"base"`
	Deprecated string            `yaml:"deprecated"` // a date
	Sunset     string            `yaml:"sunset"`     // a date
	Entities   map[string]Former `yaml:"entities"`   // by table, how its resource was
}

// Former says how a resource was in a version.
type Former struct {
	Path      string                  `yaml:"path"`
	Hidden    bool                    `yaml:"hidden"` // it was not there
	Columns   map[string]FormerColumn `yaml:"columns"`
	Relations map[string]FormerColumn `yaml:"relations"` // by their names in JSON
}

// FormerColumn says how a column or relation was in a version.
type FormerColumn struct {
	Name   string  `yaml:"name"`
	Hidden bool    `yaml:"hidden"` // it was not there
	Value  *string `yaml:"value"`  // of a column that was not there, in new rows
}

// Day reads a date of the file, which was checked; it is zero where there is
// none.
func Day(text string) time.Time {
	day, _ := time.Parse(time.DateOnly, text)
	return day
}

// checkVersions completes the versions, and finds dates that are none.
func (p *Project) checkVersions(path string) error {
	for _, name := range slices.Sorted(maps.Keys(p.API.Versions)) {
		v := p.API.Versions[name]
		if !versionName.MatchString(name) {
			return fault.New("use letters and digits, as in `versions: {v1: …}`", "%s: api.versions: %q cannot be the name of a version", path, name)
		}
		if v.Base = "/" + strings.Trim(v.Base, "/"); v.Base == "/" {
			v.Base = "/api/" + name
		}
		if v.Base == p.API.Base {
			return fault.New("give the one of today another, as in `base: /api/v2`", "%s: api.versions.%s has the same base as the interface of today, %s", path, name, v.Base)
		}
		for key, text := range map[string]string{"deprecated": v.Deprecated, "sunset": v.Sunset} {
			if _, err := time.Parse(time.DateOnly, text); text != "" && err != nil {
				return fault.New("write it as 2026-11-30", "%s: api.versions.%s.%s: %q is no date", path, name, key, text)
			}
		}
		p.API.Versions[name] = v
	}
	return nil
}

var versionName = regexp.MustCompile(`^[a-z][a-z0-9]*$`)

// Limits bound what requests may cost; what is left out has a default.
type Limits struct {
	Body      int    `yaml:"body"`      // bytes of a body
	Requests  int    `yaml:"requests"`  // answered at once
	Statement string `yaml:"statement"` // how long a statement may take, as 30s
	Page      int    `yaml:"page"`      // rows of a page, where a request does not say
	Rows      int    `yaml:"rows"`      // the most rows of a page
}

// Timeout is how long a statement may take; 0 is the default.
func (l *Limits) Timeout() time.Duration {
	d, _ := time.ParseDuration(l.Statement) // which was checked
	return d
}

// DocsPage reports whether there is a page that tells of the interface.
func (a *API) DocsPage() bool { return (a.Docs == nil || *a.Docs) && a.Document != "nobody" }

// Gathers reports whether requests for single rows are put together.
func (a *API) Gathers() bool { return a.Gather == nil || *a.Gather }

// Guarded reports whether the service asks for credentials.
func (a *API) Guarded() bool { return a.Tokens != nil || a.KeyFile != "" }

func (p *Project) checkAccess(path string) error {
	a := &p.API
	if err := p.checkLimits(path); err != nil {
		return err
	}
	if err := p.checkVersions(path); err != nil {
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
	if a.Allow.Rows != nil || a.Allow.Columns != nil {
		return fault.New("write them below a table, as in `entities: {hive: {allow: {rows: …}}}`", "%s: api.allow has rows or columns, which are those of one table", path)
	}
	for table, e := range p.Entities {
		if e.Allow != nil && e.Allow.silent() {
			own := *a.Allow
			own.Rows, own.Columns = e.Allow.Rows, e.Allow.Columns
			e.Allow = &own
			p.Entities[table] = e
		}
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
	if n := p.API.Names; n != "" && n != Camel {
		return fault.New("write `names: camel`, or leave it out to have the names of the columns", "%s: api.names is %q", path, n)
	}
	if d := p.API.Document; d != "" && d != "anybody" && d != "nobody" {
		return fault.New("write anybody or nobody, or leave it out to show everybody what they may use", "%s: api.document is %q", path, d)
	}
	if p.API.Bulk < 0 {
		return fault.New("write how many rows one request may touch at most, or leave it out", "%s: api.bulk is below 0", path)
	}
	l := p.API.Limits
	if l == nil {
		return nil
	}
	if d, err := time.ParseDuration(l.Statement); l.Statement != "" && (err != nil || d <= 0) {
		return fault.New("write it as 30s or 2m", "%s: api.limits.statement: %q is no duration", path, l.Statement)
	}
	if l.Body < 0 || l.Requests < 0 || l.Page < 0 || l.Rows < 0 {
		return fault.New("leave it out to have the default", "%s: api.limits: a limit is below 0", path)
	}
	return nil
}

// checkUnguarded finds roles where nobody has one.
func (p *Project) checkUnguarded(path string) error {
	for _, name := range slices.Sorted(maps.Keys(p.API.Expose)) {
		if len(p.API.Expose[name]) > 0 {
			return fault.New("leave its list empty, or say how roles are known by `tokens` or `keyfile`", "%s: api.expose.%s names roles, but the service asks for no credentials", path, name)
		}
	}
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
