package rules

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"

	"go.yaml.in/yaml/v4"
)

// Amendment is one change of the values of a rule file, as a form makes it.
type Amendment struct {
	// Path leads to the value: keys from the top, and for an item of a list its name or
	// its number from 0.
	Path []string
	// Value is the new value as JSON; nil: what is at Path goes or, with Index, moves.
	Value json.RawMessage
	// Index is where in its list the item of Path goes, from 0; nil: it stays, and a new
	// one goes to the end.
	Index *int
}

// maxAmend is the most bytes of a file that Amend takes.
const maxAmend = maxFormat

// errForm is of files whose form is not understood well enough to change them in place.
var errForm = errors.New("is written in a form that cannot be changed in place: edit the file")

// Amend changes values in the text of a file. Every other byte stays: comments, the order
// of things, and the way in which the rest is written. The comments right above an item of
// a list belong to it, and go or move with it. Where a value is replaced by one of another
// shape, comments inside of the old one go.
//
// The result says what the file said before, apart from the amendments, and nothing else;
// a file for which that cannot be done is left alone, with an error. Values with anchors
// or aliases are such. Whether the result is right by the rules is for Check to say.
func Amend(f File, list []Amendment) (File, error) {
	if len(f.Text) > maxAmend {
		const text = "%s has %d bytes; forms change files of at most %d: edit the file"
		return f, fmt.Errorf(text, f.Name, len(f.Text), maxAmend)
	}
	root, err := document(f.Text)
	if err != nil {
		return f, fmt.Errorf("%s cannot be read: correct it first: %w", f.Name, err)
	}
	a := &amender{text: f.Text, root: root, isJSON: json.Valid([]byte(f.Text))}
	for _, one := range list {
		before := a.root
		want, err := valueOf(one.Value)
		if err != nil {
			return f, fmt.Errorf("value of %v: %w", one.Path, err)
		}
		steps, err := a.steps(one.Path)
		if err != nil {
			return f, fmt.Errorf("%s: %w", f.Name, err)
		}
		if err := a.amend(steps, want, one.Index); err != nil {
			return f, fmt.Errorf("%s: %s %w", f.Name, pathText(one.Path), err)
		}
		if !sameValues(a.root, amended(before, steps, want, one.Index)) {
			return f, fmt.Errorf("%s: %s %w", f.Name, pathText(one.Path), errForm)
		}
	}
	return File{f.Name, a.text}, nil
}

func pathText(path []string) string {
	text := ""
	for i, p := range path {
		if i > 0 {
			text += "."
		}
		text += p
	}
	return text
}

// valueOf reads a value that came as JSON; nil: none. JSON is YAML, and so its order stays.
func valueOf(text json.RawMessage) (*yaml.Node, error) {
	if text == nil {
		return nil, nil
	}
	if !json.Valid(text) {
		return nil, errors.New("not JSON")
	}
	return document(string(text))
}

// pathStep leads from a value to one inside of it.
type pathStep struct {
	key string
	at  int // of an item of a list; -1: it is a key
}

// amender holds a text, and what it says.
type amender struct {
	text   string
	root   *yaml.Node // nil: nothing
	isJSON bool
}

// steps finds the way along a path. What is not there yet has to be the end of it, or the
// key of a mapping.
func (a *amender) steps(path []string) ([]pathStep, error) {
	if len(path) == 0 {
		return nil, errors.New("a path is missing: name the value to change")
	}
	var out []pathStep
	n := a.root
	for i, p := range path {
		if n == nil || n.Kind != yaml.SequenceNode {
			out = append(out, pathStep{p, -1})
			n = child(n, pathStep{p, -1})
			continue
		}
		at := slices.IndexFunc(n.Content, func(c *yaml.Node) bool {
			name := child(c, pathStep{"name", -1})
			return name != nil && name.Value == p
		})
		if number, err := strconv.Atoi(p); at < 0 && err == nil && number >= 0 && number < len(n.Content) {
			at = number
		}
		if at < 0 {
			if i < len(path)-1 {
				return nil, fmt.Errorf("%s has no item %q", pathText(path[:i]), p)
			}
			at = len(n.Content)
		}
		out = append(out, pathStep{p, at})
		if at < len(n.Content) {
			n = n.Content[at]
		}
	}
	return out, nil
}

// child is the value that a step leads to; nil: there is none.
func child(n *yaml.Node, s pathStep) *yaml.Node {
	if n == nil {
		return nil
	}
	if s.at >= 0 {
		if n.Kind != yaml.SequenceNode || s.at >= len(n.Content) {
			return nil
		}
		return n.Content[s.at]
	}
	if n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == s.key {
			return n.Content[i+1]
		}
	}
	return nil
}

// walk is the value at the end of steps; nil: there is none.
func walk(n *yaml.Node, steps []pathStep) *yaml.Node {
	for _, s := range steps {
		n = child(n, s)
	}
	return n
}

func saysNothing(n *yaml.Node) bool {
	return n == nil || n.Kind == yaml.ScalarNode && n.Tag == "!!null"
}

