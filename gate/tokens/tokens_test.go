package tokens_test

import (
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"maps"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"widegate/gate/rest"
	"widegate/gate/tokens"
)

func request(headers ...string) *http.Request {
	r := httptest.NewRequest("GET", "/api/hives", nil)
	for i := 0; i < len(headers); i += 2 {
		r.Header.Add(headers[i], headers[i+1])
	}
	return r
}

func bearer(token string) *http.Request { return request("Authorization", "Bearer "+token) }

func good() jwt.MapClaims {
	return jwt.MapClaims{
		"iss": "https://login.example", "aud": "cooperative", "sub": "keeper-7", "exp": time.Now().Add(time.Hour).Unix(),
		"iat": time.Now().Unix(), "roles": []string{"keeper", "auditor"},
	}
}

func with(name string, value any) jwt.MapClaims {
	claims := good()
	claims[name] = value
	if value == nil {
		delete(claims, name)
	}
	return claims
}

func b64(b []byte) string { return base64.RawURLEncoding.EncodeToString(b) }

func sign(t *testing.T, method jwt.SigningMethod, claims jwt.MapClaims, kid string, key any) string {
	t.Helper()
	token := jwt.NewWithClaims(method, claims)
	if kid != "" {
		token.Header["kid"] = kid
	}
	text, err := token.SignedString(key)
	require.NoError(t, err)
	return text
}

// keyFile stores public keys as a JWKS.
func keyFile(t *testing.T, keys ...map[string]any) string {
	t.Helper()
	text, err := json.Marshal(map[string]any{"keys": keys})
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "keys.json")
	require.NoError(t, os.WriteFile(path, text, 0o600))
	return path
}

func rsaJWK(id string, key *rsa.PublicKey) map[string]any {
	return map[string]any{"kty": "RSA", "kid": id, "use": "sig", "n": b64(key.N.Bytes()), "e": b64(big.NewInt(int64(key.E)).Bytes())}
}

// signWith signs good claims below a header that has more in it.
func signWith(t *testing.T, header map[string]any, key any) string {
	t.Helper()
	token := jwt.NewWithClaims(jwt.SigningMethodRS256, good())
	token.Header["kid"] = "one"
	maps.Copy(token.Header, header)
	text, err := token.SignedString(key)
	require.NoError(t, err)
	return text
}

