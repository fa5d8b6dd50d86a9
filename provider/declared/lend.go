package declared

import (
	"context"
	"encoding/json"
)

// LendToken implements store.TokenLender: an access token that is not about to end, without what it is
// renewed with.
func (a *account) LendToken(ctx context.Context) ([]byte, error) {
	t, ok := a.signer.(*tokenSigner)
	if !ok || byConsent[t.way.Way] == "" {
		return nil, nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if !t.loaded || t.current.old(a.opening.Now()) || t.unsaved != nil {
		if err := t.renewLocked(ctx, t.current.Access); err != nil {
			return nil, err
		}
	}
	return json.Marshal(grant{Way: t.current.Way, Access: t.current.Access, Issued: t.current.Issued, Expires: t.current.Expires})
}
