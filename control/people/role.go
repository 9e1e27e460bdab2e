package people

import (
	"slices"
	"strings"

	"nightjar/control/problem"
	"nightjar/core/rules"
)

// Role is what somebody may do.
type Role string

// The roles, each of which may do all that those before it may.
const (
	Viewer Role = "viewer" // look
	Editor Role = "editor" // change rules, run trials, releases and drills, send requests
	Admin  Role = "admin"  // people, the authority, proxies that join

	Anyone Role = "anyone" // nobody has it: it is what needs no credential
)

var roles = []Role{Viewer, Editor, Admin}

// May tells whether a role may do what needs another one. What nobody named a role for
// needs the highest.
func (r Role) May(need Role) bool {
	at := slices.Index(roles, need)
	if at < 0 {
		at = len(roles) - 1
	}
	return need == Anyone || slices.Index(roles, r) >= at
}

// ParseRole reads the name of a role.
func ParseRole(text string) (Role, error) {
	if slices.Contains(roles, Role(text)) {
		return Role(text), nil
	}
	var names []string
	for _, r := range roles {
		names = append(names, string(r))
	}
	if text == "" {
		return "", problem.Invalid("a role is needed: %s", strings.Join(names, ", "))
	}
	return "", problem.Invalid("there is no role %q: %s", text, rules.OneOf(text, names))
}
