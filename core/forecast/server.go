package forecast

import (
	"nightjar/core/engine"
)

// server is an instance: its workload, with the requests that it works on.
type server struct {
	Behaviour
	proxy *proxy // by which it calls others; nil: outside the mesh, it calls nobody
	busy  int
	line  []*job // that wait for a place, in order
	head  int    // of line
}

// job is a request at an instance.
type job struct {
	s      *sim
	server *server
	call   *call // that waits for it; nil: a copy, whose answer nobody wants
	luck   Draw
	timer  timer
	works  bool
	gone   bool // nobody waits for it any more, and it stands in the line
	step   int  // of Behaviour.Calls
	left   int  // calls still to be made of that step
	count  int
	child  *call
}

func (s *sim) job(sv *server, c *call) *job {
	var j *job
	if n := len(s.jobs); n > 0 {
		j = s.jobs[n-1]
		s.jobs = s.jobs[:n-1]
	} else {
		j = &job{s: s}
		j.timer.job = j
	}
	j.server, j.call, j.works, j.gone, j.step, j.left, j.count, j.child = sv, c, false, false, 0, 0, 0, nil
	j.luck = c.luck.child(uint64(c.x.Attempts()))
	return j
}

// copyTo sends a copy of a request to an instance.
func (s *sim) copyTo(in *engine.Instance, c *call) {
	j := s.job(s.server(in), c)
	j.call = nil
	j.luck = c.luck.child(1 << 32)
	j.start()
}

// start begins to work, or waits for a place.
func (j *job) start() {
	sv := j.server
	if sv.AtOnce > 0 && sv.busy >= sv.AtOnce {
		sv.line = append(sv.line, j)
		return
	}
	j.work()
}

func (j *job) work() {
	sv := j.server
	sv.busy++
	j.works = true
	took := sv.Hop
	if sv.Own != nil {
		took += sv.Own(&j.luck)
	}
	ends := j.s.now + max(took, 0)
	if c := j.call; c != nil && len(sv.Calls) == 0 {
		// Only what comes first of answer and deadline has to be waited for.
		if ends > c.timer.at {
			return
		}
		j.s.unset(&c.timer)
	}
	j.s.set(&j.timer, ends, workEnded)
}

// worked goes on after the own time of a request.
func (j *job) worked() {
	if e := j.server.Errors; e > 0 && j.luck.Uniform() < e {
		j.finish(500)
		return
	}
	j.step = -1
	j.next()
}

// next makes the next call, or answers.
func (j *job) next() {
	for j.left == 0 {
		if j.step++; j.step >= len(j.server.Calls) {
			j.finish(200)
			return
		}
		per := j.server.Calls[j.step].PerOne
		j.left = int(per)
		if part := per - float64(j.left); part > 0 && j.luck.Uniform() < part {
			j.left++
		}
	}
	j.left--
	j.count++
	spec := &j.server.Calls[j.step]
	c := j.s.call(j.server.proxy)
	c.parent, c.needed, c.to = j, spec.Needed, spec.To
	c.luck = j.luck.child(uint64(j.count))
	c.request = pick(spec.Kinds, &c.luck)
	c.began = j.s.now
	if c.counts = j.call != nil && j.call.counts; j.call != nil {
		c.passed = j.call.passed
	}
	j.child = c
	c.begin()
}

// finish answers, and lets the next one in.
func (j *job) finish(status int) {
	c := j.call
	j.leave()
	if c != nil {
		c.answered(engine.Outcome{Status: status})
	}
}

// drop ends a job that nobody waits for any more.
func (j *job) drop() {
	if !j.works {
		j.gone = true
		j.call = nil
		return
	}
	j.s.unset(&j.timer)
	if j.child != nil {
		j.child.abandon()
		j.child = nil
	}
	j.leave()
}

// leave frees the place, and the job.
func (j *job) leave() {
	sv, s := j.server, j.s
	sv.busy--
	j.call, j.works = nil, false
	s.jobs = append(s.jobs, j)
	for sv.head < len(sv.line) && (sv.AtOnce == 0 || sv.busy < sv.AtOnce) {
		first := sv.line[sv.head]
		sv.line[sv.head] = nil
		if sv.head++; sv.head > 64 && sv.head*2 > len(sv.line) {
			sv.line = append(sv.line[:0], sv.line[sv.head:]...)
			sv.head = 0
		}
		if first.gone {
			s.jobs = append(s.jobs, first)
			continue
		}
		first.work()
	}
	if sv.head == len(sv.line) {
		sv.line, sv.head = sv.line[:0], 0
	}
}
