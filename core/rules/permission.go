package rules

import (
	"fmt"
	"slices"
)

// Fits tells whether a caller is one of the parties, by its name and its sites; none is
// everybody.
func Fits(list []Party, r *Rules, name string, sites []string) bool {
	if len(list) == 0 {
		return true
	}
	for i := range list {
		p := &list[i]
		switch p.Kind {
		case PartyAnyone:
			return true
		case PartySite:
			if slices.Contains(sites, p.Name) {
				return true
			}
		case PartyLabels:
			if s := r.Service(name); s != nil && p.Labels.Within(s.Labels) {
				return true
			}
		case PartyTeam:
			if slices.Contains(p.Names, name) && r.Gateway(name) == nil {
				return true
			}
		case PartyGateway:
			if name == p.Name && r.Gateway(name) != nil {
				return true
			}
		default:
			if name == p.Name && r.Gateway(name) == nil {
				return true
			}
		}
	}
	return false
}

// refuses tells whether no request of a link would be let in: where that was written, and
// why in words.
func (a *Access) refuses(r *Rules, l Link) (at Origin, by string, refused bool) {
	if a.Watch {
		return at, "", false
	}
	for i := range a.Rules {
		rule := &a.Rules[i]
		if !Fits(rule.From, r, l.From, l.Sites) || !Fits(rule.To, r, l.To, nil) {
			continue
		}
		isAll := rule.What.Describe() == "" && rule.Port == 0
		switch {
		case rule.Allow:
			return at, "", false
		case isAll && !rule.Watch:
			return rule.At, "access rule " + rule.Name + " denies it", true
		}
	}
	return a.At, "no access rule allows it", a.Default == "deny" && !l.isOwn(r)
}

// isOwn tells whether a service calls itself, which it may where no rule decides.
func (l *Link) isOwn(r *Rules) bool { return l.From == l.To && r.Gateway(l.From) == nil }

// RefusedLink is a link of which the rules would refuse every request.
type RefusedLink struct {
	Link
	By string // why, in words
	At Origin // where that was written
}

// RefusedLinks are the links of which the access rules would refuse every request.
func (r *Rules) RefusedLinks(links []Link) (out []RefusedLink) {
	if r.Access == nil {
		return nil
	}
	for _, l := range links {
		if at, by, refused := r.Access.refuses(r, l); refused && r.Service(l.To) != nil {
			out = append(out, RefusedLink{l, by, at})
		}
	}
	return out
}

// The answers of Permission.
const (
	Permitted = "allowed" // every request
	PartlySo  = "partly"  // some requests
	Forbidden = "denied"  // none
)

// Permission is what the access rules say of a link as a whole, and the rules that say
// so. It is Permitted without a section.
func (r *Rules) Permission(l Link) (state string, by []string) {
	a := r.Access
	if a == nil {
		return Permitted, nil
	}
	hasAllowed, hasDenied := false, false
	for i := range a.Rules {
		rule := &a.Rules[i]
		if !Fits(rule.From, r, l.From, l.Sites) || !Fits(rule.To, r, l.To, nil) || rule.Watch && !rule.Allow {
			continue
		}
		by = append(by, rule.Name)
		hasAllowed, hasDenied = hasAllowed || rule.Allow, hasDenied || !rule.Allow
		if rule.What.Describe() == "" && rule.Port == 0 {
			return permission(hasAllowed, hasDenied), by
		}
	}
	isAllowed := a.Default == "allow" || a.Watch || l.isOwn(r)
	return permission(hasAllowed || isAllowed, hasDenied || !isAllowed), by
}

func permission(hasAllowed, hasDenied bool) string {
	switch {
	case hasAllowed && hasDenied:
		return PartlySo
	case hasAllowed:
		return Permitted
	}
	return Forbidden
}

// RefusalOf is the finding of a link that is in use and would be refused.
func (r *Rules) RefusalOf(l RefusedLink) Finding {
	from := l.From
	if r.Gateway(from) != nil {
		from = PartyGateway + "/" + from
	}
	return Finding{
		Severity: Warning,
		Code:     CodeUsedLinkDenied,
		At:       l.At,
		Path:     "access",
		Message:  fmt.Sprintf("%s calls %s (%s), and %s", l.From, l.To, l.Used(), l.By),
		Expected: fmt.Sprintf("a rule with from: [%s], to: [%s]", from, l.To),
	}
}