// sameValues tells whether two documents say the same, in whatever form and order of keys.
func sameValues(a, b *yaml.Node) bool {
	if saysNothing(a) || saysNothing(b) {
		return saysNothing(a) && saysNothing(b)
	}
	if a.Kind == yaml.AliasNode || b.Kind == yaml.AliasNode {
		return a.Kind == b.Kind && a.Value == b.Value
	}
	if a.Kind != b.Kind || a.Anchor != b.Anchor || len(a.Content) != len(b.Content) {
		return false
	}
	switch a.Kind {
	case yaml.ScalarNode:
		return a.Value == b.Value
	case yaml.MappingNode:
		for i := 0; i+1 < len(a.Content); i += 2 {
			other := child(b, pathStep{a.Content[i].Value, -1})
			if other == nil || !sameValues(a.Content[i+1], other) {
				return false
			}
		}
		return true
	}
	return slices.EqualFunc(a.Content, b.Content, sameValues)
}

// amended is what a document says after an amendment.
func amended(n *yaml.Node, steps []pathStep, want *yaml.Node, index *int) *yaml.Node {
	if len(steps) == 0 {
		return want
	}
	s := steps[0]
	var out yaml.Node
	if n != nil && !saysNothing(n) {
		out = *n
	} else {
		out.Kind = yaml.MappingNode
	}
	out.Content = slices.Clone(out.Content)
	if s.at >= 0 {
		var item *yaml.Node
		if s.at < len(out.Content) {
			item = out.Content[s.at]
			out.Content = slices.Delete(out.Content, s.at, s.at+1)
		}
		to := s.at
		switch {
		case len(steps) > 1:
			item = amended(item, steps[1:], want, index)
		case want == nil && index == nil:
			return &out
		case want != nil:
			item = want
		}
		if len(steps) == 1 && index != nil {
			to = *index
		}
		if item != nil {
			out.Content = slices.Insert(out.Content, min(max(to, 0), len(out.Content)), item)
		}
		return &out
	}
	for i := 0; i+1 < len(out.Content); i += 2 {
		if out.Content[i].Value != s.key {
			continue
		}
		if len(steps) == 1 && want == nil {
			out.Content = slices.Delete(out.Content, i, i+2)
		} else {
			out.Content[i+1] = amended(out.Content[i+1], steps[1:], want, index)
		}
		return &out
	}
	if want != nil {
		key := &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Value: s.key}
		out.Content = append(out.Content, key, amended(nil, steps[1:], want, index))
	}
	return &out
}

// amend carries out one amendment.
func (a *amender) amend(steps []pathStep, want *yaml.Node, index *int) error {
	last := steps[len(steps)-1]
	old := walk(a.root, steps)
	switch {
	case want == nil && index == nil:
		if old == nil {
			return nil
		}
		return a.remove(steps)
	case want != nil && last.at >= 0 && old == nil:
		at := last.at
		if index != nil {
			at = min(max(*index, 0), last.at)
		}
		return a.insert(steps[:len(steps)-1], at, want)
	case want != nil:
		if err := a.set(steps, want); err != nil {
			return err
		}
	}
	if index == nil || last.at < 0 || old == nil {
		return nil
	}
	return a.move(steps, *index)
}

// set makes the value at steps say what want says, with as few changes as it can.
func (a *amender) set(steps []pathStep, want *yaml.Node) error {
	old := walk(a.root, steps)
	switch {
	case old == nil:
		return a.add(steps, want)
	case sameValues(old, want):
		return nil
	case old.Kind == yaml.MappingNode && want.Kind == yaml.MappingNode && len(old.Content) > 0 && len(want.Content) > 0:
		return a.setPairs(steps, old, want)
	case old.Kind == yaml.SequenceNode && want.Kind == yaml.SequenceNode && len(old.Content) > 0 && len(want.Content) > 0:
		return a.setItems(steps, old, want)
	}
	return a.replace(steps, want)
}

func (a *amender) setPairs(steps []pathStep, old, want *yaml.Node) error {
	for i := 0; i+1 < len(want.Content); i += 2 {
		if err := a.set(below(steps, pathStep{want.Content[i].Value, -1}), want.Content[i+1]); err != nil {
			return err
		}
	}
	for i := 0; i+1 < len(old.Content); i += 2 {
		s := pathStep{old.Content[i].Value, -1}
		if child(want, s) != nil {
			continue
		}
		if err := a.remove(below(steps, s)); err != nil {
			return err
		}
	}
	return nil
}

// setItems keeps the items at both ends that stay, and changes what is between.
func (a *amender) setItems(steps []pathStep, old, want *yaml.Node) error {
	from := 0
	for from < min(len(old.Content), len(want.Content)) && sameValues(old.Content[from], want.Content[from]) {
		from++
	}
	oldEnd, wantEnd := len(old.Content), len(want.Content)
	for oldEnd > from && wantEnd > from && sameValues(old.Content[oldEnd-1], want.Content[wantEnd-1]) {
		oldEnd, wantEnd = oldEnd-1, wantEnd-1
	}
	for i := from; i < min(oldEnd, wantEnd); i++ {
		if err := a.set(below(steps, pathStep{"", i}), want.Content[i]); err != nil {
			return err
		}
	}
	for i := oldEnd; i > wantEnd; i-- {
		if err := a.remove(below(steps, pathStep{"", i - 1})); err != nil {
			return err
		}
	}
	for i := oldEnd; i < wantEnd; i++ {
		if err := a.insert(steps, i, want.Content[i]); err != nil {
			return err
		}
	}
	return nil
}

func below(steps []pathStep, s pathStep) []pathStep { return append(slices.Clone(steps), s) }
