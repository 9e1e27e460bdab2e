package carry

import (
	"net/netip"
	"slices"
	"strings"
	"time"

	"nightjar/core/engine"
	"nightjar/core/rules"
	"nightjar/proxy/edge"
	"nightjar/proxy/forward"
)

// visitor is what is known of whoever sent a request, besides being a member. It is part of
// a bearer. Nothing is looked at before somebody asks.
type visitor struct {
	of    bearer
	edge  *edge.Edge // nil: not at a gateway
	addr  netip.Addr
	isAt  bool // addr is known
	by    *rules.JWT
	token *edge.Token // nil: none, or it was not looked at yet
	proof engine.Proof
	isGot bool // proof is known
}

// begin is called with every request. At a gateway the edge comes with the table.
func (v *visitor) begin(of bearer) { *v = visitor{of: of} }

func (v *visitor) outside() *visitor { return v }

// trust is whom the edge believes; nil: nobody.
func (v *visitor) trust() *rules.Trust {
	if v.edge == nil {
		return nil
	}
	return v.edge.Trust
}

// Address is the address of the caller.
func (v *visitor) Address() netip.Addr {
	if !v.isAt && v.of != nil {
		came := v.of.came()
		way := forward.WayOf(v.trust(), came.Fields)
		v.addr, v.isAt = way.Address(came.Remote), true
	}
	return v.addr
}

// Ask says which token the request is asked for.
func (v *visitor) Ask(by *rules.JWT) {
	if v.by != by {
		v.by, v.token, v.proof, v.isGot = by, nil, engine.Proof{}, false
	}
}

// Proof tells what the request showed.
func (v *visitor) Proof() engine.Proof {
	if !v.isGot {
		v.proof, v.isGot = v.look(), true
	}
	return v.proof
}

// look checks the bearer token of the request (RFC 6750, section 2.1).
func (v *visitor) look() engine.Proof {
	if v.by == nil || v.edge == nil {
		return engine.Proof{}
	}
	bad := func(why string) engine.Proof { return engine.Proof{State: engine.ProofBad, Why: why} }
	text := ""
	for _, value := range v.of.Header("Authorization") {
		scheme, rest, isOne := strings.Cut(value, " ")
		if !isOne || !strings.EqualFold(scheme, "Bearer") {
			continue
		}
		if text != "" {
			return bad("the request has two bearer tokens")
		}
		text = strings.Trim(rest, " ")
	}
	if text == "" {
		return engine.Proof{}
	}
	token, err := v.edge.Verify(v.by, text, time.Now())
	switch {
	case err == nil:
		v.token = token
		return engine.Proof{State: engine.ProofGood}
	case edge.IsUnchecked(err):
		return engine.Proof{State: engine.ProofUnchecked, Why: err.Error()}
	}
	return bad(err.Error())
}

// Claim are the values of a claim of a token that is good.
func (v *visitor) Claim(name string) []string {
	if v.Proof(); v.token == nil {
		return nil
	}
	return v.token.Claim(name)
}

// keepsTrailer tells whether a field in the trailer of the request goes on.
func (v *visitor) keepsTrailer(name string) bool {
	isOwned := func(own string) bool { return strings.EqualFold(own, name) }
	return forward.KeepsTrailer(name) && (v.edge == nil || !slices.ContainsFunc(v.edge.Owned, isOwned))
}

// tell adds to how a request came what the edge decides about its fields.
func (v *visitor) tell(c *forward.Came) {
	if e := v.edge; e != nil {
		c.Trust, c.Kept, c.Owned = e.Trust, e.Kept, e.Owned
		if v.token != nil {
			c.Shown = v.token.Fields
		}
	}
}
