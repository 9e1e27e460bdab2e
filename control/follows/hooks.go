package follows

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"strings"
)

// newHook is a secret of 130 random bits for a hook address.
func newHook() string { return strings.ToLower(rand.Text()) }

// hashOf is by what a secret is looked up: how long that takes says nothing about it.
func hashOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}
