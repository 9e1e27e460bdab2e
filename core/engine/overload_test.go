package engine

import (
	"container/heap"
	"math/rand/v2"
	"testing"
	"time"

	"nightjar/core/rules"
)

// event is something that happens at a time of the simulation.
type event struct {
	at time.Duration
	do func(now time.Duration)
}

type agenda []event

func (a agenda) Len() int           { return len(a) }
func (a agenda) Less(i, j int) bool { return a[i].at < a[j].at }
func (a agenda) Swap(i, j int)      { a[i], a[j] = a[j], a[i] }
func (a *agenda) Push(x any)        { *a = append(*a, x.(event)) }
func (a *agenda) Pop() any          { old := *a; x := old[len(old)-1]; *a = old[:len(old)-1]; return x }

// overload plays an instance that does one request at a time, in 10 ms, first
// come first served, and does not begin what nobody waits for any more. After
// ten seconds at 80/s come five at 150/s, more than its 100/s, and then 80/s
// again. It returns the success from ten seconds after that on, and how many
// tries there were for each request then.
func overload(t *testing.T, retry string, change func(*rules.Retry)) (success, load float64) {
	rs, found := rules.Check([]rules.File{{Name: "f", Text: guarded(retry + "    routes: [{name: all, send: v1}]\n")}}, rules.Live{})
	if rules.Mistakes(found) > 0 {
		t.Fatal(found[0].Text())
	}
	if change != nil {
		change(rs.Services[0].Retry)
	}
	table, err := Compile(rs, crowd("s/v1"), Options{})
	if err != nil {
		t.Fatal(err)
	}
	const work = 10 * ms
	rnd := rand.New(rand.NewPCG(11, 12))
	var todo agenda
	at := func(when time.Duration, do func(now time.Duration)) { heap.Push(&todo, event{when, do}) }

	type try struct {
		x        *Exchange
		deadline time.Duration
		n        int // of its exchange
	}
	var line []try
	busy := false
	ok, asked, tries := 0, 0, 0
	var carry func(x *Exchange, s Step, now time.Duration)
	var serve func(now time.Duration)
	serve = func(now time.Duration) {
		for len(line) > 0 && !busy {
			next := line[0]
			if line = line[1:]; next.deadline <= now {
				continue
			}
			busy = true
			at(now+work, func(now time.Duration) {
				busy = false
				if now <= next.deadline && next.x.Attempts() == next.n {
					carry(next.x, next.x.Next(Outcome{Status: 200}, now), now)
				}
				serve(now)
			})
		}
	}
	late := 25 * time.Second
	carry = func(x *Exchange, s Step, now time.Duration) {
		switch s.Kind {
		case Attempt:
			n := x.Attempts()
			line = append(line, try{x, s.Deadline, n})
			at(s.Deadline+1, func(now time.Duration) {
				if x.Attempts() == n && x.state == stateSent {
					carry(x, x.Next(Outcome{Reason: TimedOut}, now), now)
				}
			})
			serve(now)
		case Wait:
			at(s.Deadline, func(now time.Duration) { carry(x, x.Next(Outcome{}, now), now) })
		default:
			if x.began > late {
				asked++
				if tries += x.Attempts(); s.Status == 200 {
					ok++
				}
			}
			x.End(Finished, now)
		}
	}
	var arrive func(now time.Duration)
	arrive = func(now time.Duration) {
		x := new(Exchange)
		carry(x, x.Begin(table, Entry{}, get("s", "/"), now), now)
		rate := 80.0
		if now > 10*time.Second && now < 15*time.Second {
			rate = 150
		}
		at(now+time.Duration(rnd.ExpFloat64()/rate*float64(time.Second)), arrive)
	}
	at(0, arrive)
	for len(todo) > 0 && todo[0].at < 45*time.Second {
		e := heap.Pop(&todo).(event)
		e.do(e.at)
	}
	return float64(ok) / float64(asked), float64(tries) / float64(asked)
}

// TestRetriesDoNotKeepAnOverloadGoing: retries without a budget turn a short
// overload into one that stays; with one it passes as it does without retries.
func TestRetriesDoNotKeepAnOverloadGoing(t *testing.T) {
	const rule = "    retry: {times: 3, each: 300ms, on: [timeout], wait: 10ms..50ms, budget: 20%}\n"
	none, _ := overload(t, "", nil)
	ours, load := overload(t, rule, nil)
	free, freeLoad := overload(t, rule, func(r *rules.Retry) { r.Budget = 1000 * rules.Whole })
	t.Logf("after the overload: no retries %.3f, with a budget %.3f (load %.2f), without one %.3f (load %.2f)", none, ours, load, free, freeLoad)
	if none < 0.99 || ours < 0.99 || load > 1.21 {
		t.Errorf("no retries %.3f, with a budget %.3f at load %.2f: the overload stayed", none, ours, load)
	}
	if free > 0.6 || freeLoad < 2 {
		t.Errorf("without a budget %.3f at load %.2f: this is no test of budgets", free, freeLoad)
	}
}
