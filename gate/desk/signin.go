package desk

import (
	"encoding/base64"
	"net/http"
	"net/url"
	"strings"
)

// sessionCookie keeps the credentials that somebody signed in with, until the
// browser is closed. Scripts cannot read it, and no other site can have it sent.
const sessionCookie = "desk_credentials"

// signedIn puts the credentials of the cookie where the API looks for them.
func signedIn(r *http.Request) *http.Request {
	if r.Header.Get("Authorization") != "" || r.Header.Get("X-Api-Key") != "" {
		return r
	}
	c, err := r.Cookie(sessionCookie)
	if err != nil {
		return r
	}
	text, err := base64.RawURLEncoding.DecodeString(c.Value)
	if err != nil || len(text) == 0 {
		return r
	}
	return withCredentials(r, string(text))
}

// withCredentials is a request with a token or an API key: a token of RFC 7519 has
// three parts.
func withCredentials(r *http.Request, text string) *http.Request {
	next := r.Clone(r.Context())
	if strings.Count(text, ".") == 2 {
		next.Header.Set("Authorization", "Bearer "+text)
	} else {
		next.Header.Set("X-Api-Key", text)
	}
	return next
}

// signInView is the form to sign in by.
type signInView struct {
	frame
	Action string
	Back   string
	Fault  string
}

func (v *visit) signInForm() error { return v.showSignIn(http.StatusOK, "") }

func (v *visit) showSignIn(status int, fault string) error {
	return v.show(status, "signin", signInView{frame: v.frame("Sign in"), Action: v.at("sign-in"), Back: v.back(), Fault: fault})
}

// back is the page to return to, which is one of these.
func (v *visit) back() string {
	to := v.r.FormValue("_back")
	if u, err := url.Parse(to); err != nil || u.Host != "" || u.Scheme != "" || !strings.HasPrefix(u.Path, v.config.Root+"/") || strings.HasPrefix(to, "//") {
		return v.at("")
	}
	return to
}

// mostCredentials is how long a token may be that a cookie keeps.
const mostCredentials = 3000

func (v *visit) signIn() error {
	text := strings.TrimSpace(v.r.FormValue("credentials"))
	text = strings.TrimPrefix(text, "Bearer ")
	switch {
	case text == "":
		return v.showSignIn(http.StatusBadRequest, "Enter an API key or a token.")
	case len(text) > mostCredentials:
		return v.showSignIn(http.StatusBadRequest, "This is too long for a key or token.")
	case strings.ContainsFunc(text, func(r rune) bool { return r < '!' || r > '~' }):
		return v.showSignIn(http.StatusBadRequest, "A key or token has letters, digits and signs, and no spaces.")
	}
	if _, err := v.api.Identified(withCredentials(v.r, text)); err != nil {
		return v.showSignIn(http.StatusUnauthorized, problemOf(err).Detail)
	}
	v.setSession(base64.RawURLEncoding.EncodeToString([]byte(text)), 0)
	http.Redirect(v.w, v.r, v.back(), http.StatusSeeOther)
	return nil
}

func (v *visit) signOut() error {
	v.setSession("", -1)
	http.Redirect(v.w, v.r, v.at(""), http.StatusSeeOther)
	return nil
}

func (v *visit) setSession(value string, age int) {
	http.SetCookie(v.w, &http.Cookie{
		Name: sessionCookie, Value: value, Path: v.config.Root + "/", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode,
		Secure: v.r.TLS != nil || v.r.Header.Get("X-Forwarded-Proto") == "https",
	})
}