// TestTokens sends tokens as an attacker would.
func TestTokens(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	curve, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	point, err := curve.PublicKey.Bytes()
	require.NoError(t, err)
	v, err := tokens.New(t.Context(), tokens.Config{
		Issuer: "https://login.example", Audience: "cooperative",
		Keys: keyFile(t, rsaJWK("one", &key.PublicKey), map[string]any{"kty": "EC", "kid": "two", "crv": "P-256", "x": b64(point[1:33]), "y": b64(point[33:])}),
	})
	require.NoError(t, err)

	id, err := v.Identify(bearer(sign(t, jwt.SigningMethodRS256, good(), "one", key)))
	require.NoError(t, err)
	assert.Equal(t, "keeper-7", id.Subject)
	assert.Equal(t, []string{"keeper", "auditor"}, id.Roles)
	_, err = v.Identify(bearer(sign(t, jwt.SigningMethodES256, good(), "two", curve)))
	require.NoError(t, err)
	id, err = v.Identify(request())
	assert.NoError(t, err)
	assert.Nil(t, id, "no credentials are no wrong ones")

	none := strings.Join([]string{b64([]byte(`{"alg":"none","kid":"one"}`)), strings.Split(sign(t, jwt.SigningMethodRS256, good(), "one", key), ".")[1], ""}, ".")
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	require.NoError(t, err)
	asSecret := pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})
	whole := sign(t, jwt.SigningMethodRS256, good(), "one", key)
	tampered := strings.Split(whole, ".")
	tampered[1] = b64([]byte(`{"iss":"https://login.example","aud":"cooperative","sub":"admin","exp":99999999999,"roles":["admin"]}`))
	for name, c := range map[string]struct {
		r    *http.Request
		want string
	}{
		"alg none":            {bearer(none), "signature"},
		"public key as HMAC":  {bearer(sign(t, jwt.SigningMethodHS256, good(), "one", asSecret)), "signature"},
		"another key":         {bearer(sign(t, jwt.SigningMethodRS256, good(), "one", other)), "signature"},
		"unknown key":         {bearer(sign(t, jwt.SigningMethodRS256, good(), "three", key)), "signature"},
		"no key named":        {bearer(sign(t, jwt.SigningMethodRS256, good(), "", key)), "signature"},
		"key of another kind": {bearer(sign(t, jwt.SigningMethodRS256, good(), "two", key)), "signature"},
		"algorithm not taken": {bearer(sign(t, jwt.SigningMethodRS512, good(), "one", key)), "signature"},
		"tampered":            {bearer(strings.Join(tampered, ".")), "signature"},
		"cut off":             {bearer(whole[:len(whole)-20]), "signature"},
		"expired":             {bearer(sign(t, jwt.SigningMethodRS256, with("exp", time.Now().Add(-time.Minute).Unix()), "one", key)), "has expired"},
		"never expires":       {bearer(sign(t, jwt.SigningMethodRS256, with("exp", nil), "one", key)), "lacks exp"},
		"not yet":             {bearer(sign(t, jwt.SigningMethodRS256, with("nbf", time.Now().Add(time.Hour).Unix()), "one", key)), "not valid yet"},
		"from the future":     {bearer(sign(t, jwt.SigningMethodRS256, with("iat", time.Now().Add(time.Hour).Unix()), "one", key)), "issued in the future"},
		"another audience":    {bearer(sign(t, jwt.SigningMethodRS256, with("aud", "others"), "one", key)), "another audience"},
		"no audience":         {bearer(sign(t, jwt.SigningMethodRS256, with("aud", nil), "one", key)), "lacks exp, iss or aud"},
		"another issuer":      {bearer(sign(t, jwt.SigningMethodRS256, with("iss", "https://evil.example"), "one", key)), "another issuer"},
		"no JWT":              {bearer("abc"), "no JWT"},
		"critical header":     {bearer(signWith(t, map[string]any{"crit": []string{"exp2"}, "exp2": 1}, key)), "critical headers"},
		"no critical header":  {bearer(signWith(t, map[string]any{"crit": []string{}}, key)), "critical headers"},
		"critical null":       {bearer(signWith(t, map[string]any{"crit": nil}, key)), "critical headers"},
		"unencoded payload":   {bearer(signWith(t, map[string]any{"crit": []string{"b64"}, "b64": false}, key)), "critical headers"},
		"very long":           {bearer(strings.Repeat("a", 20000)), "too long"},
		"another scheme":      {request("Authorization", "Basic a2VlcGVyOnB3"), "Bearer and a token"},
		"nothing":             {request("Authorization", ""), "Bearer and a token"},
		"two":                 {request("Authorization", "Bearer "+whole, "Authorization", "Bearer x"), "more than one"},
		"a key beside it":     {request("Authorization", "Bearer "+whole, "X-Api-Key", "x"), "more than one"},
		"an unknown API key":  {request("X-Api-Key", "x"), "not known"},
	} {
		id, err := v.Identify(c.r)
		assert.Nil(t, id, name)
		assert.ErrorIs(t, err, rest.ErrCredentials, name)
		assert.ErrorContains(t, err, c.want, name)
	}
	id, err = v.Identify(bearer(sign(t, jwt.SigningMethodRS256, with("roles", "keeper  auditor"), "one", key)))
	require.NoError(t, err)
	assert.Equal(t, []string{"keeper", "auditor"}, id.Roles)
	id, err = v.Identify(bearer(sign(t, jwt.SigningMethodRS256, with("roles", 5), "one", key)))
	require.NoError(t, err)
	assert.Empty(t, id.Roles)
}

