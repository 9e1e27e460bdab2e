package calls

import (
	"cmp"
	"net/http"
	"slices"
	"strings"

	"nightjar/control/fleet"
	"nightjar/core/rules"
	"nightjar/load"
	"nightjar/wire"
)

// HostOf is the host that the requests of a load name, when they enter the mesh by
// a door, and the caller that they count for. gateway is the one that the load goes
// to; nil: it goes to a service.
func HostOf(l *rules.Load, gateway *rules.Gateway, door string) (host, caller string) {
	if gateway == nil {
		return l.To, cmp.Or(l.From, fleet.ServiceCaller)
	}
	host = door
	if i := slices.IndexFunc(gateway.Hosts, func(h string) bool { return !strings.HasPrefix(h, "*") }); i >= 0 {
		host = gateway.Hosts[i]
	}
	return host, gateway.Name
}

// Messages are the requests of a load: the usual one, and then one for each of its
// shares. They show the key of the service's own requests.
func Messages(l *rules.Load, host, key string) [][]byte {
	messages := [][]byte{message(l, host, key, nil, nil)}
	for _, s := range l.Shares {
		messages = append(messages, message(l, host, key, s.Headers, s.Cookies))
	}
	return messages
}

func message(l *rules.Load, host, key string, headers, cookies []rules.Field) []byte {
	h := http.Header{"User-Agent": {"nightjar"}, http.CanonicalHeaderKey(wire.HeaderAsk): {key}}
	for _, f := range slices.Concat(l.Headers, headers) {
		h.Set(f.Name, f.Value)
	}
	var pairs []string
	for _, f := range slices.Concat(l.Cookies, cookies) {
		pairs = append(pairs, f.Name+"="+f.Value)
	}
	if len(pairs) > 0 {
		h["Cookie"] = append(h["Cookie"], strings.Join(pairs, "; "))
	}
	if own := h.Get("Host"); own != "" {
		host = own
		h.Del("Host")
	}
	return load.Message(l.Method, l.Path, host, h, l.Body)
}
