package guard

import (
	"fmt"
	"math/big"
	"math/rand/v2"
	"testing"
	"time"
)

// TestLimitAgainstRationals plays a million random requests against a bucket
// that is computed with exact fractions.
func TestLimitAgainstRationals(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 2))
	for _, c := range []struct {
		count int
		per   time.Duration
		burst int
	}{{7, time.Minute, 3}, {1, time.Hour, 1}, {333, time.Second, 50}, {1_000_000, time.Hour, 900}} {
		l := NewLimit(c.count, c.per, c.burst, true)
		burst, rate := big.NewRat(int64(c.burst), 1), big.NewRat(int64(c.count), int64(c.per))
		level, now, one := new(big.Rat).Set(burst), time.Duration(0), big.NewRat(1, 1)
		taken := 0
		for i := range steps / 4 {
			step := time.Duration(rnd.Int64N(3*int64(c.per)/int64(c.count)/2 + 1))
			if rnd.IntN(10_000) == 0 {
				step = time.Duration(rnd.Int64N(int64(24 * time.Hour)))
			}
			now += step
			if level.Add(level, new(big.Rat).Mul(rate, big.NewRat(int64(step), 1))); level.Cmp(burst) > 0 {
				level.Set(burst)
			}
			want := level.Cmp(one) >= 0
			if want {
				level.Sub(level, one)
				taken++
			}
			got := l.Take([]byte("k"), now)
			left := new(big.Int).Quo(level.Num(), level.Denom()).Int64()
			if got.OK != want || int64(got.Left) != left {
				t.Fatalf("%+v, request %d at %s: got %+v, want %t with %d left", c, i, now, got, want, left)
			}
			if got.Wait > 0 && rnd.IntN(10) == 0 { // a token is there then, and not a nanosecond before
				now += got.Wait - 1
				if l.Take([]byte("k"), now).OK {
					t.Fatalf("%+v: a token before its time", c)
				}
				now++
				if !l.Take([]byte("k"), now).OK {
					t.Fatalf("%+v: no token when there should be one", c)
				}
				level.Set(exactLevel(l, "k"))
			}
		}
		if taken == 0 || taken == steps/4 {
			t.Errorf("%+v: %d of 250000 were let through", c, taken)
		}
	}
}

// exactLevel is the tokens of a bucket as a fraction.
func exactLevel(l *Limit, key string) *big.Rat {
	for i := range l.shards {
		if b := l.shards[i].buckets[key]; b != nil {
			return big.NewRat(b.level, l.per)
		}
	}
	return nil
}

// TestLimitKeys: keys do not touch each other, and the least recently used one
// makes room.
func TestLimitKeys(t *testing.T) {
	l := NewLimit(1, time.Hour, 1, true)
	key := func(i int) []byte { return fmt.Appendf(nil, "terminal-%d", i) }
	for i := range 1000 {
		if !l.Take(key(i), 0).OK || l.Take(key(i), 0).OK {
			t.Fatalf("key %d does not have one token of its own", i)
		}
	}
	for i := range 10 * MaxKeys {
		l.Take(key(1_000_000+i), 0)
		l.Take(key(7), 0) // stays in use
	}
	if n := l.Keys(); n > MaxKeys {
		t.Errorf("%d keys are kept, more than %d", n, MaxKeys)
	}
	if l.Take(key(7), 0).OK {
		t.Error("a key in use was forgotten")
	}
	if !l.Take(key(8), 0).OK {
		t.Error("a key out of use was kept although there was no room")
	}
}

func BenchmarkLimit(b *testing.B) {
	l := NewLimit(1000, time.Second, 1000, true)
	key := []byte("header value of some length")
	b.ReportAllocs()
	for i := 0; b.Loop(); i++ {
		l.Take(key, time.Duration(i))
	}
}
