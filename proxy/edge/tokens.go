package edge

import (
	"encoding/json"
	"fmt"
	"hash/maphash"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-jose/go-jose/v4"

	"nightjar/core/rules"
)

// Bounds of tokens.
const (
	maxToken    = 16 << 10 // bytes; most are about 1 KiB
	maxKept     = 4 << 10  // a longer token is checked every time
	leeway      = 30 * time.Second
	cacheShards = 64
	perShard    = 64 // tokens
)

// algorithms are those whose keys can be told to everybody.
var algorithms = []jose.SignatureAlgorithm{
	jose.RS256, jose.RS384, jose.RS512, jose.PS256, jose.PS384, jose.PS512,
	jose.ES256, jose.ES384, jose.ES512, jose.EdDSA,
}

// Token is a token that is good until it runs out.
type Token struct {
	Fields []rules.Field // that workloads get
	claims map[string][]string
	begins time.Time
	ends   time.Time
	keys   *keys // by which it was checked
}

// Claim are the values of a claim: of a list each, and of what is inside of another one by
// a name such as realm.roles.
func (t *Token) Claim(name string) []string { return t.claims[name] }

// verifier checks the tokens that one rule asks for. The good ones are kept.
type verifier struct {
	by    *rules.JWT
	keys  *keySet
	seed  maphash.Seed
	cache [cacheShards]atomic.Pointer[map[string]*Token] // never changed in place
}

// unchecked is why a token cannot be checked.
type unchecked struct{ why string }

func (u unchecked) Error() string { return u.why }

// verify checks a token. The text is good during the call.
func (v *verifier) verify(text string, now time.Time) (*Token, error) {
	have := v.keys.now.Load()
	if have == nil {
		why := "they are being fetched"
		if failed := v.keys.failed.Load(); failed != nil && *failed != "" {
			why = *failed
		}
		return nil, unchecked{"there are no keys of " + v.by.Issuer + " yet: " + why}
	}
	at := &v.cache[maphash.String(v.seed, text)%cacheShards]
	if kept := at.Load(); kept != nil {
		if t := (*kept)[text]; t != nil && t.keys == have {
			return t, t.inTime(now)
		}
	}
	t, err := v.check(text, have, now)
	if err != nil {
		return nil, err
	}
	if len(text) <= maxKept {
		keep(at, strings.Clone(text), t, now)
	}
	return t, nil
}

// keep adds a token to a part of the cache. One that is full forgets half of it, and those
// first that are of no use.
func keep(at *atomic.Pointer[map[string]*Token], text string, t *Token, now time.Time) {
	for {
		was := at.Load()
		next := map[string]*Token{text: t}
		if was != nil {
			isFull := len(*was) >= perShard
			for k, old := range *was {
				if isFull && (len(next) > perShard/2 || old.keys != t.keys || old.inTime(now) != nil) {
					continue
				}
				next[k] = old
			}
		}
		if at.CompareAndSwap(was, &next) {
			return
		}
	}
}

func (t *Token) inTime(now time.Time) error {
	switch {
	case now.After(t.ends.Add(leeway)):
		return fmt.Errorf("the token ran out at %s", t.ends.UTC().Format(time.RFC3339))
	case now.Before(t.begins.Add(-leeway)):
		return fmt.Errorf("the token is not good before %s", t.begins.UTC().Format(time.RFC3339))
	}
	return nil
}

