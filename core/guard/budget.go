package guard

import (
	"sync"
	"time"

	"nightjar/core/rules"
)

// BudgetOver is the time over which a budget counts.
const BudgetOver = 10 * time.Second

// leastRetries may always be sent in that time: one a second.
const leastRetries = int(BudgetOver / time.Second)

// Budget bounds the retries to one service by a share of the requests to it.
// It is safe for concurrent use; counting a request takes no lock.
type Budget struct {
	requests, retries window
	mu                sync.Mutex // one decision at a time
}

// Request counts a request.
func (b *Budget) Request(now time.Duration) { b.requests.add(part(now, BudgetOver)) }

// Retry asks for permission to send one request again.
func (b *Budget) Retry(share rules.Percent, now time.Duration) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if _, _, left := b.State(share, now); left < 1 {
		return false
	}
	b.retries.add(part(now, BudgetOver))
	return true
}

// State is the requests and retries that count now, and how many retries are left.
func (b *Budget) State(share rules.Percent, now time.Duration) (requests, retries uint64, left int) {
	at := part(now, BudgetOver)
	requests, retries = b.requests.sum(at), b.retries.sum(at)
	most := max(int(requests*uint64(share)/uint64(rules.Whole)), leastRetries)
	return requests, retries, max(most-int(retries), 0)
}
