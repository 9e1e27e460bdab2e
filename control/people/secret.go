package people

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"strings"
)

// tokenMark begins the text of an access token, so that one is recognised where it should
// not be.
const tokenMark = "nightjar-token-"

// sessionMark begins the text of a session of a command.
const sessionMark = "nightjar-session-"

// SessionText is a session in one word, as a command sends it.
func SessionText(secret string) string { return sessionMark + secret }

const (
	secretBytes = 32 // 256 random bits
	idLetters   = 8  // of the id of a credential, which is no secret
)

// newSecret makes a secret.
func newSecret() string {
	var b [secretBytes]byte
	rand.Read(b[:]) // it never fails
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// newID makes the id of a credential.
func newID() string { return strings.ToLower(rand.Text()[:idLetters]) }

// hashOf is how a secret is kept. Random bits need no salt, and no slow hash. A secret is
// found by its hash, so what comparing takes says nothing of the secret.
func hashOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// tokenText is an access token in one word.
func tokenText(id, secret string) string { return tokenMark + id + "-" + secret }

// splitToken is the reverse of tokenText. It knows shapes alone.
func splitToken(text string) (id, secret string, ok bool) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(text), tokenMark)
	if !ok || len(rest) != idLetters+1+base64.RawURLEncoding.EncodedLen(secretBytes) || rest[idLetters] != '-' {
		return "", "", false
	}
	return rest[:idLetters], rest[idLetters+1:], true
}
