package figures

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nightjar/core/stats"
	"nightjar/store"
	"nightjar/telemetry"
	"nightjar/wire"
)

// history is a mesh whose service crashes again and again, whose disk fails, and whose
// figures are read, merged and pruned meanwhile. It knows what was really counted.
type history struct {
	t       *testing.T
	rnd     *rand.Rand
	dir     string
	now     atomic.Int64
	store   *store.Store
	figures *Figures
	proxies []*reporter
	starts  int
	counted map[int64]map[string]uint64 // requests by minute and service
}

// reporter is a proxy that keeps what it counted until the service says that it is safe.
type reporter struct {
	nonce string
	seq   uint64
	sent  int
	held  []held
}

type held struct {
	at int64
	wire.Delta
}

// unreliable is a disk that fails before it has written, or only says that it failed.
type unreliable struct {
	*store.Store
	before, after atomic.Bool
}

var errDisk = errors.New("the disk says no")

func (u *unreliable) Apply(ctx context.Context, changes ...store.Change) error {
	if u.before.Load() {
		return errDisk
	}
	err := u.Store.Apply(ctx, changes...)
	if u.after.Load() {
		return errDisk
	}
	return err
}

// crash ends the service without a word, and starts the next one.
func (h *history) crash() {
	h.t.Helper()
	var err error
	if h.store != nil {
		h.store.Close()
	}
	if h.store, err = store.Open(h.dir, "test"); err != nil {
		h.t.Fatal(err)
	}
	now := func() time.Time { return time.Unix(h.now.Load(), 0) }
	if h.figures, err = Open(h.t.Context(), &unreliable{Store: h.store}, now); err != nil {
		h.t.Fatal(err)
	}
	for _, p := range h.proxies {
		p.sent = 0
	}
}

func (h *history) disk() *unreliable { return h.figures.records.(*unreliable) }

// count lets a proxy count requests of some services.
func (h *history) count(p *reporter) {
	at := h.now.Load()
	p.seq++
	d := wire.Delta{Nonce: p.nonce, Sequence: p.seq, Caller: "kiosk"}
	for range 1 + h.rnd.IntN(3) {
		// Names come, go, and come back.
		service, n := fmt.Sprint("s", (at/7200+h.rnd.Int64N(3))%11), 1+h.rnd.Uint64N(9)
		d.Series = append(d.Series, wire.Series{Service: service, Counts: stats.Counts{OK: n}})
		if h.counted[at/60] == nil {
			h.counted[at/60] = map[string]uint64{}
		}
		h.counted[at/60][service] += n
	}
	p.held = append(p.held, held{at, d})
}

// report sends what a proxy holds. Responses are lost now and then.
func (h *history) report(p *reporter, isReliable bool) {
	asked := false
	for p.sent < len(p.held) {
		one := &p.held[p.sent]
		one.Holds, one.AgoMS = p.held[0].Sequence, (h.now.Load()-one.at)*1000
		kept, _ := h.figures.Count(&one.Delta)
		if !isReliable && h.rnd.IntN(4) == 0 {
			return
		}
		if kept.Again {
			if asked {
				h.t.Fatal("the service was sent all there is, and asks for it again")
			}
			p.sent, asked = 0, true
			continue
		}
		for p.sent++; p.sent > 0 && p.held[0].Sequence <= kept.Sequence; p.sent-- {
			p.held = p.held[1:]
		}
	}
}

// settle lets everything reach the disk.
func (h *history) settle() {
	h.t.Helper()
	h.disk().before.Store(false)
	h.disk().after.Store(false)
	for range 2 {
		for _, p := range h.proxies {
			p.sent = 0
			h.report(p, true)
		}
		if err := h.figures.Write(h.t.Context()); err != nil {
			h.t.Fatal(err)
		}
	}
	for _, p := range h.proxies {
		p.sent = 0
		if h.report(p, true); len(p.held) > 0 {
			h.t.Fatalf("%d reports are held for ever", len(p.held))
		}
		if h.rnd.IntN(4) == 0 { // a new process in its place
			h.starts++
			*p = reporter{nonce: fmt.Sprint("p", h.starts)}
		}
	}
}

