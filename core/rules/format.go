package rules

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// Format lays a rule file out anew: two spaces a level, lists one level below
// their key, single-line brackets with single spaces, one empty line at most,
// no white space at the ends of lines. Comments, the order of things and the
// way in which values are written stay. A JSON file stays JSON.
//
// What was read from the file before and after is the same, and formatting
// twice is formatting once. A file of which that could not be said comes back
// as it was. It fails for text that is not one YAML document, or that has more
// than 2 MiB.
func Format(f File) (string, error) {
	if len(f.Text) > maxFormat {
		return "", fmt.Errorf(
			"%s has %d bytes; at most %d can be formatted: split the file",
			f.Name,
			len(f.Text),
			maxFormat,
		)
	}
	text := strings.TrimPrefix(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(f.Text), "\ufeff")
	before, err := document(text)
	if err != nil {
		r := &reader{common: &common{}, file: f.Name}
		r.syntax(err)
		return "", fmt.Errorf("%s: %s", r.findings[0].At, r.findings[0].Message)
	}
	once := layOut(text, before)
	if again, err := document(once); err != nil || !sameNodes(before, again) ||
		!slices.Equal(comments(text), comments(once)) ||
		layOut(once, again) != once {
		return f.Text, nil
	}
	return once, nil
}

// document parses text; nil for a file without a document.
func document(text string) (*yaml.Node, error) {
	root, err := parse(text)
	if err != nil || root == nil {
		return nil, err
	}
	nodes := 0
	if bad, why := measure(root, 1, &nodes); bad != nil {
		return nil, fmt.Errorf("line %d: %s", bad.Line, why)
	}
	return root, nil
}

// sameNodes tells whether two documents say the same in the same words.
func sameNodes(a, b *yaml.Node) bool {
	if a == nil || b == nil {
		return a == b
	}
	if a.Kind != b.Kind || a.Tag != b.Tag || a.Value != b.Value || a.Anchor != b.Anchor ||
		len(a.Content) != len(b.Content) {
		return false
	}
	for i := range a.Content {
		if !sameNodes(a.Content[i], b.Content[i]) {
			return false
		}
	}
	return true
}

// comments are the pieces of text that may be comments, in order, without the
// spaces in them: what only looks like one may get others.
func comments(text string) []string {
	var out []string
	for line := range strings.SplitSeq(text, "\n") {
		for i := 0; i < len(line); i++ {
			if line[i] == '#' && (i == 0 || line[i-1] == ' ' || line[i-1] == '\t') {
				out = append(out, strings.Join(strings.Fields(line[i:]), ""))
				break
			}
		}
	}
	return out
}

// maxFormat is the most bytes that Format takes.
const maxFormat = 2 << 20

func layOut(text string, root *yaml.Node) string {
	if root != nil && root.Style&yaml.FlowStyle != 0 && json.Valid([]byte(text)) {
		var b bytes.Buffer
		if json.Indent(&b, []byte(strings.TrimSpace(text)), "", "  ") == nil {
			return b.String() + "\n"
		}
	}
	l := &layout{lines: strings.Split(text, "\n"), line: map[int]placed{}, frozen: map[int]int{}}
	if root != nil {
		l.block(root, 0, 0)
	}
	return l.write()
}

// layout works line by line: it knows for each line that begins with something
// of the document's structure how far in it belongs, and moves the lines in
// between along with it.
type layout struct {
	lines  []string
	line   map[int]placed // by line, from 1
	frozen map[int]int    // lines inside a text of several lines, with the line where it began
	flows  []flow
}

// placed is where a line belongs.
type placed struct {
	indent int // spaces before the first dash or word
	dashes int // of lists that begin on this line, each with what follows on the line
}

// begins tells at which column, from 1, the text of a line begins.
func (l *layout) begins(line int) int {
	if line < 1 || line > len(l.lines) {
		return 1
	}
	s := l.lines[line-1]
	return len(s) - len(strings.TrimLeft(s, " ")) + 1
}

