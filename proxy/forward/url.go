package forward

import (
	"net/url"
	"strings"

	"nightjar/core/engine"
)

// URL is the address of a request to an instance. The path goes out exactly as the engine
// gave it.
func URL(to *engine.Instance, path, query string, force bool) *url.URL {
	u := &url.URL{Scheme: "http", Host: to.Address, RawQuery: query, ForceQuery: force}
	if to.Secure {
		u.Scheme = "https"
	}
	if strings.HasPrefix(path, "//") {
		u.RawPath = path
		u.Path, _ = url.PathUnescape(path)
		return u
	}
	u.Opaque = path
	return u
}
