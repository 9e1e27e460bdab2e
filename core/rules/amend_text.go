package rules

import (
	"encoding/json"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"
)

// splice replaces bytes of the text, and reads it again.
func (a *amender) splice(from, to int, text string) error {
	next := a.text[:from] + text + a.text[to:]
	root, err := document(next)
	if err != nil {
		return errForm
	}
	a.text, a.root = next, root
	return nil
}

// from is the byte where a node begins.
func (a *amender) from(n *yaml.Node) int { return offset(a.text, n.Line, n.Column) }

// lineStart is the first byte of the line of a byte.
func (a *amender) lineStart(at int) int { return strings.LastIndexByte(a.text[:at], '\n') + 1 }

// lineEnd is the byte of the line break after a byte, or the end of the text.
func (a *amender) lineEnd(at int) int {
	if i := strings.IndexByte(a.text[at:], '\n'); i >= 0 {
		return at + i
	}
	return len(a.text)
}

// isAlone tells whether only spaces stand before a byte on its line.
func (a *amender) isAlone(at int) bool { return strings.TrimSpace(a.text[a.lineStart(at):at]) == "" }

func isFlow(n *yaml.Node) bool { return n.Style&yaml.FlowStyle != 0 }

// end is the byte after a node. It is not ok for what is not understood: anchors,
// aliases, tags, and texts that are not where they should be.
func (a *amender) end(n *yaml.Node) (int, bool) {
	from := a.from(n)
	if n.Anchor != "" || n.Kind == yaml.AliasNode || n.Style&yaml.TaggedStyle != 0 {
		return 0, false
	}
	switch {
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0:
		return quotedEnd(a.text, from)
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) != 0:
		return a.blockEnd(from)
	case n.Kind == yaml.ScalarNode:
		return plainEnd(a.text, from, n.Value)
	case isFlow(n):
		return flowEnd(a.text, from)
	case n.Kind == yaml.MappingNode && len(n.Content) > 0:
		return a.pairEnd(n, len(n.Content)/2-1)
	case n.Kind == yaml.SequenceNode && len(n.Content) > 0:
		return a.end(n.Content[len(n.Content)-1])
	}
	return 0, false
}

// colon is the byte after the colon of a key.
func (a *amender) colon(key *yaml.Node) (int, bool) {
	at, ok := a.end(key)
	if !ok {
		return 0, false
	}
	for at < len(a.text) && a.text[at] == ' ' {
		at++
	}
	return at + 1, at < len(a.text) && a.text[at] == ':'
}

// pairEnd is the byte after the pair i of a mapping.
func (a *amender) pairEnd(m *yaml.Node, i int) (int, bool) {
	key, value := m.Content[2*i], m.Content[2*i+1]
	if saysNothing(value) && value.Value == "" {
		return a.colon(key)
	}
	return a.end(value)
}

// quotedEnd is the byte after a quoted text.
func quotedEnd(text string, from int) (int, bool) {
	if from >= len(text) || text[from] != '"' && text[from] != '\'' {
		return 0, false
	}
	quote := text[from]
	for i := from + 1; i < len(text); i++ {
		switch {
		case text[i] == '\\' && quote == '"':
			i++
		case text[i] == quote && quote == '\'' && i+1 < len(text) && text[i+1] == quote:
			i++
		case text[i] == quote:
			return i + 1, true
		}
	}
	return 0, false
}

// plainEnd is the byte after a plain text, whose line breaks were read as spaces.
func plainEnd(text string, from int, value string) (int, bool) {
	at := from
	for i := 0; i < len(value); {
		if value[i] == ' ' || value[i] == '\n' {
			i++
			for i < len(value) && (value[i] == ' ' || value[i] == '\n') {
				i++
			}
			for at < len(text) && strings.IndexByte(" \t\r\n", text[at]) >= 0 {
				at++
			}
			continue
		}
		if at >= len(text) || text[at] != value[i] {
			return 0, false
		}
		i, at = i+1, at+1
	}
	return at, true
}

// blockEnd is the byte after a text of several lines that begins with | or >: the end of
// its last line that is not empty.
func (a *amender) blockEnd(from int) (int, bool) {
	end := a.lineEnd(from)
	indent := -1
	for at := end + 1; at < len(a.text); {
		stop := a.lineEnd(at)
		line := strings.TrimRight(a.text[at:stop], " \t\r")
		if line != "" {
			deep := len(line) - len(strings.TrimLeft(line, " "))
			if indent < 0 {
				if indent = deep; indent == 0 { // the text is empty, and something else begins
					break
				}
			}
			if deep < indent {
				break
			}
			end = stop
		}
		at = stop + 1
	}
	return end, true
}

// flowEnd is the byte after brackets, over as many lines as they take.
func flowEnd(text string, from int) (int, bool) {
	depth := 0
	begins := true // a value begins here, so that a quote is one
	for i := from; i < len(text); i++ {
		c := text[i]
		switch {
		case c == '"' && begins || c == '\'' && begins:
			end, ok := quotedEnd(text, i)
			if !ok {
				return 0, false
			}
			i, begins = end-1, false
		case c == '#' && i > 0 && strings.IndexByte(" \t\n", text[i-1]) >= 0:
			for i < len(text) && text[i] != '\n' {
				i++
			}
		case c == '{' || c == '[':
			depth++
			begins = true
		case c == '}' || c == ']':
			if depth--; depth == 0 {
				return i + 1, true
			}
			begins = false
		case c == ',' || c == ':':
			begins = true
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
		default:
			begins = false
		}
	}
	return 0, false
}

