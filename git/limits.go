package git

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"

	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/format/packfile"
)

// limits are how much a repository may send. The library holds each object in memory, so a
// small pack could take all of it.
type limits struct {
	pack   int64 // bytes on the wire
	object int64 // bytes of one object
	total  int64 // bytes of all objects
}

var usualLimits = limits{pack: 512 << 20, object: 128 << 20, total: 4 << 30}

// check reads a pack without keeping anything of it.
func (l limits) check(ctx context.Context, pack io.Reader) error {
	s := packfile.NewScanner(pack)
	_, count, err := s.Header()
	if err != nil {
		return err
	}
	var total int64
	for range count {
		h, err := s.NextObjectHeader()
		if err != nil {
			return err
		}
		m := &measured{ctx: ctx, max: h.Length}
		if h.Length > l.object {
			return l.tooLarge(h.Length)
		}
		if _, _, err := s.NextObject(m); err != nil {
			return err
		}
		size := m.size
		if h.Type == plumbing.OFSDeltaObject || h.Type == plumbing.REFDeltaObject {
			size = m.target()
		}
		if size < 0 || size > l.object {
			return l.tooLarge(size)
		}
		if total += size; total > l.total {
			return failure("the objects of the repository have more than %d MiB: move the rules to a smaller one",
				l.total>>20)
		}
	}
	return nil
}

func (l limits) tooLarge(size int64) error {
	return failure("a file of the repository has %d MiB, and at most %d are read: move the rules to a "+
		"repository of their own", size>>20, l.object>>20)
}

// measured measures an object, and keeps its beginning.
type measured struct {
	ctx       context.Context
	size, max int64 // max: as its header says
	begin     []byte
}

func (m *measured) Write(b []byte) (int, error) {
	if m.size += int64(len(b)); m.size > m.max {
		return 0, fmt.Errorf("an object is larger than it says")
	}
	if room := 2*binary.MaxVarintLen64 - len(m.begin); room > 0 {
		m.begin = append(m.begin, b[:min(room, len(b))]...)
	}
	return len(b), m.ctx.Err()
}

// target is the size of the object that a difference makes: the second number in it.
func (m *measured) target() int64 {
	_, n := binary.Uvarint(m.begin)
	if n <= 0 {
		return -1
	}
	size, n := binary.Uvarint(m.begin[n:])
	if n <= 0 || size > 1<<62 {
		return -1
	}
	return int64(size)
}
