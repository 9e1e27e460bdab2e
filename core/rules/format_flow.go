package rules

import (
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// maxFlowLine is how long a line may be for its brackets to be written anew,
// since finding each value in it takes time in proportion.
const maxFlowLine = 4096

// flow is a piece of a line that is written anew.
type flow struct {
	line, from, to int // bytes within the line
	text           string
}

// gap leaves one space between a key and its value on the same line.
func (l *layout) gap(k, v *yaml.Node) {
	if k.Line != v.Line || k.Line > len(l.lines) || k.Kind != yaml.ScalarNode {
		return
	}
	s := l.lines[k.Line-1]
	from := byteOf(s, k.Column)
	if from >= len(s) || len(s) > maxFlowLine {
		return
	}
	_, end, ok := scalarText(s, from, k)
	to := byteOf(s, v.Column)
	if ok && end < to && to < len(s) && strings.TrimSpace(s[end:to]) == ":" {
		l.flows = append(l.flows, flow{k.Line, end, to, ": "})
	}
}

// flow writes brackets that stand on one line with single spaces.
func (l *layout) flow(n *yaml.Node) {
	if n.Kind != yaml.MappingNode && n.Kind != yaml.SequenceNode || n.Style&yaml.FlowStyle == 0 || n.Anchor != "" ||
		n.Line > len(l.lines) {
		return
	}
	s := l.lines[n.Line-1]
	if len(s) > maxFlowLine {
		return
	}
	from := byteOf(s, n.Column)
	text, to, ok := flowText(s, from, n)
	if ok {
		l.flows = append(l.flows, flow{n.Line, from, to, text})
	}
}

// flowText is the brackets of n, which begin at the byte from of line s, in
// their canonical form, and where they end. It is not ok when they take more
// than the line, or hold what it does not know.
func flowText(s string, from int, n *yaml.Node) (text string, to int, ok bool) {
	pair := "{}"
	if n.Kind == yaml.SequenceNode {
		pair = "[]"
	}
	if from >= len(s) || s[from] != pair[0] || n.Anchor != "" {
		return "", 0, false
	}
	var b strings.Builder
	b.WriteByte(pair[0])
	at := from + 1
	for i, c := range n.Content {
		switch {
		case i == 0:
		case n.Kind == yaml.MappingNode && i%2 == 1:
			b.WriteString(": ")
		default:
			b.WriteString(", ")
		}
		if c.Line != n.Line || c.Anchor != "" || c.Kind == yaml.AliasNode || c.Style&yaml.TaggedStyle != 0 {
			return "", 0, false
		}
		start := byteOf(s, c.Column)
		var item string
		if c.Kind == yaml.ScalarNode {
			if start < at {
				return "", 0, false
			}
			item, at, ok = scalarText(s, start, c)
		} else {
			item, at, ok = flowText(s, start, c)
		}
		if !ok {
			return "", 0, false
		}
		b.WriteString(item)
	}
	for at < len(s) && strings.IndexByte(" ,", s[at]) >= 0 {
		at++
	}
	if at >= len(s) || s[at] != pair[1] {
		return "", 0, false
	}
	b.WriteByte(pair[1])
	return b.String(), at + 1, true
}

// scalarText is the text of a scalar on one line, as it was written.
func scalarText(s string, from int, n *yaml.Node) (string, int, bool) {
	if n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0 {
		l := layout{lines: []string{s}}
		one := *n
		one.Line, one.Column = 1, utf8.RuneCountInString(s[:from])+1
		if from >= len(s) || l.quoteEnd(&one) != 1 {
			return "", 0, false
		}
		for to := from + 2; to <= len(s); to++ {
			var got yaml.Node
			if s[to-1] == s[from] && yaml.Load([]byte(s[from:to]), &got) == nil && len(got.Content) == 1 &&
				got.Content[0].Value == n.Value {
				return s[from:to], to, true
			}
		}
		return "", 0, false
	}
	if n.Value == "" || !strings.HasPrefix(s[from:], n.Value) {
		return "", 0, false
	}
	return n.Value, from + len(n.Value), true
}