// dash is the byte of the dash before an item of a list of lines.
func (a *amender) dash(item *yaml.Node) (int, bool) {
	for at := a.from(item) - 1; at >= 0; at-- {
		switch a.text[at] {
		case '-':
			return at, true
		case ' ', '\n', '\r':
		default:
			return 0, false
		}
	}
	return 0, false
}

// itemLines are the lines of an item of a list of lines, with the comments right above
// it, up to the line break after it.
func (a *amender) itemLines(item *yaml.Node) (from, to int, ok bool) {
	dash, ok := a.dash(item)
	if !ok || !a.isAlone(dash) {
		return 0, 0, false
	}
	end, ok := a.end(item)
	if !ok {
		return 0, 0, false
	}
	from = a.lineStart(dash)
	margin := a.text[from:dash] + "#"
	for from > 0 {
		above := a.lineStart(from - 1)
		if !strings.HasPrefix(a.text[above:], margin) {
			break
		}
		from = above
	}
	return from, min(a.lineEnd(end)+1, len(a.text)), true
}

// widest is how long a line may become by a value in brackets.
const widest = 100

// inline writes a value on one line.
func (a *amender) inline(n *yaml.Node) string {
	var b strings.Builder
	a.writeInline(&b, n)
	return b.String()
}

func (a *amender) writeInline(b *strings.Builder, n *yaml.Node) {
	switch n.Kind {
	case yaml.MappingNode:
		b.WriteByte('{')
		for i := 0; i+1 < len(n.Content); i += 2 {
			if i > 0 {
				b.WriteString(", ")
			}
			b.WriteString(a.key(n.Content[i]))
			b.WriteString(": ")
			a.writeInline(b, n.Content[i+1])
		}
		b.WriteByte('}')
	case yaml.SequenceNode:
		b.WriteByte('[')
		for i, c := range n.Content {
			if i > 0 {
				b.WriteString(", ")
			}
			a.writeInline(b, c)
		}
		b.WriteByte(']')
	default:
		b.WriteString(a.scalar(n))
	}
}

// key writes a key of a mapping.
func (a *amender) key(n *yaml.Node) string {
	if !a.isJSON && n.Value != "" && isWord(n.Value) {
		return n.Value
	}
	return a.scalar(n)
}

// isWord tells whether a text of letters, digits and dashes is read as a text by us.
func isWord(s string) bool {
	for _, c := range s {
		if (c < 'a' || c > 'z') && c != '-' {
			return false
		}
	}
	var got yaml.Node
	if yaml.Load([]byte(s), &got) != nil || len(got.Content) != 1 {
		return false
	}
	return got.Content[0].Tag == "!!str" && got.Content[0].Value == s
}

// scalar writes a scalar: as it is if that says the same, otherwise in quotes.
func (a *amender) scalar(n *yaml.Node) string {
	if n.Tag != "!!str" {
		return n.Value
	}
	quoted, _ := json.Marshal(n.Value)
	if a.isJSON || n.Value == "" || !utf8.ValidString(n.Value) || strings.ContainsAny(n.Value, "\n\t\"\\") {
		return string(quoted)
	}
	switch strings.ToLower(n.Value) {
	case "yes", "no", "on", "off", "y", "n", "~": // words that other readers take for true and false
		return string(quoted)
	}
	var got yaml.Node
	if err := yaml.Load([]byte("{"+n.Value+": ["+n.Value+"]}"), &got); err == nil && len(got.Content) == 1 {
		m := got.Content[0]
		if m.Kind == yaml.MappingNode && len(m.Content) == 2 && len(m.Content[1].Content) == 1 {
			key, value := m.Content[0], m.Content[1].Content[0]
			isPlain := value.Kind == yaml.ScalarNode && value.Tag == "!!str" && value.Style == 0
			if isPlain && key.Value == n.Value && value.Value == n.Value {
				return n.Value
			}
		}
	}
	return string(quoted)
}

// pair writes a key with its value on lines that stand indent spaces in, without the last
// line break. Lists of mappings take a line for each key.
func (a *amender) pair(indent int, key, value *yaml.Node) string {
	space := strings.Repeat(" ", indent)
	line := space + a.key(key) + ": " + a.inline(value)
	isLadder := value.Kind == yaml.SequenceNode && len(value.Content) > 0 && value.Content[0].Kind == yaml.MappingNode
	isLong := len(line) > widest && len(value.Content) > 1
	if !isLadder && !isLong {
		return line
	}
	lines := []string{space + a.key(key) + ":"}
	if value.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(value.Content); i += 2 {
			lines = append(lines, a.pair(indent+2, value.Content[i], value.Content[i+1]))
		}
	} else {
		for _, c := range value.Content {
			lines = append(lines, a.item(indent+2, c))
		}
	}
	return strings.Join(lines, "\n")
}

// item writes an item of a list of lines, whose dash stands indent spaces in.
func (a *amender) item(indent int, n *yaml.Node) string {
	space := strings.Repeat(" ", indent)
	line := space + "- " + a.inline(n)
	hasName := n.Kind == yaml.MappingNode && child(n, pathStep{"name", -1}) != nil
	if n.Kind != yaml.MappingNode || len(n.Content) == 0 || !hasName && len(line) <= widest {
		return line
	}
	var lines []string
	for i := 0; i+1 < len(n.Content); i += 2 {
		lines = append(lines, a.pair(indent+2, n.Content[i], n.Content[i+1]))
	}
	return space + "- " + strings.TrimLeft(strings.Join(lines, "\n"), " ")
}
