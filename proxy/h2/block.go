package h2

import (
	"strconv"
	"strings"

	"golang.org/x/net/http2/hpack"

	"nightjar/proxy/http1"
)

// Limits of a header list.
const (
	maxFields = 256
	maxList   = 64 << 10 // bytes, as RFC 9113, section 6.5.2, counts; for requests and answers
	maxString = 64 << 10
)

// Block is a header list as it came: the head of a message, an interim answer, or a
// trailer. Its strings stay good.
type Block struct {
	Method, Scheme, Authority, Path string
	Protocol                        string // of an extended CONNECT (RFC 8441)
	Status                          int
	http1.Fields                             // but what begins with a colon
	Secret                          []string // names of fields that enter no table on their way (RFC 7541, section 7.1.3)
	IsTooLarge                      bool     // it is over a limit, and not whole

	length    int64 // what Content-Length says; -1: nothing
	size      int
	came      uint8  // which of the fields with a colon
	isRegular bool   // a field without a colon came
	why       string // it is malformed; empty: not so far
}

// Bits of Block.came.
const (
	cameMethod uint8 = 1 << iota
	cameScheme
	cameAuthority
	camePath
	cameProtocol
	cameStatus
)

func (b *Block) reset() {
	b.Method, b.Scheme, b.Authority, b.Path, b.Protocol, b.Status = "", "", "", "", "", 0
	b.Fields.Reset()
	b.Secret = b.Secret[:0]
	b.IsTooLarge, b.length, b.size, b.came, b.isRegular, b.why = false, -1, 0, 0, false, ""
}

// Length is what Content-Length says; -1: nothing.
func (b *Block) Length() int64 { return b.length }

// add takes a field in. False: the list is over a limit, and nothing more of it is wanted.
func (b *Block) add(f *hpack.HeaderField) bool {
	b.size += len(f.Name) + len(f.Value) + 32
	if b.size > maxList || len(b.List) >= maxFields {
		b.IsTooLarge = true
		return false
	}
	switch {
	case b.why != "":
	case f.Name == "":
		b.why = "a field has no name"
	case f.Name[0] == ':':
		b.pseudo(f)
	default:
		b.isRegular = true
		b.regular(f)
	}
	return true
}

func (b *Block) pseudo(f *hpack.HeaderField) {
	var bit uint8
	var to *string
	switch f.Name {
	case ":method":
		bit, to = cameMethod, &b.Method
	case ":scheme":
		bit, to = cameScheme, &b.Scheme
	case ":authority":
		bit, to = cameAuthority, &b.Authority
	case ":path":
		bit, to = camePath, &b.Path
	case ":protocol":
		bit, to = cameProtocol, &b.Protocol
	case ":status":
		bit = cameStatus
		n, err := strconv.Atoi(f.Value)
		if err != nil || len(f.Value) != 3 || n < 100 {
			b.why = "the status is not a number of three digits"
			return
		}
		b.Status = n
	}
	switch {
	case bit == 0:
		b.why = "there is no field " + strconv.Quote(f.Name) + " that begins with a colon"
	case b.came&bit != 0:
		b.why = "more than one " + f.Name
	case b.isRegular:
		b.why = f.Name + " comes after other fields"
	case !isValue(f.Value):
		b.why = f.Name + " has a character that no field has"
	default:
		b.came |= bit
		if to != nil {
			*to = f.Value
		}
	}
}

func (b *Block) regular(f *hpack.HeaderField) {
	for i := range len(f.Name) {
		if !names[f.Name[i]] {
			b.why = strconv.Quote(f.Name) + " cannot be the name of a field"
			return
		}
	}
	// Space around a value is no part of it (RFC 9110, section 5.5). It is taken away, as from
	// HTTP/1.1, and not called malformed: a status message of gRPC may end in some.
	if v := f.Value; v != "" && (v[0] <= ' ' || v[len(v)-1] <= ' ') {
		f.Value = strings.Trim(v, " \t")
	}
	if !isValue(f.Value) {
		b.why = "field " + f.Name + " has a character that no value has"
		return
	}
	switch f.Name { // RFC 9113, section 8.2.2
	case "connection", "proxy-connection", "keep-alive", "transfer-encoding", "upgrade":
		b.why = f.Name + " does not belong into HTTP/2"
		return
	case "te":
		if !strings.EqualFold(f.Value, "trailers") {
			b.why = "te says something else than trailers"
			return
		}
	case "content-length":
		n, err := strconv.ParseUint(f.Value, 10, 63)
		if err != nil || f.Value[0] == '+' || b.length >= 0 && b.length != int64(n) {
			b.why = "content-length is not one number of bytes"
			return
		}
		b.length = int64(n)
	}
	if f.Sensitive {
		b.Secret = append(b.Secret, f.Name)
	}
	b.Fields.Add(f.Name, f.Value)
}

// asRequest, asAnswer and asTrailer tell why the block is malformed as what it is to be;
// empty: it is not (RFC 9113, sections 8.1 and 8.3).
func (b *Block) asRequest() string {
	const all = cameMethod | cameScheme | camePath
	switch {
	case b.why != "":
		return b.why
	case b.came&cameStatus != 0:
		return "a request has a status"
	case b.came&cameMethod == 0 || b.Method == "":
		return "a request without a method"
	case b.Protocol != "" && b.Method != "CONNECT":
		return "only CONNECT has a protocol"
	case b.Method == "CONNECT" && b.Protocol == "":
		if b.came&(cameScheme|camePath) != 0 || b.Authority == "" {
			return "CONNECT has an authority, and neither scheme nor path"
		}
		return ""
	case b.came&all != all || b.Path == "" || b.Scheme == "":
		return "a request without a scheme or a path"
	}
	for i := range len(b.Method) {
		if c := b.Method[i]; !names[c] && !(c >= 'A' && c <= 'Z') {
			return "a method that is none"
		}
	}
	return ""
}

func (b *Block) asAnswer() string {
	switch {
	case b.why != "":
		return b.why
	case b.came != cameStatus:
		return "an answer has a status, and nothing else that begins with a colon"
	case b.Status == 101:
		return "HTTP/2 does not switch protocols"
	}
	return ""
}

func (b *Block) asTrailer() string {
	switch {
	case b.why != "":
		return b.why
	case b.came != 0:
		return "a trailer has a field that begins with a colon"
	}
	return ""
}

// names are the bytes of a field's name: those of a token, without capitals (RFC 9113,
// section 8.2.1). values are those of a value.
var names, values = func() (n, v [256]bool) {
	for c := range 256 {
		n[c] = c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c < 0x80 && strings.IndexByte("!#$%&'*+-.^_`|~", byte(c)) >= 0
		v[c] = c == '\t' || c >= ' ' && c != 0x7f
	}
	return
}()

func isValue(s string) bool {
	for i := range len(s) {
		if !values[s[i]] {
			return false
		}
	}
	return true
}
