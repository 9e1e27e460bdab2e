package h2

import (
	"hash/maphash"
	"strings"
)

// encoder writes header lists (RFC 7541). A field enters the dynamic table when it
// is written for the second time: values that change with each message would only
// push those out that come back. Strings are not Huffman-coded, which costs more
// time than it saves bytes between processes.
type encoder struct {
	ring     []entry // entries of the table, the oldest at head; nil before the first
	head, n  int
	size     uint32 // of the table, as RFC 7541, section 4.1, counts
	max      uint32
	allowed  uint32 // by the peer, at least max
	isTold   bool   // the peer knows max
	inserted uint32 // entries so far; the newest has this number

	byField [256]uint32 // number of the newest entry with that hash; 0: none
	seen    [256]uint16 // more of the hash of the field that was written last with it
}

type entry struct{ name, value string }

func (e *entry) cost() uint32 { return uint32(len(e.name)+len(e.value)) + 32 }

const (
	ringSize  = defaultTable / 32 // the most entries that a table holds, with their cost; a power of two
	maxCached = 512               // bytes of a field that is kept in the table
)

func newEncoder() encoder { return encoder{max: defaultTable, allowed: defaultTable, isTold: true} }

// setMax takes the peer's bound of the table. A table that has to get smaller gets larger
// again only with the next list: of two updates in one, not every decoder takes the second.
func (e *encoder) setMax(v uint32) {
	if e.allowed = min(v, defaultTable); e.allowed < e.max {
		e.max, e.isTold = e.allowed, false
		e.evict(0)
	}
}

// evict makes room for an entry of that cost.
func (e *encoder) evict(room uint32) {
	for e.n > 0 && e.size+room > e.max {
		old := &e.ring[e.head]
		e.size -= old.cost()
		*old = entry{}
		e.head = (e.head + 1) % ringSize
		e.n--
	}
}

// begin begins a header list, with the size of the table if it has changed (RFC 7541,
// section 4.2).
func (e *encoder) begin(b []byte) []byte {
	switch {
	case !e.isTold:
		e.isTold = true
	case e.max < e.allowed:
		e.max = e.allowed
	default:
		return b
	}
	return appendInt(b, 5, 0x20, uint64(e.max))
}

var hashSeed = maphash.MakeSeed()

// field appends a field. Its strings are kept when it enters the table, unless it isBorrowed
// and they are good during the call alone. One that isSecret enters no table, here or further
// on (RFC 7541, section 7.1.3).
func (e *encoder) field(b []byte, name, value string, isSecret, isBorrowed bool) []byte {
	if isSecret {
		return appendLiteral(b, 4, 0x10, name, value)
	}
	if i := staticField(name, value); i > 0 {
		return append(b, 0x80|i)
	}
	h := maphash.String(hashSeed, name)*31 ^ maphash.String(hashSeed, value)
	slot, mark := uint8(h), uint16(h>>8)|1
	if number := e.byField[slot]; number > 0 && e.inserted-number < uint32(e.n) {
		behind := e.inserted - number // entries that are newer
		if at := &e.ring[(e.head+e.n-1-int(behind))%ringSize]; at.value == value && at.name == name {
			return appendInt(b, 7, 0x80, uint64(len(staticTable))+1+uint64(behind))
		}
	}
	if e.seen[slot] != mark || len(name)+len(value) > maxCached {
		e.seen[slot] = mark
		return appendLiteral(b, 4, 0, name, value)
	}
	if isBorrowed {
		name, value = strings.Clone(name), strings.Clone(value)
	}
	kept := entry{name, value}
	cost := kept.cost()
	if cost > e.max {
		return appendLiteral(b, 4, 0, name, value)
	}
	if e.ring == nil {
		e.ring = make([]entry, ringSize)
	}
	e.evict(cost)
	e.ring[(e.head+e.n)%ringSize] = kept
	e.n++
	e.size += cost
	e.inserted++
	e.byField[slot] = e.inserted
	return appendLiteral(b, 6, 0x40, name, value)
}

// appendLiteral appends a field in full, but for a name of the static table.
func appendLiteral(b []byte, prefix, kind byte, name, value string) []byte {
	i := staticNames[name]
	b = appendInt(b, prefix, kind, uint64(i))
	if i == 0 {
		b = appendString(b, name)
	}
	return appendString(b, value)
}

// appendInt appends an integer behind the bits of first (RFC 7541, section 5.1).
func appendInt(b []byte, prefix, first byte, v uint64) []byte {
	most := uint64(1)<<prefix - 1
	if v < most {
		return append(b, first|byte(v))
	}
	b = append(b, first|byte(most))
	for v -= most; v >= 0x80; v >>= 7 {
		b = append(b, byte(v)|0x80)
	}
	return append(b, byte(v))
}

func appendString(b []byte, s string) []byte {
	return append(appendInt(b, 7, 0, uint64(len(s))), s...)
}

// staticField is the index of a whole field in the static table; 0: it is not there,
// or hardly ever sent.
func staticField(name, value string) byte {
	if len(name) == 0 || name[0] != ':' {
		return 0
	}
	switch name {
	case ":method":
		switch value {
		case "GET":
			return 2
		case "POST":
			return 3
		}
	case ":path":
		if value == "/" {
			return 4
		}
	case ":scheme":
		switch value {
		case "http":
			return 6
		case "https":
			return 7
		}
	case ":status":
		switch value {
		case "200":
			return 8
		case "204":
			return 9
		case "206":
			return 10
		case "304":
			return 11
		case "400":
			return 12
		case "404":
			return 13
		case "500":
			return 14
		}
	}
	return 0
}

// staticTable are the names of the static table (RFC 7541, appendix A), in order.
var staticTable = [...]string{
	":authority", ":method", ":method", ":path", ":path", ":scheme", ":scheme", ":status", ":status", ":status",
	":status", ":status", ":status", ":status", "accept-charset", "accept-encoding", "accept-language",
	"accept-ranges", "accept", "access-control-allow-origin", "age", "allow", "authorization", "cache-control",
	"content-disposition", "content-encoding", "content-language", "content-length", "content-location",
	"content-range", "content-type", "cookie", "date", "etag", "expect", "expires", "from", "host", "if-match",
	"if-modified-since", "if-none-match", "if-range", "if-unmodified-since", "last-modified", "link", "location",
	"max-forwards", "proxy-authenticate", "proxy-authorization", "range", "referer", "refresh", "retry-after",
	"server", "set-cookie", "strict-transport-security", "transfer-encoding", "user-agent", "vary", "via",
	"www-authenticate",
}

var staticNames = func() map[string]uint8 {
	m := map[string]uint8{}
	for i := len(staticTable) - 1; i >= 0; i-- {
		m[staticTable[i]] = uint8(i + 1)
	}
	return m
}()
