package wire

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
)

// SeriesList is written as one text: a thousand proxies tell of fifty series
// every second, and reading JSON would cost most of what the service has.
type SeriesList []Series

// flags of a Series in its compact form.
const (
	flagApp = 1 << iota
	flagCopy
)

func (s *Series) names() [7]*string {
	return [7]*string{&s.Caller, &s.Gate, &s.Service, &s.Version, &s.Instance, &s.Route, &s.RouteOf}
}

// MarshalText writes the list in base64.
func (l SeriesList) MarshalText() ([]byte, error) {
	b := binary.AppendUvarint(nil, uint64(len(l)))
	for i := range l {
		s := &l[i]
		flags := byte(0)
		if s.App {
			flags |= flagApp
		}
		if s.Copy {
			flags |= flagCopy
		}
		b = append(b, flags)
		b = binary.AppendUvarint(b, uint64(s.Revision))
		for _, name := range s.names() {
			b = binary.AppendUvarint(b, uint64(len(*name)))
			b = append(b, *name...)
		}
		b, _ = s.Counts.AppendBinary(b)
	}
	return base64.RawStdEncoding.AppendEncode(nil, b), nil
}

var errSeries = errors.New("series: not what MarshalText wrote; is the proxy of the same version as the service?")

// maxListed bounds a list that is read.
const maxListed = 100_000

// UnmarshalText reads what MarshalText wrote. The names share one text: whoever
// keeps one for long is to copy it.
func (l *SeriesList) UnmarshalText(text []byte) error {
	b, err := base64.RawStdEncoding.AppendDecode(nil, text)
	if err != nil {
		return errSeries
	}
	bad, whole := false, string(b)
	number := func() uint64 {
		v, n := binary.Uvarint(b)
		if n <= 0 {
			b, bad = nil, true
			return 0
		}
		b = b[n:]
		return v
	}
	many := number()
	if many > maxListed || many > uint64(len(b)) {
		return errSeries
	}
	list := make(SeriesList, many)
	for i := range list {
		s := &list[i]
		if len(b) == 0 {
			return errSeries
		}
		s.App, s.Copy = b[0]&flagApp != 0, b[0]&flagCopy != 0
		b = b[1:]
		s.Revision = uint(number())
		for _, name := range s.names() {
			n := number()
			if bad || n > uint64(len(b)) {
				return errSeries
			}
			at := len(whole) - len(b)
			*name, b = whole[at:at+int(n)], b[n:]
		}
		if b, err = s.Counts.Decode(b); err != nil {
			return errSeries
		}
	}
	if bad || len(b) > 0 {
		return errSeries
	}
	*l = list
	return nil
}
