package rules

import (
	"encoding/json"
	"strings"

	"go.yaml.in/yaml/v4"
)

// pairOf is the mapping that holds the value at steps, and the number of its pair.
func (a *amender) pairOf(steps []pathStep) (m *yaml.Node, i int, ok bool) {
	m = walk(a.root, steps[:len(steps)-1])
	if m == nil || m.Kind != yaml.MappingNode {
		return nil, 0, false
	}
	for i := 0; i+1 < len(m.Content); i += 2 {
		if m.Content[i].Value == steps[len(steps)-1].key {
			return m, i / 2, true
		}
	}
	return nil, 0, false
}

// replace puts a value of another shape in the place of one.
func (a *amender) replace(steps []pathStep, want *yaml.Node) error {
	old := walk(a.root, steps)
	if len(steps) > 0 && steps[len(steps)-1].at < 0 {
		m, i, ok := a.pairOf(steps)
		if !ok {
			return errForm
		}
		from, ok := a.colon(m.Content[2*i])
		to, ok2 := a.pairEnd(m, i)
		if !ok || !ok2 {
			return errForm
		}
		isLadder := want.Kind == yaml.SequenceNode && len(want.Content) > 0 && want.Content[0].Kind == yaml.MappingNode
		if isLadder && !isFlow(m) && (saysNothing(old) || !isFlow(old) || len(old.Content) == 0) {
			text := a.pair(a.indent(m), m.Content[2*i], want)
			return a.splice(from, to, text[strings.IndexByte(text, '\n'):])
		}
		return a.splice(from, to, " "+a.inline(want))
	}
	to, ok := a.end(old)
	if !ok {
		return errForm
	}
	return a.splice(a.from(old), to, a.inline(want))
}

// indent is how far in the keys of a mapping of lines stand.
func (a *amender) indent(m *yaml.Node) int {
	if len(m.Content) == 0 {
		return 0
	}
	return m.Content[0].Column - 1
}

// add puts a value where there is none. Mappings on the way to it are made.
func (a *amender) add(steps []pathStep, want *yaml.Node) error {
	last := steps[len(steps)-1]
	above := steps[:len(steps)-1]
	if last.at >= 0 {
		return a.insert(above, last.at, want)
	}
	key := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: last.key}
	parent := walk(a.root, above)
	if saysNothing(parent) {
		whole := &yaml.Node{Kind: yaml.MappingNode, Content: []*yaml.Node{key, want}}
		if len(above) > 0 {
			if parent == nil {
				return a.add(above, whole)
			}
			return a.replace(above, whole)
		}
		text := a.pair(0, key, want) + "\n"
		if a.text != "" && !strings.HasSuffix(a.text, "\n") {
			text = "\n" + text
		}
		return a.splice(len(a.text), len(a.text), text)
	}
	if parent.Kind != yaml.MappingNode || parent.Anchor != "" {
		return errForm
	}
	if isFlow(parent) {
		return a.insertFlow(parent, len(parent.Content)/2, a.key(key)+": "+a.inline(want))
	}
	// Routes come last, so that the settings of a service stay together.
	after := len(parent.Content)/2 - 1
	if parent.Content[2*after].Value == "routes" && after > 0 {
		after--
	}
	end, ok := a.pairEnd(parent, after)
	if !ok {
		return errForm
	}
	at := a.lineEnd(end)
	return a.splice(at, at, "\n"+a.pair(a.indent(parent), key, want))
}

// insertFlow puts text into brackets, as their item or pair at.
func (a *amender) insertFlow(n *yaml.Node, at int, text string) error {
	size := len(n.Content)
	if n.Kind == yaml.MappingNode {
		size /= 2
	}
	switch {
	case size == 0:
		from := a.from(n) + 1
		return a.splice(from, from, text)
	case at == 0:
		from := a.from(n.Content[0])
		return a.splice(from, from, text+", ")
	case n.Kind == yaml.MappingNode:
		end, ok := a.pairEnd(n, at-1)
		if !ok {
			return errForm
		}
		return a.splice(end, end, ", "+text)
	}
	end, ok := a.end(n.Content[at-1])
	if !ok {
		return errForm
	}
	return a.splice(end, end, ", "+text)
}

// insert puts a new item into a list, as item at.
func (a *amender) insert(list []pathStep, at int, want *yaml.Node) error {
	n := walk(a.root, list)
	if saysNothing(n) || n.Kind == yaml.SequenceNode && len(n.Content) == 0 {
		whole := &yaml.Node{Kind: yaml.SequenceNode, Content: []*yaml.Node{want}}
		if n == nil {
			return a.add(list, whole)
		}
		return a.replace(list, whole)
	}
	if n.Kind != yaml.SequenceNode || n.Anchor != "" {
		return errForm
	}
	if isFlow(n) {
		return a.insertFlow(n, at, a.inline(want))
	}
	return a.insertLines(n, at, func(indent int) string { return a.item(indent, want) + "\n" })
}

