package engine

import (
	"fmt"
	"net/netip"
	"slices"

	"nightjar/core/rules"
)

// Outsider is what a gateway knows of whoever sent a request. Beside workloads only the
// address is known.
type Outsider interface {
	// Address is the address of the caller; invalid: it is not known. At a gateway with
	// proxies in front that it trusts, it is what the first of them said.
	Address() netip.Addr
	// Ask says which token Proof and Claim are about from now on; nil: none.
	Ask(by *rules.JWT)
	// Proof tells what the request showed.
	Proof() Proof
	// Claim are the values of a claim of a token that is good.
	Claim(name string) []string
}

// Proof tells what came of asking a request for a token.
type Proof struct {
	State ProofState
	Why   string // why a token is bad, or none can be checked
}

// ProofState is what a request showed.
type ProofState uint8

// The states.
const (
	ProofNone      ProofState = iota // it has no token
	ProofGood                        // its token is good
	ProofBad                         // its token is not
	ProofUnchecked                   // there are no keys to check tokens by
)

// Nobody is an Outsider of whom nothing is known.
type Nobody struct{}

// Address is invalid.
func (Nobody) Address() netip.Addr { return netip.Addr{} }

// Ask does nothing.
func (Nobody) Ask(*rules.JWT) {}

// Proof is that of no token.
func (Nobody) Proof() Proof { return Proof{} }

// Claim is nothing.
func (Nobody) Claim(string) []string { return nil }

// Known is an Outsider of whom all is known beforehand.
type Known struct {
	Addr     netip.Addr
	HasToken bool                // which is good, whoever asks
	Claims   map[string][]string // of the token
}

// Address is Addr.
func (k *Known) Address() netip.Addr { return k.Addr }

// Ask does nothing.
func (k *Known) Ask(*rules.JWT) {}

// Proof is that of a good token, or of none.
func (k *Known) Proof() Proof {
	if k.HasToken {
		return Proof{State: ProofGood}
	}
	return Proof{}
}

// Claim are the values of a claim.
func (k *Known) Claim(name string) []string { return k.Claims[name] }

// prove asks for the token that a route of a gateway wants. over tells that the request
// ends there.
func (w *walk) prove(by visitor, g *rules.Gateway, rt *Route) (over bool) {
	asks := g.Authenticate
	if own := rt.rule.Authenticate; own != nil {
		asks = own
		w.view.Ask(own.JWT)
	}
	if asks == nil || asks.JWT == nil {
		return false
	}
	refuse := func(r Reason, why string) bool {
		by.refuse(Refuse(r, why))
		return true
	}
	switch p := w.view.Proof(); p.State {
	case ProofNone:
		if asks.JWT.IsOptional {
			return false
		}
		return refuse(Unauthenticated, "the request has no bearer token of "+asks.JWT.Issuer)
	case ProofBad:
		return refuse(Unauthenticated, p.Why)
	case ProofUnchecked:
		s := Refuse(Unauthenticated, p.Why)
		s.Status = 503 // not the caller's fault
		by.refuse(s)
		return true
	}
	for i := range rt.require {
		if t := &rt.require[i]; !t.holdsClaim(w.view) {
			return refuse(Denied, fmt.Sprintf("route %s asks for a token whose %s, found %s",
				rt.Name(), t.rule.Describe(), found(w.view.Claim(t.rule.Name))))
		}
	}
	return false
}

// addressIn tells whether an address is in one of the networks.
func addressIn(networks []netip.Prefix, a netip.Addr) bool {
	return slices.ContainsFunc(networks, func(p netip.Prefix) bool { return p.Contains(a) })
}

// holdsClaim tests every value of a claim; one that fits is enough.
func (t *test) holdsClaim(v View) bool {
	values := v.Claim(t.rule.Name)
	if t.rule.Op == rules.Absent {
		return (len(values) == 0) != t.rule.Not
	}
	return slices.ContainsFunc(values, t.fits) != t.rule.Not
}

// Block is the part of an address by which callers are told apart: that of IPv4 whole, of
// IPv6 the network of 64 bits, within which a caller can choose its address.
func Block(a netip.Addr) netip.Prefix {
	bits := 32
	if a = a.Unmap(); a.Is6() {
		bits = 64
	}
	p, err := a.WithZone("").Prefix(bits)
	if err != nil {
		return netip.Prefix{}
	}
	return p
}

// appendKey appends the value of a key of a limit.
func appendKey(to []byte, k *rules.Key, v View) []byte {
	if k.Kind == "address" {
		if p := Block(v.Address()); p.IsValid() {
			return p.Addr().AppendTo(to)
		}
		return to
	}
	value, _ := keyValue(k, v)
	return append(to, value...)
}