// read is what the figures say, by service.
func (h *history) read() map[string]uint64 {
	sum := map[string]uint64{}
	err := h.figures.Sum(h.t.Context(), 0, h.now.Load()+1, func(n *telemetry.Names, _ uint, c *stats.Counts) {
		if n.Service != "other-reader" {
			sum[n.Service] += c.Requests()
		}
	})
	if err != nil {
		h.t.Error(err)
	}
	return sum
}

func (h *history) mustBeEqual(what string) {
	h.t.Helper()
	want := map[string]uint64{}
	for _, minute := range h.counted {
		for service, n := range minute {
			want[service] += n
		}
	}
	if got := h.read(); !maps.Equal(got, want) {
		h.t.Fatalf("%s: the figures say\n%v, but counted were\n%v", what, got, want)
	}
}

// jump lets hours or days pass, and figures age, while others read and count.
func (h *history) jump() {
	h.t.Helper()
	h.settle()
	h.mustBeEqual("settled")
	h.now.Add(60 + h.rnd.Int64N([]int64{3600, 12 * 3600, store.CoarseTime, 2 * store.CoarseTime}[h.rnd.IntN(4)]))
	h.figures.Tidy(time.Unix(h.now.Load(), 0))
	cut := h.now.Load() - store.CoarseTime
	willPrune := h.rnd.IntN(2) == 0
	if !willPrune {
		h.figures.pruned = time.Unix(h.now.Load(), 0)
	} else {
		maps.DeleteFunc(h.counted, func(minute int64, _ map[string]uint64) bool { return minute*60 < cut })
		h.figures.pruned = time.Time{}
	}
	aged := make(chan error, 1)
	go func() { aged <- h.figures.Age(h.t.Context()) }()
	var others sync.WaitGroup
	defer others.Wait()
	others.Go(func() { // counts what is not looked at, and writes
		for i := range 5 {
			name := fmt.Sprint("r", h.starts, i, h.now.Load())
			h.figures.Count(&wire.Delta{Nonce: name, Sequence: 1, Holds: 1, Series: []wire.Series{{Service: "other-reader", Version: name, Counts: stats.Counts{OK: 1}}}})
			if err := h.figures.Write(h.t.Context()); err != nil {
				h.t.Error(err)
			}
		}
	})
	for isAged := false; !isAged; {
		select {
		case err := <-aged:
			if isAged = true; err != nil {
				h.t.Fatal(err)
			}
		default:
			if !willPrune {
				h.mustBeEqual("while minutes are made")
			}
		}
	}
	others.Wait()
	h.mustBeEqual("aged")
}

// TestEveryCountOnce: 200 random histories of crashes, a failing disk, lost responses,
// merging, pruning and readers, and each request counts once, under its name.
func TestEveryCountOnce(t *testing.T) {
	for seed := range uint64(200) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			h := &history{t: t, rnd: rand.New(rand.NewPCG(seed, 7)), dir: t.TempDir(), counted: map[int64]map[string]uint64{}}
			h.now.Store(1_800_000_000 + h.rnd.Int64N(3600))
			for i := range 3 {
				h.proxies = append(h.proxies, &reporter{nonce: fmt.Sprint("p0-", i)})
			}
			h.crash()
			for range 40 {
				h.now.Add(h.rnd.Int64N(8))
				for _, p := range h.proxies {
					h.count(p)
					if h.rnd.IntN(3) > 0 {
						h.report(p, false)
					}
				}
				switch h.rnd.IntN(12) {
				case 0:
					h.crash()
				case 1:
					h.disk().before.Store(h.rnd.IntN(2) == 0)
				case 2:
					h.disk().after.Store(h.rnd.IntN(2) == 0)
				case 3, 4, 5:
					h.figures.Write(t.Context())
				case 6:
					h.jump()
				case 7:
					h.figures.Tidy(time.Unix(h.now.Load(), 0))
				}
			}
			h.settle()
			h.mustBeEqual("at the end")
			h.crash()
			h.mustBeEqual("after a restart")
			h.store.Close()
		})
	}
}
