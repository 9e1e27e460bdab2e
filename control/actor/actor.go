// Package actor is who acts: a person, or a program that acts for one. A context carries
// it from where a credential was checked to where something is recorded.
package actor

import "context"

// Actor is who acts.
type Actor struct {
	Name       string // as every record has it
	Credential string // what proved it: local, token ID, or session ID
	Address    string // IP address that it acts from; empty: this machine, by the socket
}

// Unknown is the name of who acts where nobody was told.
const Unknown = "unknown"

type key struct{}

// With is a context in which somebody acts.
func With(ctx context.Context, a Actor) context.Context { return context.WithValue(ctx, key{}, a) }

// Of is who acts in a context; its Name is Unknown when nobody was named.
func Of(ctx context.Context) Actor {
	if a, ok := ctx.Value(key{}).(Actor); ok {
		return a
	}
	return Actor{Name: Unknown}
}

// Name is the name of who acts in a context.
func Name(ctx context.Context) string { return Of(ctx).Name }
