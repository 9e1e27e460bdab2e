package engine

import "strings"

// ServiceName is the service that a host means: without port, without the
// suffix .internal, in small letters.
func ServiceName(host string) string {
	return strings.TrimSuffix(bareHost(host), ".internal")
}

// unfit tells why a request cannot be carried, whatever the rules; empty: it can.
func unfit(v View) string {
	switch {
	case v.Method() == "CONNECT":
		return "the mesh carries requests and opens no tunnels: call the service by http://"
	case dotted(v.Path()):
		return "the path has a segment . or .. in it: send the path that is meant"
	}
	return ""
}

// dotted tells whether a path has a segment that means "here" or "one up",
// encoded or not, with a backslash for a slash or not. Such a path could be
// read in two ways.
func dotted(path string) bool {
	if !strings.Contains(path, "/.") && strings.IndexByte(path, '%') < 0 && strings.IndexByte(path, '\\') < 0 {
		return false
	}
	for seg := range strings.SplitSeq(path, "/") {
		d := decoded(seg)
		if d == "." || d == ".." {
			return true
		}
		for part := range strings.FieldsFuncSeq(d, func(c rune) bool { return c == '/' || c == '\\' }) {
			if part == ".." {
				return true
			}
		}
	}
	return false
}
