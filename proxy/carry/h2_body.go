package carry

import (
	"nightjar/proxy/h2"
)

// smallBody is how much of a body is kept in any case, so that a request that was certainly
// not processed can be sent again.
const smallBody = 4 << 10

// Data takes a piece of the body.
func (d *h2Down) Data(b *h2.Batch, p []byte, flow int, isEnd bool) {
	f := (*h2Request)(d)
	f.lock(b)
	defer f.unlock()
	f.down.Credit(b, flow-len(p)) // padding is nobody's
	f.gotEnd = isEnd
	isOpen := f.up != nil && f.up.isOpen && f.doing != doingOver
	if f.doing != doingAnswer && (!isEnd || f.read > 0) { // else nobody waits for it, or it is here at once
		now := f.now()
		if !isOpen || f.up.Pending() == 0 {
			f.awaited += now - f.lastCame
		}
		f.lastCame = now
	}
	f.read += uint64(len(p))
	if e := f.edge; e != nil && e.Limits.Body > 0 && f.read > uint64(e.Limits.Body) && f.doing != doingOver {
		f.bodyErr = errTooLarge
		f.giveUp(errTooLarge)
	}
	if f.doing == doingOver || f.course == nil {
		f.down.Credit(b, len(p))
		return
	}
	if isOpen {
		sent, _ := f.up.Write(b, p, isEnd)
		f.gone += uint64(sent)
		f.credit(f.gone)
	}
	f.keepBody(p, isOpen)
	if isOpen && isEnd {
		f.mirrorWhole()
	}
}

// keepBody keeps a piece of the body for an attempt that comes, as far as it may.
func (f *h2Request) keepBody(p []byte, isSent bool) {
	if f.isLost { // or the answer goes by
		return
	}
	most := smallBody
	if f.open.to.mayRepeat || f.open.to.mirror != nil {
		most = keptBodyMax
	}
	held, o := &f.caller.l.HTTP2.held, f.open
	if isSent && (len(o.kept)+len(p) > most || held.IsOver()) {
		held.Add(-len(o.kept))
		f.isLost, o.kept = true, nil
		return
	}
	held.Add(len(p))
	o.kept = append(o.kept, p...)
}

// credit gives the caller room again for bytes of the body that have gone on.
func (f *h2Request) credit(gone uint64) {
	if gone >= f.credited+creditStep {
		f.down.Credit(f.batch, int(gone-f.credited))
		f.credited = gone
	}
}

// creditStep is for how many bytes at once room is given back: little of a window, and more
// than most messages.
const creditStep = 8 << 10

// takeTrailer takes the trailer of the request.
func (f *h2Request) takeTrailer(head *h2.Block) {
	f.gotEnd = true
	for i := range head.List {
		if field := &head.List[i]; !head.OneHop(field) && f.keepsTrailer(field.Name) {
			f.trailer = append(f.trailer, *field)
		}
	}
	if f.up != nil && f.up.isOpen && f.doing != doingOver {
		f.endRequest()
		f.mirrorWhole()
	}
}

// endRequest ends the request that goes on, with its trailer if there is one.
func (f *h2Request) endRequest() {
	if len(f.trailer) == 0 {
		f.up.Write(f.batch, nil, true)
		return
	}
	if w := f.up.Begin(f.batch); w != nil {
		w.Secret = f.secret
		for i := range f.trailer {
			w.Add(f.trailer[i].Name, f.trailer[i].Value)
		}
		w.End(true)
	}
}
