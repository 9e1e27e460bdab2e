package guard

import "nightjar/core/rules"

// Health judges the checks of one instance. It is taken to be up until enough
// checks in a row say otherwise.
type Health struct {
	Down   bool
	streak int // checks in a row that contradict Down
}

// Note takes the result of a check and tells whether it changed anything.
func (h *Health) Note(r *rules.Health, good bool) (changed bool) {
	if good != h.Down {
		h.streak = 0
		return false
	}
	enough := r.DownAfter
	if h.Down {
		enough = r.UpAfter
	}
	if h.streak++; h.streak < enough {
		return false
	}
	h.Down, h.streak = !h.Down, 0
	return true
}