// block places a value whose lines belong indent spaces in. dashes is how many
// dashes stand before it on its first line.
func (l *layout) block(n *yaml.Node, indent, dashes int) {
	switch {
	case n.Kind == yaml.MappingNode && n.Style&yaml.FlowStyle == 0:
		for i := 0; i+1 < len(n.Content); i += 2 {
			k, v := n.Content[i], n.Content[i+1]
			if i > 0 || dashes == 0 {
				l.place(k.Line, indent, 0)
			}
			l.scalar(k, k.Column)
			l.value(v, k, indent)
			l.gap(k, v)
		}
	case n.Kind == yaml.SequenceNode && n.Style&yaml.FlowStyle == 0:
		for i, c := range n.Content {
			if d := l.loneDash(c); d > 0 { // the item begins on a line after its dash
				l.place(d, indent, 1)
				l.block(c, indent+2, 0)
				if c.Kind == yaml.ScalarNode || c.Kind == yaml.AliasNode || c.Style&yaml.FlowStyle != 0 {
					l.place(c.Line, indent+2, 0)
				}
				continue
			}
			if i > 0 || dashes == 0 {
				l.place(c.Line, indent, 1)
			} else if p, ok := l.line[c.Line]; ok {
				p.dashes++
				l.line[c.Line] = p
			}
			before := 1
			if i == 0 {
				before += dashes
			}
			l.block(c, indent+2, before)
		}
	default:
		l.scalar(n, l.begins(n.Line))
		l.flow(n)
	}
}

// loneDash is the line of the dash of a list's item when the item begins on a
// later one; 0: it does not.
func (l *layout) loneDash(c *yaml.Node) int {
	if c.Line > len(l.lines) || strings.TrimSpace(l.lines[c.Line-1][:byteOf(l.lines[c.Line-1], c.Column)]) != "" {
		return 0
	}
	for no := c.Line - 1; no > 0; no-- {
		switch s := strings.TrimSpace(l.lines[no-1]); {
		case s == "" || s[0] == '#':
		case s == "-" || strings.HasPrefix(s, "- #"):
			return no
		default:
			return 0
		}
	}
	return 0
}

// value places what stands behind a key.
func (l *layout) value(v, k *yaml.Node, indent int) {
	if v.Kind == yaml.AliasNode || v.Style&yaml.FlowStyle != 0 || v.Kind == yaml.ScalarNode {
		if v.Line != k.Line {
			l.place(v.Line, indent+2, 0)
		}
		l.scalar(v, k.Column)
		l.flow(v)
		return
	}
	l.block(v, indent+2, 0)
}

func (l *layout) place(line, indent, dashes int) {
	if _, ok := l.line[line]; !ok {
		l.line[line] = placed{indent, dashes}
	}
}

// scalar finds the lines of a text that takes several. parent is the column of
// what it belongs to; the text stands further in.
func (l *layout) scalar(n *yaml.Node, parent int) {
	if n.Kind != yaml.ScalarNode {
		return
	}
	if n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0 {
		end := l.quoteEnd(n)
		for i := n.Line + 1; i <= end; i++ {
			l.frozen[i] = n.Line
		}
		return
	}
	literal := n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0
	if !literal && n.Line <= len(l.lines) && strings.Contains(l.lines[n.Line-1], n.Value) {
		return
	}
	last := n.Line
	for i := n.Line + 1; i <= len(l.lines); i++ {
		s := strings.TrimSpace(l.lines[i-1])
		if s != "" && (l.begins(i) <= parent || !literal && s[0] == '#') {
			break
		}
		if s != "" {
			last = i
		}
	}
	if literal { // empty lines at the end may count
		for last < len(l.lines) && strings.TrimSpace(l.lines[last]) == "" {
			last++
		}
	}
	for i := n.Line + 1; i <= last; i++ {
		l.frozen[i] = n.Line
	}
}

// quoteEnd is the line on which a quoted text ends.
func (l *layout) quoteEnd(n *yaml.Node) int {
	at, line := byteOf(l.lines[n.Line-1], n.Column)+1, n.Line
	quote := byte('"')
	if n.Style&yaml.SingleQuotedStyle != 0 {
		quote = '\''
	}
	for ; line <= len(l.lines); line, at = line+1, 0 {
		s := l.lines[line-1]
		for ; at < len(s); at++ {
			switch {
			case s[at] == '\\' && quote == '"':
				at++
			case s[at] == quote && quote == '\'' && at+1 < len(s) && s[at+1] == quote:
				at++
			case s[at] == quote:
				return line
			}
		}
	}
	return n.Line
}

// byteOf is the byte at a column, from 1, that counts characters.
func byteOf(s string, col int) int {
	for i := range s {
		if col--; col == 0 {
			return i
		}
	}
	return len(s)
}

