package carry

import (
	"strings"

	"nightjar/proxy/http1"
)

// lookedUp are fields of a request that were looked up, for the next time.
type lookedUp struct {
	values [8]struct {
		key  string
		list []string
	}
	n    int
	room []string
}

// find are the values of a field by its canonical name; nil: there is none.
func (l *lookedUp) find(in *http1.Fields, key string) []string {
	for i := range l.n {
		if l.values[i].key == key {
			return l.values[i].list
		}
	}
	from := len(l.room)
	for i := range in.List {
		if f := &in.List[i]; len(f.Name) == len(key) && strings.EqualFold(f.Name, key) {
			l.room = append(l.room, f.Value)
		}
	}
	var list []string
	if len(l.room) > from {
		list = l.room[from:len(l.room):len(l.room)]
	}
	if l.n < len(l.values) {
		l.values[l.n].key, l.values[l.n].list = key, list
		l.n++
	}
	return list
}

// forget makes it that of another request.
func (l *lookedUp) forget() { l.n, l.room = 0, l.room[:0] }
