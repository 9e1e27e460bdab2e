package outbox

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"
)

// signedFields are the header fields that a signature covers, where a request has
// them, besides its method and its target.
var signedFields = []string{"content-type", "content-digest", "ce-id", "ce-source", "ce-type", "ce-time", "ce-subject"}

// sign signs a request (RFC 9421, Ed25519) with the digest of its body (RFC 9530),
// so that a receiver knows who sent it and that nobody changed it. Without a key it
// only makes the body repeatable.
func sign(req *http.Request, key ed25519.PrivateKey, now time.Time) error {
	body, err := io.ReadAll(req.Body)
	if err != nil {
		return err
	}
	req.Body, req.ContentLength = io.NopCloser(bytes.NewReader(body)), int64(len(body))
	req.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
	if key == nil {
		return nil
	}
	digest := sha256.Sum256(body)
	req.Header.Set("Content-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(digest[:])+":")
	names := []string{`"@method"`, `"@target-uri"`}
	base := fmt.Sprintf("\"@method\": %s\n\"@target-uri\": %s\n", req.Method, req.URL)
	for _, name := range signedFields {
		if v := req.Header.Get(name); v != "" {
			names = append(names, `"`+name+`"`)
			base += fmt.Sprintf("%q: %s\n", name, v)
		}
	}
	params := fmt.Sprintf(`(%s);created=%d;keyid="%s";alg="ed25519"`, strings.Join(names, " "), now.Unix(),
		keyID(key.Public().(ed25519.PublicKey)))
	base += `"@signature-params": ` + params
	signature := ed25519.Sign(key, []byte(base))
	req.Header.Set("Signature-Input", "nightjar="+params)
	req.Header.Set("Signature", "nightjar=:"+base64.StdEncoding.EncodeToString(signature)+":")
	return nil
}

// keyID names a key in signatures: the beginning of its SHA-256.
func keyID(key ed25519.PublicKey) string {
	sum := sha256.Sum256(key)
	return base64.RawURLEncoding.EncodeToString(sum[:9])
}