// write puts the lines together.
func (l *layout) write() string {
	slices.SortFunc(
		l.flows,
		func(a, b flow) int { return cmp.Or(cmp.Compare(a.line, b.line), cmp.Compare(a.from, b.from)) },
	)
	for _, f := range slices.Backward(l.flows) { // from the end, so that places stay right
		s := l.lines[f.line-1]
		l.lines[f.line-1] = s[:f.from] + f.text + s[f.to:]
	}
	shift := map[int]int{} // by line: how far it moved
	out := make([]string, 0, len(l.lines))
	owner := 0
	next := l.neighbours()
	inBrackets := func(next int) bool { // the next line goes on with what began before
		_, structural := l.line[next+1]
		return next >= 0 && !structural
	}
	var outer []open
	for i, s := range l.lines {
		no := i + 1
		start, inside := l.frozen[no]
		body := strings.TrimLeft(s, " ")
		indent := len(s) - len(body)
		if !inside {
			body = strings.TrimRight(body, " \t")
		}
		p, structural := l.line[no]
		switch {
		case inside && strings.TrimSpace(s) == "":
			out = append(out, s)
			continue
		case inside:
			move := shift[start]
			out = append(out, strings.Repeat(" ", max(0, indent+move))+body)
			continue
		case body == "":
			out = append(out, "")
			continue
		case structural:
			owner = no
			shift[no] = p.indent - indent
			for len(outer) > 0 && outer[len(outer)-1].was >= indent {
				outer = outer[:len(outer)-1]
			}
			outer = append(outer, open{indent, p})
			out = append(out, strings.Repeat(" ", p.indent)+dashed(body, p.dashes))
		case body[0] == '#' && !inBrackets(next[i]):
			out = append(out, strings.Repeat(" ", l.commentIndent(indent, next[i], outer))+body)
		default: // goes on with what the line before began
			out = append(out, strings.Repeat(" ", max(0, indent+shift[owner]))+body)
			shift[no] = shift[owner]
		}
	}
	return l.squeeze(out)
}

// dashed writes the dashes before an item with one space each.
func dashed(body string, dashes int) string {
	prefix := ""
	for range dashes {
		rest, ok := strings.CutPrefix(body, "-")
		if !ok || rest != "" && rest[0] != ' ' {
			break
		}
		if body = strings.TrimLeft(rest, " "); body == "" || body[0] == '#' {
			return strings.TrimRight(prefix+"- "+body, " ")
		}
		prefix += "- "
	}
	return prefix + body
}

// neighbours tells for each line, from 0, which later one is the next with
// something on it besides a comment; -1: none.
func (l *layout) neighbours() []int {
	next := make([]int, len(l.lines))
	after := -1
	for i := len(l.lines) - 1; i >= 0; i-- {
		next[i] = after
		if s := strings.TrimLeft(l.lines[i], " "); s != "" && s[0] != '#' {
			after = i
		}
	}
	return next
}

// open is a line of the structure below which later lines may stand.
type open struct {
	was int // its indent before
	placed
}

// commentIndent puts a comment, which stood indent spaces in, in line with what
// follows it, or, when it stood further in than that, with what it follows.
// outer are the lines above that are not closed, the innermost last.
func (l *layout) commentIndent(indent, next int, outer []open) int {
	follows := 0
	if next >= 0 {
		p := l.line[next+1]
		if follows = p.indent; indent <= l.begins(next+1)-1 {
			return follows
		}
	}
	for _, o := range slices.Backward(outer) {
		if indent >= o.was {
			return max(follows, o.indent+min(indent-o.was, 2*o.dashes)/2*2)
		}
	}
	return follows
}

// squeeze leaves one empty line where there were several, and none at the
// ends, outside texts of several lines.
func (l *layout) squeeze(lines []string) string {
	var out []string
	for i, s := range lines {
		_, inside := l.frozen[i+1]
		if s == "" && !inside && (len(out) == 0 || out[len(out)-1] == "") {
			continue
		}
		out = append(out, s)
	}
	for len(out) > 0 && strings.TrimSpace(out[len(out)-1]) == "" {
		if _, inside := l.frozen[len(lines)]; inside && len(out) > 0 && len(lines) > 1 && lines[len(lines)-1] != "" {
			break
		}
		out = out[:len(out)-1]
	}
	if len(out) == 0 {
		return ""
	}
	return strings.Join(out, "\n") + "\n"
}
