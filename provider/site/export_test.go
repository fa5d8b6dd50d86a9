package site

// OpenAccounts returns how many accounts are open.
func (h *Host) OpenAccounts() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.open)
}
