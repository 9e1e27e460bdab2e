package guard

import (
	"sync/atomic"
	"time"
)

// slots is how many parts a window has. What is counted leaves it part by part,
// so a window covers between 15/16 and all of its time.
const slots = 16

// window counts over the last while. It is safe for concurrent use and takes
// one atomic operation a count: each word holds the number of its part in the
// upper half and the count in the lower.
type window struct {
	words [slots]atomic.Uint64
}

// part is the number of the part in which now lies, of a window over that time.
func part(now, over time.Duration) uint32 {
	return uint32(now/max(over/slots, 1)) + 1 // never that of a fresh word
}

func (w *window) add(part uint32) {
	word := &w.words[part%slots]
	for {
		old := word.Load()
		if int32(uint32(old>>32)-part) >= 0 { // this part, or somebody was quicker and it is a newer one
			word.Add(1)
			return
		}
		if word.CompareAndSwap(old, uint64(part)<<32|1) {
			return
		}
	}
}

func (w *window) sum(part uint32) (n uint64) {
	for i := range w.words {
		word := w.words[i].Load()
		if word > 0 && int32(part-uint32(word>>32)) < slots {
			n += word & (1<<32 - 1)
		}
	}
	return n
}

func (w *window) clear() {
	for i := range w.words {
		w.words[i].Store(0)
	}
}
