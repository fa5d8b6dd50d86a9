package runner

import "sync"

// returning wakes runs that wait for an account. The zero value is ready to use.
type returning struct {
	mu   sync.Mutex
	next chan struct{}
}

// wait returns a channel that the next call of tell closes.
func (r *returning) wait() <-chan struct{} {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.next == nil {
		r.next = make(chan struct{})
	}
	return r.next
}

func (r *returning) tell() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.next != nil {
		close(r.next)
		r.next = nil
	}
}

// AccountsReturned has runs look again at once for the accounts that they wait for.
func (r *Runner) AccountsReturned() { r.returning.tell() }