// insertLines puts lines into a list of lines, as its item at.
func (a *amender) insertLines(n *yaml.Node, at int, write func(indent int) string) error {
	dash, ok := a.dash(n.Content[0])
	if !ok || !a.isAlone(dash) {
		return errForm
	}
	lines := write(dash - a.lineStart(dash))
	if at == 0 {
		from, _, ok := a.itemLines(n.Content[0])
		if !ok {
			return errForm
		}
		return a.splice(from, from, lines)
	}
	end, ok := a.end(n.Content[at-1])
	if !ok {
		return errForm
	}
	from := a.lineEnd(end)
	return a.splice(from, from, "\n"+strings.TrimSuffix(lines, "\n"))
}

// remove takes a pair out of its mapping, or an item out of its list.
func (a *amender) remove(steps []pathStep) error {
	last := steps[len(steps)-1]
	above := steps[:len(steps)-1]
	n := walk(a.root, above)
	if n == nil || n.Anchor != "" {
		return errForm
	}
	size := len(n.Content)
	if last.at < 0 {
		size /= 2
	}
	if size == 1 {
		empty := &yaml.Node{Kind: n.Kind}
		if len(above) == 0 {
			end, ok := a.end(n)
			if !ok {
				return errForm
			}
			return a.splice(a.lineStart(a.from(n)), min(a.lineEnd(end)+1, len(a.text)), "{}\n")
		}
		return a.replace(above, empty)
	}
	if last.at >= 0 {
		return a.removeItem(n, last.at)
	}
	_, i, ok := a.pairOf(steps)
	if !ok {
		return errForm
	}
	end, ok := a.pairEnd(n, i)
	if !ok {
		return errForm
	}
	from := a.from(n.Content[2*i])
	switch {
	case isFlow(n) && i > 0:
		before, ok := a.pairEnd(n, i-1)
		if !ok {
			return errForm
		}
		return a.splice(before, end, "")
	case isFlow(n) || !a.isAlone(from): // the first one, behind a bracket or a dash
		return a.splice(from, a.from(n.Content[2*i+2]), "")
	}
	return a.splice(a.lineStart(from), min(a.lineEnd(end)+1, len(a.text)), "")
}

func (a *amender) removeItem(n *yaml.Node, at int) error {
	if isFlow(n) {
		if at == 0 {
			return a.splice(a.from(n.Content[0]), a.from(n.Content[1]), "")
		}
		before, ok := a.end(n.Content[at-1])
		end, ok2 := a.end(n.Content[at])
		if !ok || !ok2 {
			return errForm
		}
		return a.splice(before, end, "")
	}
	from, to, ok := a.itemLines(n.Content[at])
	if !ok {
		return errForm
	}
	return a.splice(from, to, "")
}

// move puts an item of a list elsewhere in it.
func (a *amender) move(steps []pathStep, to int) error {
	above := steps[:len(steps)-1]
	at := steps[len(steps)-1].at
	n := walk(a.root, above)
	if to = min(max(to, 0), len(n.Content)-1); to == at {
		return nil
	}
	if isFlow(n) {
		item := *n.Content[at]
		if err := a.removeItem(n, at); err != nil {
			return err
		}
		return a.insertFlow(walk(a.root, above), to, a.inline(&item))
	}
	from, end, ok := a.itemLines(n.Content[at])
	if !ok {
		return errForm
	}
	lines := strings.TrimSuffix(a.text[from:end], "\n") + "\n"
	if err := a.removeItem(n, at); err != nil {
		return err
	}
	return a.insertLines(walk(a.root, above), to, func(int) string { return lines })
}

// Values is what a file says, as JSON: the same structure, with aliases written out. It
// is what a form shows before it amends the file.
func Values(f File) (any, error) {
	root, err := document(f.Text)
	if err != nil {
		return nil, err
	}
	return plainValue(root), nil
}

func plainValue(n *yaml.Node) any {
	if saysNothing(n) {
		return nil
	}
	switch n.Kind {
	case yaml.AliasNode:
		return plainValue(n.Alias)
	case yaml.MappingNode:
		out := make(map[string]any, len(n.Content)/2)
		for i := 0; i+1 < len(n.Content); i += 2 {
			out[n.Content[i].Value] = plainValue(n.Content[i+1])
		}
		return out
	case yaml.SequenceNode:
		out := make([]any, 0, len(n.Content))
		for _, c := range n.Content {
			out = append(out, plainValue(c))
		}
		return out
	}
	if isPlain := n.Tag == "!!int" || n.Tag == "!!float" || n.Tag == "!!bool"; isPlain && json.Valid([]byte(n.Value)) {
		return json.RawMessage(n.Value)
	}
	return n.Value
}
