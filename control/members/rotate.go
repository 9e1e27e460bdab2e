package members

import (
	"context"
	"fmt"
	"time"

	"nightjar/control/actor"
	"nightjar/control/fleet"
	"nightjar/control/problem"
	"nightjar/identity"
	"nightjar/identity/authority"
	"nightjar/store"
)

// waiting are the proxies that are not as far as the phase of a rotation wants.
func waiting(s authority.Status, all []fleet.Certified) []string {
	var out []string
	for _, p := range all {
		isBehind := false
		switch s.Phase {
		case authority.Announcing, authority.Retiring:
			isBehind = p.Trusts != s.Generation
		case authority.Signing:
			isBehind = !p.IsByCurrent
		}
		if isBehind {
			out = append(out, p.ID)
		}
	}
	return out
}

// Rotate begins to replace the authority.
func (m *Members) Rotate(ctx context.Context) error {
	if err := m.Authority.Rotate(); err != nil {
		return asProblem(err)
	}
	m.changed(ctx, "authority-rotation-started", "a new root is announced to all proxies")
	return nil
}

func asProblem(err error) error {
	if err == authority.ErrRotating {
		return problem.Running("%s", err)
	}
	return err
}

// Request makes a signing request for an authority elsewhere, in PEM.
func (m *Members) Request(ctx context.Context) (string, error) {
	text, err := m.Authority.Request()
	if err == nil {
		m.Journal.Add(ctx, m.entry("", "authority-requested", identity.Name{}, "a signing request was made"))
	}
	return string(text), err
}

// Install takes the certificate for a signing request into use.
func (m *Members) Install(ctx context.Context, chain string) error {
	if err := m.Authority.Install([]byte(chain)); err != nil {
		if err == authority.ErrRotating {
			return asProblem(err)
		}
		return problem.Invalid("nothing was installed: %s", err)
	}
	m.changed(ctx, "authority-installed", "signed by "+m.Authority.Status().Signer.Issuer.String())
	return nil
}

// changed gives the service itself what the authority says now, and logs it.
func (m *Members) changed(ctx context.Context, kind, detail string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.Journal.Add(ctx, m.entry("", kind, identity.Name{}, detail))
	if err := m.renewNode(); err != nil {
		m.Log.Error("the service's own certificate cannot be renewed", "error", err)
	}
}

// Step lets time pass: rotations go on, the service's own certificate is renewed, and
// old records go.
func (m *Members) Step(ctx context.Context) error {
	now := m.Now()
	s := m.Authority.Status()
	if s.Phase != authority.Steady && now.Sub(s.Since) > adoptTime && len(waiting(s, m.Fleet.Certified())) == 0 {
		if err := m.Authority.Advance(); err != nil {
			return err
		}
		m.tellPhase(ctx)
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.Node != nil && now.After(m.renewAt) {
		if err := m.renewNode(); err != nil {
			return err
		}
	}
	if now.Sub(m.pruned) < time.Hour {
		return nil
	}
	m.pruned = now
	warning, err := m.Authority.Tend()
	if err != nil {
		return err
	}
	if warning != m.warned && warning != "" {
		m.Log.Warn(warning)
		m.Journal.Add(ctx, m.entry(fleet.ServiceCaller, "authority-expiring", identity.Name{}, warning))
	}
	m.warned = warning
	return m.Records.Apply(ctx, store.PruneMembers{Before: now.Add(-keptFor)})
}

// tellPhase logs the phase that a rotation has come to.
func (m *Members) tellPhase(ctx context.Context) {
	s := m.Authority.Status()
	detail := map[string]string{
		authority.Signing:  "all proxies trust the new root too; they get certificates of it",
		authority.Retiring: "all certificates are of the new root; the old one is retired",
		authority.Steady:   fmt.Sprintf("done: proxies trust %s alone", s.Roots[0].Subject.CommonName),
	}[s.Phase]
	kind := "authority-rotation"
	if s.Phase == authority.Steady {
		kind = "authority-rotated"
	}
	m.changed(actor.With(ctx, actor.Actor{Name: fleet.ServiceCaller}), kind, detail)
}
