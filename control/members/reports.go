package members

import (
	"nightjar/identity"
	"nightjar/wire"
)

// CheckDelta tells whether a proxy may report these counts: requests that its workload
// or gateway sent, and those that its workload answered.
func (m *Members) CheckDelta(peer identity.Peer, d *wire.Delta) error {
	if d.Caller != callerOf(peer) || d.CallerVersion != peer.Version {
		return refuse(
			"the certificate is that of %s/%s, which may not count the requests of %s/%s",
			peer.Name,
			peer.Version,
			d.Caller,
			d.CallerVersion,
		)
	}
	if d.CallerSite != peer.Site {
		return refuse("the certificate is for site %q, and the requests were counted at %q", peer.Site, d.CallerSite)
	}
	for i := range d.Series {
		s := &d.Series[i]
		if s.App && (peer.Kind != identity.Service || s.Service != peer.Name.Name || s.Instance != peer.ID) {
			return refuse(
				"the certificate is that of instance %s, which may not count what %s answered",
				peer.ID,
				s.Instance,
			)
		}
	}
	return nil
}

// CheckSeen tells whether a proxy may report these requests and spans: those that it
// carried. It notes in the requests who the ends of their hops proved to be.
func (m *Members) CheckSeen(peer identity.Peer, s *wire.Seen) error {
	mine := func(proxy string) bool { return proxy == peer.ID }
	records := func(list []wire.Record) bool {
		for i := range list {
			r := &list[i]
			if !mine(r.Proxy) || r.Caller != callerOf(peer) {
				return false
			}
			r.CallerSite = peer.Site
			if r.Mutual {
				called := identity.Member{
					Name:   identity.Name{Kind: identity.Service, Name: r.Service},
					Domain: peer.Domain,
				}
				r.CallerIdentity, r.ServiceIdentity = peer.URI(), called.URI()
			}
		}
		return true
	}
	isMine := records(s.Failures)
	for _, b := range s.Watches {
		isMine = isMine && records(b.Records)
	}
	for i := range s.Spans {
		isMine = isMine && mine(s.Spans[i].Proxy)
	}
	if !isMine {
		return refuse("the certificate is that of proxy %s, which may only report its own requests", peer.ID)
	}
	return nil
}

// callerOf is the name by which the requests of a proxy are counted. A crossing makes none;
// its site may be called like a service.
func callerOf(peer identity.Peer) string {
	if peer.Kind == identity.Crossing {
		return peer.Name.String()
	}
	return peer.Name.Name
}
