// Package tokens finds out who sends a request: by bearer tokens that are JWTs
// (RFC 7519), checked against a secret or a set of public keys (RFC 7517), and
// by API keys, of which only hashes are stored.
package tokens

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/golang-jwt/jwt/v5"

	"widegate/gate"
	"widegate/gate/rest"
)

// Config says which credentials are good.
type Config struct {
	Issuer     string   // that tokens must be of
	Audience   string   // that they must be for
	Algorithms []string // that they may be signed by; RS256 and ES256, or HS256 with a secret, when empty
	Keys       string   // a JWKS: its file or https URL
	Secret     string   // the variable of the environment that holds a secret, in place of Keys
	Roles      string   // the claim with the roles, an array or words in a text; "roles" when empty
	KeyFile    string   // a JSON file of API keys: [{"name": …, "sha256": …, "roles": […]}]
}

// leastSecret is how many bytes a secret has (RFC 7518, section 3.2).
const leastSecret = 32

// Verifier checks credentials.
type Verifier struct {
	parser *jwt.Parser
	find   jwt.Keyfunc
	roles  string
	keys   map[string]rest.Identity // by the hash of the key
}

// New makes a verifier. It reads what the configuration names, and fails where
// that is not to be had or too weak.
func New(ctx context.Context, c Config) (*Verifier, error) {
	v := &Verifier{roles: c.Roles}
	if v.roles == "" {
		v.roles = "roles"
	}
	if c.KeyFile != "" {
		if err := v.readKeyFile(c.KeyFile); err != nil {
			return nil, err
		}
	}
	if c.Keys == "" && c.Secret == "" {
		if v.keys == nil {
			return nil, errors.New("tokens: say where the keys are, or which variable holds a secret")
		}
		return v, nil
	}
	if c.Keys != "" && c.Secret != "" {
		return nil, errors.New("tokens: keys and a secret exclude each other")
	}
	if c.Issuer == "" || c.Audience == "" {
		return nil, errors.New("tokens: an issuer and an audience must be named, so that the tokens of others are no good")
	}
	algorithms, err := c.algorithms()
	if err != nil {
		return nil, err
	}
	v.parser = jwt.NewParser(jwt.WithValidMethods(algorithms), jwt.WithIssuer(c.Issuer), jwt.WithAudience(c.Audience), jwt.WithExpirationRequired(), jwt.WithIssuedAt(), jwt.WithJSONNumber())
	if c.Secret != "" {
		secret := []byte(os.Getenv(c.Secret))
		if len(secret) < leastSecret {
			return nil, fmt.Errorf("tokens: the variable %s should hold a secret of at least %d bytes; it has %d", c.Secret, leastSecret, len(secret))
		}
		v.find = func(*jwt.Token) (any, error) { return secret, nil }
		return v, nil
	}
	set, err := newKeySet(ctx, c.Keys)
	if err != nil {
		return nil, err
	}
	v.find = set.find
	return v, nil
}

// algorithms are those pinned. A secret and public keys never share one, or a
// public key could be passed off as a secret.
func (c Config) algorithms() ([]string, error) {
	family := []string{"RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "ES512", "EdDSA"}
	usual := []string{"RS256", "ES256"}
	if c.Secret != "" {
		family, usual = []string{"HS256", "HS384", "HS512"}, []string{"HS256"}
	}
	if len(c.Algorithms) == 0 {
		return usual, nil
	}
	for _, a := range c.Algorithms {
		if !slices.Contains(family, a) {
			return nil, fmt.Errorf("tokens: the algorithm %s is none of %s", a, strings.Join(family, ", "))
		}
	}
	return c.Algorithms, nil
}

// storedKey is an API key in the file.
type storedKey struct {
	Name   string   `json:"name"`
	SHA256 string   `json:"sha256"`
	Roles  []string `json:"roles"`
}

func (v *Verifier) readKeyFile(path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		full, _ := filepath.Abs(path)
		return gate.Advise(err, "put it there; each key is {\"name\": …, \"sha256\": …, \"roles\": […]}", "the file of API keys %s cannot be read", full)
	}
	var list []storedKey
	if err := json.Unmarshal(text, &list); err != nil {
		return fmt.Errorf("tokens: reading the API keys of %s: %w", path, err)
	}
	v.keys = map[string]rest.Identity{}
	for i, k := range list {
		hash, err := hex.DecodeString(k.SHA256)
		if err != nil || len(hash) != sha256.Size || k.Name == "" {
			return fmt.Errorf("tokens: API key %d of %s wants a name, and the SHA-256 of the key in hexadecimal digits", i+1, path)
		}
		v.keys[string(hash)] = rest.Identity{Subject: k.Name, Roles: k.Roles}
	}
	return nil
}

