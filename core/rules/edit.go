package rules

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"
)

// SplitRoute tells which route of a service a change of weights means when
// none is named: the only one that already splits, or else the only one that
// sends to a version of the service at all.
func SplitRoute(s *Service, name string) (*Route, error) {
	var all, splitting []*Route
	var names []string
	for _, rt := range s.Routes {
		if len(rt.Send) == 0 { // it answers by itself
			if rt.Name == name {
				return nil, fmt.Errorf("route %s of %s has no send, so it has no weights", name, s.Name)
			}
			continue
		}
		if rt.Name == name {
			return rt, nil
		}
		names = append(names, rt.Name)
		all = append(all, rt)
		if len(rt.Send) > 1 {
			splitting = append(splitting, rt)
		}
	}
	switch {
	case name != "":
		return nil, fmt.Errorf("service %s has no route %s: expected %s", s.Name, name, oneOf(name, names))
	case len(splitting) == 1:
		return splitting[0], nil
	case len(all) == 1:
		return all[0], nil
	case len(all) == 0:
		return nil, fmt.Errorf(
			"service %s has no routes that send in the rules in force: publish a rule file that gives it one",
			s.Name,
		)
	}
	return nil, fmt.Errorf(
		"service %s has several routes that could be meant: name one of %s",
		s.Name,
		strings.Join(names, ", "),
	)
}

// SetSend writes new targets into the route's place in the text of its file
// and leaves every other byte alone. The caller checks the result anew.
func SetSend(files []File, rt *Route, home string, send []Target) ([]File, error) {
	out := append([]File(nil), files...)
	for i, f := range out {
		if f.Name != rt.SendAt.File {
			continue
		}
		root, err := parse(f.Text)
		if err != nil || root == nil {
			return nil, fmt.Errorf("reading %s: %w", f.Name, err)
		}
		n := find(root, rt.SendAt.Line, rt.SendAt.Col)
		if n == nil {
			return nil, fmt.Errorf("%s: the route is not there any more", rt.SendAt)
		}
		text := f.Text
		from := offset(text, n.Line, n.Column)
		to, ok := end(text, n)
		if !ok {
			return nil, fmt.Errorf(
				"%s: targets in this form cannot be edited in place: change the file, then publish it",
				rt.SendAt,
			)
		}
		out[i].Text = text[:from] + sendSource(send, home) + text[to:]
		return out, nil
	}
	return nil, fmt.Errorf("%s is not among the files", rt.SendAt.File)
}

// sendSource is the targets as they stand in a rule file.
func sendSource(send []Target, home string) string {
	if len(send) == 1 {
		return send[0].Short(home)
	}
	var parts []string
	for _, t := range send {
		parts = append(parts, fmt.Sprintf("%s: %s", t.Short(home), t.Weight))
	}
	return "{" + strings.Join(parts, ", ") + "}"
}

func find(n *yaml.Node, line, col int) *yaml.Node {
	for i, c := range n.Content {
		// The first key of a block mapping begins where the mapping does;
		// the mapping is what a position means.
		if c.Line == line && c.Column == col && n.Kind == yaml.MappingNode && i%2 == 1 {
			return c
		}
		if hit := find(c, line, col); hit != nil {
			return hit
		}
	}
	return nil
}

// offset is the byte at line and column, both from 1, columns in characters.
func offset(text string, line, col int) int {
	at := 0
	for ; line > 1; line-- {
		at += strings.IndexByte(text[at:], '\n') + 1
	}
	if strings.HasPrefix(text, "\ufeff") && at == 0 {
		at = len("\ufeff")
	}
	for i := range text[at:] {
		if col--; col == 0 {
			return at + i
		}
	}
	return len(text)
}

// end is the byte after the node. Scalars over several lines, anchors and
// aliases are not understood.
func end(text string, n *yaml.Node) (int, bool) {
	from := offset(text, n.Line, n.Column)
	if n.Anchor != "" || n.Alias != nil {
		return 0, false
	}
	switch {
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0:
		if to := from + len(n.Value) + 2; to <= len(text) && text[from+1:to-1] == n.Value {
			return to, true
		}
	case n.Kind == yaml.ScalarNode:
		return from + len(n.Value), strings.HasPrefix(text[from:], n.Value)
	case n.Kind == yaml.MappingNode && n.Style&yaml.FlowStyle != 0:
		last := from + 1
		if len(n.Content) > 0 {
			var ok bool
			if last, ok = end(text, n.Content[len(n.Content)-1]); !ok {
				return 0, false
			}
		}
		rest := text[last:]
		for inComment, i := false, 0; i < len(rest); i++ {
			switch {
			case rest[i] == '\n':
				inComment = false
			case rest[i] == '#':
				inComment = true
			case rest[i] == '}' && !inComment:
				return last + i + 1, true
			}
		}
	case n.Kind == yaml.MappingNode && len(n.Content) > 0:
		return end(text, n.Content[len(n.Content)-1])
	}
	return 0, false
}