func TestSecretsAndAPIKeys(t *testing.T) {
	t.Setenv("COOPERATIVE_SECRET", strings.Repeat("s3cret!", 8))
	hash := sha256.Sum256([]byte("the key of the scale"))
	file := filepath.Join(t.TempDir(), "api-keys.json")
	require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, `[{"name":"scale","sha256":"%s","roles":["sensor"]}]`, hex.EncodeToString(hash[:])), 0o600))
	v, err := tokens.New(t.Context(), tokens.Config{Issuer: "https://login.example", Audience: "cooperative", Secret: "COOPERATIVE_SECRET", KeyFile: file})
	require.NoError(t, err)
	id, err := v.Identify(bearer(sign(t, jwt.SigningMethodHS256, good(), "", []byte(strings.Repeat("s3cret!", 8)))))
	require.NoError(t, err)
	assert.Equal(t, "keeper-7", id.Subject)
	id, err = v.Identify(request("X-Api-Key", "the key of the scale"))
	require.NoError(t, err)
	assert.Equal(t, &rest.Identity{Subject: "scale", Roles: []string{"sensor"}}, id)
	_, err = v.Identify(bearer(sign(t, jwt.SigningMethodHS256, good(), "", []byte("another"))))
	assert.ErrorIs(t, err, rest.ErrCredentials)

	only, err := tokens.New(t.Context(), tokens.Config{KeyFile: file})
	require.NoError(t, err)
	_, err = only.Identify(bearer("x.y.z"))
	assert.ErrorContains(t, err, "no tokens are taken here")
}

func TestConfigurationsThatAreRefused(t *testing.T) {
	t.Setenv("SHORT", "too short")
	weak, err := rsa.GenerateKey(rand.Reader, 1024)
	if err != nil { // which newer versions of Go refuse to make
		weak = &rsa.PrivateKey{PublicKey: rsa.PublicKey{N: new(big.Int).Lsh(big.NewInt(1), 1023), E: 65537}}
	}
	edwards, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	own := tokens.Config{Issuer: "i", Audience: "a"}
	set := func(change func(c *tokens.Config)) tokens.Config {
		c := own
		change(&c)
		return c
	}
	bad := filepath.Join(t.TempDir(), "bad.json")
	require.NoError(t, os.WriteFile(bad, []byte(`[{"name":"x","sha256":"abc"}]`), 0o600))
	for want, c := range map[string]tokens.Config{
		"say where the keys are":    own,
		"exclude each other":        set(func(c *tokens.Config) { c.Keys, c.Secret = "k", "SHORT" }),
		"an issuer and an audience": {Keys: "k"},
		"at least 32 bytes":         set(func(c *tokens.Config) { c.Secret = "SHORT" }),
		"is none of HS256":          set(func(c *tokens.Config) { c.Secret, c.Algorithms = "SHORT", []string{"RS256"} }),
		"is none of RS256":          set(func(c *tokens.Config) { c.Keys, c.Algorithms = "k", []string{"none"} }),
		"https URL or a file":       set(func(c *tokens.Config) { c.Keys = "http://login.example/keys" }),
		"no such file":              set(func(c *tokens.Config) { c.Keys = "missing.json" }),
		"at least 2048 bits":        set(func(c *tokens.Config) { c.Keys = keyFile(t, rsaJWK("w", &weak.PublicKey)) }),
		"no public key":             set(func(c *tokens.Config) { c.Keys = keyFile(t, map[string]any{"kty": "oct", "k": "abc"}) }),
		"its curve is": set(func(c *tokens.Config) {
			c.Keys = keyFile(t, map[string]any{"kty": "EC", "crv": "P-1", "x": "", "y": ""})
		}),
		"API key 1": {KeyFile: bad},
	} {
		_, err := tokens.New(t.Context(), c)
		assert.ErrorContains(t, err, want)
	}
	_, err = tokens.New(t.Context(), set(func(c *tokens.Config) {
		c.Keys, c.Algorithms = keyFile(t, map[string]any{"kty": "OKP", "kid": "e", "crv": "Ed25519", "x": b64(edwards)}), []string{"EdDSA"}
	}))
	assert.NoError(t, err)
}

func FuzzBearer(f *testing.F) {
	f.Add("eyJhbGciOiJub25lIn0.e30.")
	f.Setenv("COOPERATIVE_SECRET", strings.Repeat("s3cret!", 8))
	v, err := tokens.New(f.Context(), tokens.Config{Issuer: "i", Audience: "a", Secret: "COOPERATIVE_SECRET"})
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, text string) {
		r := request()
		r.Header["Authorization"] = []string{"Bearer " + text}
		id, err := v.Identify(r)
		assert.Nil(t, id)
		assert.ErrorIs(t, err, rest.ErrCredentials)
	})
}
