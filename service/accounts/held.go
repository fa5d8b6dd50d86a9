package accounts

import (
	"context"
	"sync"

	"deftheron/core/store"
)

// heldSecret implements store.Secrets in memory alone.
type heldSecret struct {
	mu  sync.Mutex
	now []byte
}

// Load implements store.Secrets.
func (h *heldSecret) Load(context.Context) ([]byte, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.now, nil
}

// Save implements store.Secrets.
func (h *heldSecret) Save(_ context.Context, old, fresh []byte) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if string(old) != string(h.now) {
		return store.Errorf(store.ErrChanged, "the secret was replaced meanwhile")
	}
	h.now = fresh
	return nil
}
