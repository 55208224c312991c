package tokens

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/golang-jwt/jwt/v5"
)

// keySet is a JWKS (RFC 7517) that is read again from time to time, and when a
// token names a key that is not in it.
type keySet struct {
	from string

	fetching sync.Mutex // one reading at a time
	mu       sync.Mutex // of what follows
	keys     map[string]publicKey
	read     time.Time
}

type publicKey struct {
	key       crypto.PublicKey
	algorithm string // empty: any that fits the key
}

// The times between readings of a key set: at most, and at least, so that
// tokens of nobody cannot cause one each.
const (
	refreshAfter = 15 * time.Minute
	refreshPause = 30 * time.Second
	maxKeySet    = 1 << 20
)

func newKeySet(ctx context.Context, from string) (*keySet, error) {
	if strings.Contains(from, "://") && !strings.HasPrefix(from, "https://") {
		return nil, fmt.Errorf("tokens: %s should be an https URL or a file", from)
	}
	s := &keySet{from: from}
	return s, s.refresh(ctx)
}

// refresh reads the set, unless another did so a moment ago.
func (s *keySet) refresh(ctx context.Context) error {
	s.fetching.Lock()
	defer s.fetching.Unlock()
	if !s.older(refreshPause) {
		return nil
	}
	s.mu.Lock()
	s.read = time.Now()
	s.mu.Unlock()
	text, err := s.fetch(ctx)
	if err != nil {
		return fmt.Errorf("tokens: reading the keys of %s: %w", s.from, err)
	}
	keys, err := parseKeys(text)
	if err != nil {
		return fmt.Errorf("tokens: reading the keys of %s: %w", s.from, err)
	}
	s.mu.Lock()
	s.keys = keys
	s.mu.Unlock()
	return nil
}

func (s *keySet) older(than time.Duration) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return time.Since(s.read) > than
}

func (s *keySet) key(id string) (publicKey, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	k, ok := s.keys[id]
	return k, ok
}

func (s *keySet) fetch(ctx context.Context) ([]byte, error) {
	if !strings.Contains(s.from, "://") {
		return os.ReadFile(s.from)
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, s.from, nil)
	if err != nil {
		return nil, err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("the answer is %s", res.Status)
	}
	return io.ReadAll(io.LimitReader(res.Body, maxKeySet))
}

// find returns the key of a token.
func (s *keySet) find(token *jwt.Token) (any, error) {
	id, _ := token.Header["kid"].(string)
	k, ok := s.key(id)
	// What was read before stays good while there is nothing better.
	switch {
	case ok && s.older(refreshAfter):
		go func() { _ = s.refresh(context.Background()) }()
	case !ok && s.older(refreshPause):
		_ = s.refresh(context.Background())
		k, ok = s.key(id)
	}
	if !ok || k.algorithm != "" && k.algorithm != token.Method.Alg() {
		return nil, errors.New("no key of this name for this algorithm")
	}
	return k.key, nil
}

// jwk is a key of a set.
type jwk struct {
	Type      string `json:"kty"`
	ID        string `json:"kid"`
	Use       string `json:"use"`
	Algorithm string `json:"alg"`
	Curve     string `json:"crv"`
	N         string `json:"n"`
	E         string `json:"e"`
	X         string `json:"x"`
	Y         string `json:"y"`
}

func parseKeys(text []byte) (map[string]publicKey, error) {
	var set struct {
		Keys []jwk `json:"keys"`
	}
	if err := json.Unmarshal(text, &set); err != nil {
		return nil, err
	}
	keys := map[string]publicKey{}
	for i, k := range set.Keys {
		if k.Use != "" && k.Use != "sig" || k.Type == "oct" {
			continue
		}
		key, err := k.public()
		if err != nil {
			return nil, fmt.Errorf("key %d: %w", i+1, err)
		}
		keys[k.ID] = publicKey{key, k.Algorithm}
	}
	if len(keys) == 0 {
		return nil, errors.New("there is no public key for signatures")
	}
	return keys, nil
}

var curves = map[string]elliptic.Curve{"P-256": elliptic.P256(), "P-384": elliptic.P384(), "P-521": elliptic.P521()}

// leastModulus is how many bits an RSA key has (RFC 7518, section 3.3).
const leastModulus = 2048

func (k jwk) public() (crypto.PublicKey, error) {
	decode := base64.RawURLEncoding.DecodeString
	switch k.Type {
	case "RSA":
		n, err := decode(k.N)
		e, err2 := decode(k.E)
		exponent := new(big.Int).SetBytes(e)
		if err = errors.Join(err, err2); err != nil {
			return nil, err
		}
		key := &rsa.PublicKey{N: new(big.Int).SetBytes(n), E: int(exponent.Int64())}
		if !exponent.IsInt64() || key.E < 3 || key.E%2 == 0 || key.N.BitLen() < leastModulus {
			return nil, fmt.Errorf("it should have at least %d bits", leastModulus)
		}
		return key, nil
	case "EC":
		x, err := decode(k.X)
		y, err2 := decode(k.Y)
		curve, ok := curves[k.Curve]
		if err = errors.Join(err, err2); err != nil || !ok {
			return nil, errors.Join(err, fmt.Errorf("its curve is %q", k.Curve))
		}
		size := (curve.Params().BitSize + 7) / 8
		if len(x) != size || len(y) != size {
			return nil, errors.New("its point is not on the curve")
		}
		return ecdsa.ParseUncompressedPublicKey(curve, append(append([]byte{4}, x...), y...))
	case "OKP":
		x, err := decode(k.X)
		if err != nil || k.Curve != "Ed25519" || len(x) != ed25519.PublicKeySize {
			return nil, errors.Join(err, fmt.Errorf("its curve is %q", k.Curve))
		}
		return ed25519.PublicKey(x), nil
	}
	return nil, fmt.Errorf("its type is %q", k.Type)
}
