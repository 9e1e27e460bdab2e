// Package change writes what changed between two values, so that whoever has the one can
// have the other without reading all of it. It is written in JSON, as one of
//
//	{"name": change, ...}  what changed inside an object, or inside a list, by index from 0
//	[value]                the new value
//	[]                     an object's member that is gone
//
// Lists are changed inside only if they have the same length.
package change

import (
	"encoding"
	"encoding/json"
	"fmt"
	"reflect"
	"strconv"
	"strings"
	"sync"
)

// Between returns what changed from before to now; {} when nothing did. Errors are those
// of json.Marshal.
func Between[T any](before, now *T) ([]byte, error) {
	var w writer
	if !w.add(reflect.ValueOf(before).Elem(), reflect.ValueOf(now).Elem()) {
		return []byte("{}"), nil
	}
	return w.b, w.err
}

// Apply returns a value after a change, both as encoding/json reads them into an any. The
// value that it is given must not be used any more. It is an error if the change is of
// another value.
func Apply(value, change any) (any, error) {
	inside, isObject := change.(map[string]any)
	if !isObject {
		if list, ok := change.([]any); ok && len(list) == 1 {
			return list[0], nil
		}
		return nil, fmt.Errorf("%v is no change", change)
	}
	for name, c := range inside {
		gone, isList := c.([]any)
		var err error
		switch value := value.(type) {
		case map[string]any:
			if isList && len(gone) == 0 {
				delete(value, name)
				continue
			}
			value[name], err = Apply(value[name], c)
		case []any:
			i, convErr := strconv.Atoi(name)
			if convErr != nil || i < 0 || i >= len(value) {
				return nil, fmt.Errorf("a list of %d has no part %q", len(value), name)
			}
			value[i], err = Apply(value[i], c)
		default:
			return nil, fmt.Errorf("%v has no part %q", value, name)
		}
		if err != nil {
			return nil, err
		}
	}
	return value, nil
}

// writer writes changes, and keeps the first error.
type writer struct {
	b   []byte
	err error
}

// add writes the change between two values of one type. If there is none, it writes
// nothing and returns false.
func (w *writer) add(before, now reflect.Value) bool {
	begin := len(w.b)
	switch kind := now.Kind(); {
	case kind == reflect.Struct:
		if s := shapeOf(now.Type()); !s.isValue {
			for _, f := range s.fields {
				w.addField(begin, f, before.FieldByIndex(f.index), now.FieldByIndex(f.index))
			}
			return w.close(begin)
		}
	case kind == reflect.Pointer && !before.IsNil() && !now.IsNil():
		return w.add(before.Elem(), now.Elem())
	case kind == reflect.Slice && before.IsNil() == now.IsNil() && before.Len() == now.Len() && !shapeOf(now.Type()).isValue:
		for i := range now.Len() {
			mark := w.name(begin, strconv.Itoa(i))
			if !w.add(before.Index(i), now.Index(i)) {
				w.b = w.b[:mark]
			}
		}
		return w.close(begin)
	case kind == reflect.Map && before.IsNil() && now.IsNil():
		return false
	}
	if isSame(before, now) {
		return false
	}
	w.set(now)
	return true
}

func isSame(a, b reflect.Value) bool {
	switch {
	case a.CanInt():
		return a.Int() == b.Int()
	case a.CanUint():
		return a.Uint() == b.Uint()
	case a.CanFloat():
		return a.Float() == b.Float()
	case a.Kind() == reflect.Bool:
		return a.Bool() == b.Bool()
	case a.Kind() == reflect.String:
		return a.String() == b.String()
	case a.Kind() == reflect.Pointer && a.IsNil():
		return b.IsNil()
	}
	return reflect.DeepEqual(a.Interface(), b.Interface())
}

// addField writes the change of a field of the struct that begins at begin.
func (w *writer) addField(begin int, f field, before, now reflect.Value) {
	mark := w.name(begin, f.name)
	switch had, has := f.isWritten(before), f.isWritten(now); {
	case had && has:
		if !w.add(before, now) {
			w.b = w.b[:mark]
		}
	case has:
		w.set(now)
	case had:
		w.b = append(w.b, "[]"...)
	default:
		w.b = w.b[:mark]
	}
}

// name writes the name of a member of what begins at begin. It returns where it wrote.
func (w *writer) name(begin int, name string) (at int) {
	at = len(w.b)
	before := byte(',')
	if at == begin {
		before = '{'
	}
	w.b = append(append(append(w.b, before, '"'), name...), '"', ':')
	return at
}

// close ends what begins at begin, if it has members.
func (w *writer) close(begin int) bool {
	if len(w.b) == begin {
		return false
	}
	w.b = append(w.b, '}')
	return true
}

// set writes a new value.
func (w *writer) set(v reflect.Value) {
	text, err := json.Marshal(v.Interface())
	if w.err == nil {
		w.err = err
	}
	w.b = append(append(append(w.b, '['), text...), ']')
}

// shape is what JSON makes of a type.
type shape struct {
	isValue bool    // nothing in it has a name: bytes, or a type that writes itself
	fields  []field // of a struct
}

// field is a field of a struct as JSON has it. Embedded structs count as their fields.
type field struct {
	index               []int
	name                string
	omitEmpty, omitZero bool
}

// isWritten: the field is there in JSON if it has this value.
func (f *field) isWritten(v reflect.Value) bool {
	if f.omitZero && v.IsZero() {
		return false
	}
	if !f.omitEmpty {
		return true
	}
	switch v.Kind() {
	case reflect.Map, reflect.Slice, reflect.String, reflect.Array:
		return v.Len() > 0
	case reflect.Struct:
		return true
	}
	return !v.IsZero()
}

var (
	marshaler     = reflect.TypeFor[json.Marshaler]()
	textMarshaler = reflect.TypeFor[encoding.TextMarshaler]()
	known         sync.Map // of shapes, by type
)

func shapeOf(t reflect.Type) *shape {
	if s, ok := known.Load(t); ok {
		return s.(*shape)
	}
	p := reflect.PointerTo(t)
	isBytes := t.Kind() == reflect.Slice && t.Elem().Kind() == reflect.Uint8
	s := &shape{isValue: isBytes || p.Implements(marshaler) || p.Implements(textMarshaler)}
	if t.Kind() == reflect.Struct {
		s.fields = fieldsOf(t)
	}
	known.Store(t, s)
	return s
}

func fieldsOf(t reflect.Type) (list []field) {
	for _, f := range reflect.VisibleFields(t) {
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if !f.IsExported() || f.Anonymous && name == "" || name == "-" {
			continue
		}
		if name == "" {
			name = f.Name
		}
		list = append(list, field{
			index:     f.Index,
			name:      name,
			omitEmpty: strings.Contains(options, "omitempty"),
			omitZero:  strings.Contains(options, "omitzero"),
		})
	}
	return list
}
