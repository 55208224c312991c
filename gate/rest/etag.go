package rest

import (
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"slices"
	"strings"

	"widegate/gate"
)

// tagOf is the strong entity tag (RFC 9110) of a row as it is sent in full: its
// version where it has one, else of what is shown of it.
func (r *resource) tagOf(row any) string {
	if tag, ok := r.versionOf(row); ok {
		return tag
	}
	return digest(r.appendMembers(nil, r.stored(), row, nil))
}

// versionOf is the tag of a row that counts its versions.
func (r *resource) versionOf(row any) (tag string, ok bool) {
	i := slices.IndexFunc(r.info.Columns, func(c gate.Column) bool { return c.Is(gate.Version) })
	if i < 0 {
		return "", false
	}
	return versionTag(r.info.Fields(nil, row)[i]), true
}

func versionTag(version any) string { return `"v` + string(gate.AppendText(nil, version)) + `"` }

func digest(text []byte) string {
	sum := sha256.Sum256(text)
	return `"` + base64.RawURLEncoding.EncodeToString(sum[:12]) + `"`
}

// tag is the entity tag of an answer with a row, of which body is the text.
// Another form or choice of the row has a tag of its own.
func (l *listing) tag(row any, body []byte) string {
	if l.format.name == "json" && l.only == nil && len(l.nodes) == 0 {
		if tag, ok := l.res.versionOf(row); ok {
			return tag
		}
		if len(l.res.computed) > 0 {
			return l.res.tagOf(row)
		}
		return digest(body[:len(body)-1]) // without the end of the line
	}
	return digest(append(slices.Clip(body), l.format.name...))
}

// matches reports whether one of the tags of a header, or *, is tag.
func matches(header []string, tag string) bool {
	for _, line := range header {
		for _, one := range strings.Split(line, ",") {
			one = strings.TrimSpace(one)
			if one == "*" || one == tag || strings.TrimPrefix(one, "W/") == tag {
				return true
			}
		}
	}
	return false
}

// checkMatch holds a row that is about to be changed, and is locked, to the
// If-Match header of the request. A weak tag matches nothing there.
func (r *resource) checkMatch(req *http.Request, row any) error {
	header := req.Header.Values("If-Match")
	if len(header) == 0 {
		return nil
	}
	strong := slices.DeleteFunc(strings.Split(strings.Join(header, ","), ","), func(tag string) bool {
		return strings.HasPrefix(strings.TrimSpace(tag), "W/")
	})
	if matches(strong, r.showing(gate.OddOf(req.Context())).tagOf(row)) {
		return nil
	}
	return NewProblem(http.StatusPreconditionFailed, "the row has been changed since you read it; read it again, and send If-Match with its new ETag")
}