// check checks a token that is not known: first what costs little.
func (v *verifier) check(text string, have *keys, now time.Time) (*Token, error) {
	if len(text) > maxToken {
		return nil, fmt.Errorf("the token is longer than %d bytes", maxToken)
	}
	signed, err := jose.ParseSignedCompact(text, algorithms)
	if err != nil {
		return nil, fmt.Errorf("the bearer token is no signed JSON Web Token: %s", brief(err))
	}
	claims := map[string]any{}
	d := json.NewDecoder(strings.NewReader(string(signed.UnsafePayloadWithoutVerification())))
	d.UseNumber()
	if err := d.Decode(&claims); err != nil {
		return nil, fmt.Errorf("the claims of the token cannot be read: %s", brief(err))
	}
	t := &Token{claims: map[string][]string{}, keys: have}
	for name, value := range claims {
		t.add(name, value, 0)
	}
	if iss, _ := claims["iss"].(string); iss != v.by.Issuer {
		return nil, fmt.Errorf("the token is of issuer %s, not of %s", quoted(iss), v.by.Issuer)
	}
	aud := t.claims["aud"]
	if !slices.ContainsFunc(aud, func(a string) bool { return slices.Contains(v.by.Audience, a) }) {
		return nil, fmt.Errorf("the token is for %s, not for %s", quoted(strings.Join(aud, ", ")), strings.Join(v.by.Audience, " or "))
	}
	var isDated bool
	if t.ends, isDated = date(claims["exp"]); !isDated {
		return nil, fmt.Errorf("the token does not say when it runs out (exp)")
	}
	if t.begins, isDated = date(claims["nbf"]); !isDated && claims["nbf"] != nil {
		return nil, fmt.Errorf("the token does not say when it begins (nbf)")
	}
	if err := t.inTime(now); err != nil {
		return nil, err
	}
	if err := v.signed(signed, have); err != nil {
		return nil, err
	}
	for _, f := range v.by.Fields {
		for _, value := range t.claims[f.Claim] {
			if isFieldValue(value) {
				t.Fields = append(t.Fields, rules.Field{Name: f.Field, Value: value})
			}
		}
	}
	return t, nil
}

// signed checks the signature.
func (v *verifier) signed(s *jose.JSONWebSignature, have *keys) error {
	head := s.Signatures[0].Header
	isKnown := false
	for i := range have.list {
		key := &have.list[i]
		if head.KeyID != "" && key.KeyID != "" && key.KeyID != head.KeyID || key.Algorithm != "" && key.Algorithm != head.Algorithm {
			continue
		}
		isKnown = true
		if _, err := s.Verify(key.Key); err == nil {
			return nil
		}
	}
	if !isKnown {
		v.keys.want()
		return fmt.Errorf("%s has no key %s for %s", v.by.Issuer, quoted(head.KeyID), head.Algorithm)
	}
	if head.KeyID == "" {
		v.keys.want()
	}
	return fmt.Errorf("the signature of the token is wrong")
}

// maxDepth is how far claims inside of claims are looked at.
const maxDepth = 4

// add takes the values of a claim.
func (t *Token) add(name string, value any, depth int) {
	switch x := value.(type) {
	case string:
		t.claims[name] = append(t.claims[name], x)
	case json.Number:
		t.claims[name] = append(t.claims[name], x.String())
	case bool:
		t.claims[name] = append(t.claims[name], strconv.FormatBool(x))
	case []any:
		for _, one := range x {
			if _, isObject := one.(map[string]any); !isObject && depth < maxDepth {
				t.add(name, one, depth+1)
			}
		}
	case map[string]any:
		if depth < maxDepth {
			for inner, one := range x {
				t.add(name+"."+inner, one, depth+1)
			}
		}
	}
}

// date reads seconds since 1970 (RFC 7519, section 2).
func date(v any) (time.Time, bool) {
	n, is := v.(json.Number)
	if !is {
		return time.Time{}, false
	}
	f, err := n.Float64()
	if err != nil || f < 0 || f > 1<<40 {
		return time.Time{}, false
	}
	return time.Unix(int64(f), 0), true
}

// isFieldValue tells whether a text can be the value of a header field (RFC 9110, section 5.5).
func isFieldValue(s string) bool {
	return s == strings.Trim(s, " \t") && !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f })
}

// quoted is what a token says, for a message.
func quoted(s string) string {
	if s == "" {
		return "nobody"
	}
	return strconv.Quote(s[:min(len(s), 100)])
}

func brief(err error) string {
	s := err.Error()
	return s[:min(len(s), 200)]
}
