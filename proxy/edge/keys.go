package edge

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// Times and sizes of key sets.
const (
	keysEvery = 5 * time.Minute  // how often keys are fetched again
	keysSoon  = 10 * time.Second // and at most, when a token names one that is not known, or fetching failed
	keysTime  = 10 * time.Second // for fetching
	fileEvery = time.Second      // how often a file is looked at
	maxKeySet = 1 << 20          // bytes
	maxKeys   = 100
	leastRSA  = 2048 // bits
)

// keySet are the keys of one issuer, from a URL or a file. The last that were good are kept.
type keySet struct {
	from string // URL, or absolute path
	now  atomic.Pointer[keys]
	// failed is why the source is not in use as it is now; empty: it is.
	failed atomic.Pointer[string]
	wanted chan struct{} // a token named a key that is not known
	stop   context.CancelFunc
	done   chan struct{}
}

// keys are those of one look at the source.
type keys struct {
	list []jose.JSONWebKey
	text []byte // of the source
}

// isURL tells whether keys are fetched.
func isURL(from string) bool { return strings.Contains(from, "://") }

// newKeySet begins to look after keys. End it with close.
func newKeySet(from string) *keySet {
	ctx, stop := context.WithCancel(context.Background())
	k := &keySet{from: from, wanted: make(chan struct{}, 1), stop: stop, done: make(chan struct{})}
	if !isURL(from) {
		k.look(ctx) // so that they are there from the beginning
	}
	go k.follow(ctx)
	return k
}

func (k *keySet) close() {
	k.stop()
	<-k.done
}

// follow looks at the source again and again, until ctx is done.
func (k *keySet) follow(ctx context.Context) {
	defer close(k.done)
	if !isURL(k.from) {
		ticks := time.NewTicker(fileEvery)
		defer ticks.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-ticks.C:
				k.look(ctx)
			}
		}
	}
	for pause := time.Second; ; {
		wait, last := keysEvery, time.Now()
		if !k.look(ctx) {
			wait, pause = pause, min(2*pause, keysSoon)
		} else {
			pause = time.Second
		}
		timer := time.NewTimer(wait)
		select {
		case <-ctx.Done():
			timer.Stop()
			return
		case <-k.wanted:
			timer.Stop()
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Until(last.Add(keysSoon))):
			}
		case <-timer.C:
		}
	}
}

// want asks for another look, since a token names a key that is not known.
func (k *keySet) want() {
	select {
	case k.wanted <- struct{}{}:
	default:
	}
}

// look reads the source. False: it could not.
func (k *keySet) look(ctx context.Context) bool {
	text, err := k.read(ctx)
	if ctx.Err() != nil {
		return false
	}
	if have := k.now.Load(); err == nil && (have == nil || !bytes.Equal(have.text, text)) {
		var list []jose.JSONWebKey
		if list, err = parseKeys(text); err == nil {
			k.now.Store(&keys{list, text})
		}
	}
	why := ""
	if err != nil {
		if why = err.Error(); !strings.Contains(why, k.from) {
			why = k.from + ": " + why
		}
	}
	k.failed.Store(&why)
	return err == nil
}

var fetcher = &http.Client{
	Timeout: keysTime,
	CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if len(via) > 3 || r.URL.Scheme != via[0].URL.Scheme || r.URL.Host != via[0].URL.Host {
			return errors.New("it leads to another place")
		}
		return nil
	},
}

func (k *keySet) read(ctx context.Context) ([]byte, error) {
	if !isURL(k.from) {
		f, err := os.Open(k.from)
		if err != nil {
			return nil, err
		}
		defer f.Close()
		return readKeys(f)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, k.from, nil)
	if err != nil {
		return nil, err
	}
	resp, err := fetcher.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("%s answered %s", k.from, resp.Status)
	}
	return readKeys(resp.Body)
}

func readKeys(from io.Reader) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(from, maxKeySet+1))
	if err == nil && len(text) > maxKeySet {
		err = fmt.Errorf("longer than %d bytes", maxKeySet)
	}
	return text, err
}

// parseKeys reads a key set (RFC 7517), or public keys and certificates as PEM. Keys that
// cannot check a signature are passed over.
func parseKeys(text []byte) (out []jose.JSONWebKey, err error) {
	if bytes.HasPrefix(bytes.TrimSpace(text), []byte("{")) {
		var set struct {
			Keys []json.RawMessage `json:"keys"`
		}
		if err := json.Unmarshal(text, &set); err != nil {
			return nil, fmt.Errorf("no key set: %w", err)
		}
		for _, raw := range set.Keys[:min(len(set.Keys), maxKeys)] {
			var key jose.JSONWebKey
			if key.UnmarshalJSON(raw) == nil && (key.Use == "" || key.Use == "sig") && isGood(key.Key) {
				out = append(out, key)
			}
		}
	} else {
		for rest := text; len(out) < maxKeys; {
			var block *pem.Block
			if block, rest = pem.Decode(rest); block == nil {
				break
			}
			var key any
			switch block.Type {
			case "PUBLIC KEY":
				key, err = x509.ParsePKIXPublicKey(block.Bytes)
			case "CERTIFICATE":
				var c *x509.Certificate
				if c, err = x509.ParseCertificate(block.Bytes); err == nil {
					key = c.PublicKey
				}
			}
			if err == nil && isGood(key) {
				out = append(out, jose.JSONWebKey{Key: key})
			}
		}
	}
	if len(out) == 0 {
		return nil, errors.New("there is no public key in it that can check signatures (RSA of 2048 bits, ECDSA or Ed25519)")
	}
	return out, nil
}

// isGood tells whether a key is a public one that is strong enough.
func isGood(key any) bool {
	switch k := key.(type) {
	case *rsa.PublicKey:
		return k.N.BitLen() >= leastRSA
	case *ecdsa.PublicKey, ed25519.PublicKey:
		return true
	}
	return false
}