func wrong(text string) error { return fmt.Errorf("%w: %s", rest.ErrCredentials, text) }

// Identify finds out who sends a request, by Authorization: Bearer or
// X-API-Key; see rest.Config.
func (v *Verifier) Identify(r *http.Request) (*rest.Identity, error) {
	header, key := r.Header.Values("Authorization"), r.Header.Values("X-Api-Key")
	switch {
	case len(header)+len(key) > 1:
		return nil, wrong("more than one credential was sent")
	case len(key) == 1:
		return v.byKey(key[0])
	case len(header) == 0:
		return nil, nil
	}
	scheme, token, _ := strings.Cut(header[0], " ")
	if !strings.EqualFold(scheme, "Bearer") || token == "" {
		return nil, wrong("Authorization should be Bearer and a token")
	}
	return v.byToken(strings.TrimSpace(token))
}

func (v *Verifier) byKey(key string) (*rest.Identity, error) {
	// The hash is looked up, so that nothing can be learnt from the time that
	// it takes.
	hash := sha256.Sum256([]byte(key))
	id, ok := v.keys[string(hash[:])]
	if !ok {
		return nil, wrong("the API key is not known")
	}
	return &id, nil
}

// maxToken bounds the length of tokens.
const maxToken = 16 << 10

func (v *Verifier) byToken(text string) (*rest.Identity, error) {
	if v.parser == nil {
		return nil, wrong("no tokens are taken here; send an X-API-Key")
	}
	if len(text) > maxToken {
		return nil, wrong("the token is too long")
	}
	claims := jwt.MapClaims{}
	token, err := v.parser.ParseWithClaims(text, claims, v.find)
	if err != nil {
		return nil, wrong(reason(err))
	}
	if _, critical := token.Header["crit"]; critical { // RFC 7515, section 4.1.11
		return nil, wrong("the token has critical headers (crit), and none is understood here")
	}
	subject, _ := claims.GetSubject()
	return &rest.Identity{Subject: subject, Roles: words(claims[v.roles]), Claims: claims}, nil
}

// reason says what is wrong with a token, and nothing of the keys.
func reason(err error) string {
	for _, r := range []struct {
		err  error
		text string
	}{
		{jwt.ErrTokenExpired, "the token has expired"},
		{jwt.ErrTokenNotValidYet, "the token is not valid yet"},
		{jwt.ErrTokenUsedBeforeIssued, "the token was issued in the future"},
		{jwt.ErrTokenInvalidAudience, "the token is for another audience"},
		{jwt.ErrTokenInvalidIssuer, "the token is of another issuer"},
		{jwt.ErrTokenRequiredClaimMissing, "the token lacks exp, iss or aud"},
		{jwt.ErrTokenMalformed, "the token is no JWT"},
	} {
		if errors.Is(err, r.err) {
			return r.text
		}
	}
	return "the signature of the token is not good"
}

// words are the texts of a claim.
func words(claim any) []string {
	switch v := claim.(type) {
	case string:
		return strings.Fields(v)
	case []any:
		var list []string
		for _, item := range v {
			if s, ok := item.(string); ok {
				list = append(list, s)
			}
		}
		return list
	}
	return nil
}
