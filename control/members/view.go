package members

import (
	"nightjar/api/model"
	"nightjar/identity"
	"nightjar/store"
)

// View is the authority as people see it, and how far the proxies are.
func (m *Members) View() model.Authority {
	s := m.Authority.Status()
	all := m.Fleet.Certified()
	out := model.Authority{
		Domain:      s.Domain,
		Generation:  s.Generation,
		Phase:       s.Phase,
		Since:       s.Since,
		LifeSeconds: int64(s.Life.Seconds()),
		Roots:       []model.AuthorityRoot{},
		Signer: model.AuthoritySigner{
			Name:    s.Signer.Subject.CommonName,
			Issuer:  s.Signer.Issuer.CommonName,
			Expires: s.Signer.NotAfter,
		},
		HasRequest: s.IsPending,
		Proxies:    len(all),
		Waiting:    append([]string{}, waiting(s, all)...),
	}
	for _, r := range s.Roots {
		out.Roots = append(out.Roots, model.AuthorityRoot{
			Name:        r.Subject.CommonName,
			Fingerprint: r.Fingerprint,
			Expires:     r.NotAfter,
			Signs:       r.Signs,
			HasKey:      r.HasKey,
		})
	}
	return out
}

// tokenView is a join token without its secret.
func tokenView(t store.JoinToken) model.JoinToken {
	out := model.JoinToken{
		ID:        t.ID,
		Version:   t.Version,
		Site:      t.Site,
		Addresses: t.Addresses,
		Uses:      t.Uses,
		Used:      t.Used,
		Created:   t.Created,
		Expires:   t.Expires,
		By:        t.By,
	}
	switch t.Kind {
	case identity.Gateway:
		out.Gateway = t.Name
	case identity.Crossing:
		out.Crossing = t.Name
	default:
		out.Service = t.Name
	}
	return out
}
