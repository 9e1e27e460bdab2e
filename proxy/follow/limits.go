package follow

import (
	"context"
	"net/http"
	"time"

	"nightjar/core/lease"
	"nightjar/wire"
)

// limitsTime bounds one exchange about limits.
const limitsTime = time.Second

// share has tokens of limits of the whole mesh dealt out, until ctx is done: at once for the
// requests that wait for one, and all that are used now and then.
func (s *Session) share(ctx context.Context) {
	ticks := time.NewTicker(lease.Time)
	defer ticks.Stop()
	for {
		isUrgent := false
		select {
		case <-ctx.Done():
			return
		case <-ticks.C:
		case <-s.follower.wanted:
			isUrgent = true
		}
		s.exchange(ctx, isUrgent)
	}
}

func (s *Session) exchange(ctx context.Context, isUrgent bool) {
	var in wire.LimitAsks
	var rounds []*lease.Round
	f := s.follower
	for _, h := range f.Table.Load().Shared() {
		r, hasMore := h.Collect(f.now(), isUrgent)
		if hasMore && isUrgent {
			f.want()
		}
		if len(r.Asks) > 0 {
			rounds = append(rounds, r)
			in.Limits = append(in.Limits, wire.LimitAsk{ID: h.ID, Asks: r.Asks})
		}
	}
	if len(rounds) == 0 {
		return
	}
	ctx, stop := context.WithTimeout(ctx, limitsTime)
	defer stop()
	var out wire.LimitGrants
	err := s.call(ctx, http.MethodPost, "/limits", in, &out)
	for i, r := range rounds {
		if err != nil || i >= len(out.Limits) || out.Limits[i].Grants == nil {
			r.Failed(f.now())
			continue
		}
		r.Settle(out.Limits[i].Grants, out.Limits[i].Among, f.now())
	}
}

// want has tokens asked for soon. It does not wait.
func (f *Follower) want() {
	select {
	case f.wanted <- struct{}{}:
	default:
	}
}
