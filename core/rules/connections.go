package rules

import (
	"fmt"
	"slices"
)

// connections: a connection of a service that speaks TCP has nothing of a
// request, so its routes can ask for nothing but the caller, and only send.
func (c *checker) connections(s *Service, path string) {
	for i, rt := range s.Routes {
		p := fmt.Sprintf("%s.routes[%d]", path, i)
		wrong := ""
		switch {
		case slices.ContainsFunc(rt.When, ofRequests):
			wrong = "when"
		case rt.Redirect != nil:
			wrong = "redirect"
		case rt.Reply != nil:
			wrong = "reply"
		case rt.Rewrite != nil:
			wrong = "rewrite"
		case rt.Headers != nil:
			wrong = "headers"
		case rt.Mirror != nil:
			wrong = "mirror"
		case rt.Stick != nil && rt.Stick.By.Kind != "from":
			wrong = "stick"
		default:
			continue
		}
		c.mistake(
			rt.At,
			p+"."+wrong,
			CodeBadValue,
			fmt.Sprintf("service %s speaks TCP: connections have no method, path, header or cookie", s.Name),
			"only from and site in when, and send",
		)
	}
}

// ofRequests tells whether a condition looks at something that a connection
// does not have.
func ofRequests(w Condition) bool {
	return w.Path != "" || w.PathRegex != "" ||
		len(w.Methods)+len(w.Hosts)+len(w.Claims)+len(w.Addresses)+len(w.Headers)+len(w.Query)+len(w.Cookies) > 0 ||
		slices.ContainsFunc(w.Any, ofRequests) ||
		slices.ContainsFunc(w.All, ofRequests) ||
		slices.ContainsFunc(w.Not, ofRequests)
}
