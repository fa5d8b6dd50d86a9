package accounts

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"deftheron/core/store"
	"deftheron/service/messages"
	"deftheron/service/records"
)

// secrets implements store.Secrets on the records, and for an account that is
// just being linked, on what it is linked with.
type secrets struct {
	accounts *Accounts
	unkept   bool // it is being linked just now

	mu      sync.Mutex
	linking records.Account
}

// now is the sealed secret of an account that is being linked, which may have
// been replaced since by the provider.
func (s *secrets) now() []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.linking.Secret
}

// row is the account that keeps the secret: itself, or the one whose sign-in it
// shares.
func (s *secrets) row(ctx context.Context) (records.Account, error) {
	s.mu.Lock()
	linking := s.linking
	s.mu.Unlock()
	keeper := linking.ID
	row, err := s.accounts.db.AccountByID(ctx, linking.ID)
	if err == nil {
		keeper = row.ID
		if row.SignedIn != "" {
			keeper = row.SignedIn
		}
	} else if errors.Is(err, records.ErrNotFound) && linking.SignedIn != "" {
		keeper = linking.SignedIn
	}
	if err == nil && keeper == row.ID {
		return row, nil
	}
	if errors.Is(err, records.ErrNotFound) && keeper == linking.ID {
		return linking, nil
	}
	return s.accounts.db.AccountByID(ctx, keeper)
}

// Lock implements store.SecretLocker.
func (s *secrets) Lock(ctx context.Context) (func(), error) {
	row, err := s.row(ctx)
	if err != nil {
		return nil, err
	}
	s.accounts.mu.Lock()
	lock := s.accounts.shared[row.ID]
	if lock == nil {
		lock = &sync.Mutex{}
		s.accounts.shared[row.ID] = lock
	}
	s.accounts.mu.Unlock()
	lock.Lock()
	return lock.Unlock, nil
}

// Load implements store.Secrets.
func (s *secrets) Load(ctx context.Context) ([]byte, error) {
	row, err := s.row(ctx)
	if err != nil {
		return nil, err
	}
	if row.Secret == nil && s.unkept {
		return nil, &store.OptionError{Option: "secret-file",
			Reason: "the secret is missing"}
	}
	if row.Secret == nil {
		return nil, store.Errorf(store.ErrSignInExpired,
			"the secret of the account %s was forgotten with its key; unlink it and link it again with its secret", row.Name)
	}
	if err := s.checkOrigin(row); err != nil {
		return nil, err
	}
	return s.accounts.sealer.Open(purpose(row.ID), row.Secret)
}

// otherOrigin is the error of a secret that was given for another server.
type otherOrigin struct{ account, given, now string }

func (o otherOrigin) Error() string {
	return fmt.Sprintf("the secret of /%s was given for %s, and is not sent to %s", o.account, o.given, o.now)
}

// checkOrigin holds where the secret of a row would be sent against where it was given
// for. The account may have been edited, or its definition.
func (s *secrets) checkOrigin(row records.Account) error {
	if s.unkept || row.Origin == "" {
		return nil
	}
	s.mu.Lock()
	linking := s.linking
	s.mu.Unlock()
	if now := s.accounts.originOf(linking); now != row.Origin {
		return messages.With(store.Errorf(store.ErrSignInExpired, "%w; give it again",
			otherOrigin{linking.Name, row.Origin, now}), "heron account reauthorize "+linking.Name+" --secret-file FILE")
	}
	return nil
}

// originOf is where the secret of an account is sent.
func (a *Accounts) originOf(row records.Account) string {
	provider, err := a.Provider(row.Provider)
	if err != nil {
		return ""
	}
	return store.SecretOrigins(provider, row.Options)
}

// KeepOrigins keeps of accounts that were linked by an earlier version where their
// secrets are sent.
func (a *Accounts) KeepOrigins(ctx context.Context) error {
	rows, err := a.db.Accounts(ctx)
	if err != nil {
		return err
	}
	for _, row := range rows {
		if row.Origin == "" && row.Secret != nil {
			if row.Origin = a.originOf(row); row.Origin == "" {
				continue
			}
			if err := a.db.SaveAccount(ctx, row, "Origin"); err != nil {
				return err
			}
		}
	}
	return nil
}

// Save implements store.Secrets.
func (s *secrets) Save(ctx context.Context, old, new []byte) error {
	current, err := s.Load(ctx)
	if err != nil {
		return err
	}
	row, err := s.row(ctx)
	if err != nil {
		return err
	}
	swapped := false
	sealed := s.accounts.sealer.Seal(purpose(row.ID), new)
	if string(current) == string(old) && s.swapUnkept(ctx, row, sealed) {
		return nil
	}
	if string(current) == string(old) {
		swapped, err = s.accounts.db.SwapSecret(ctx, row.ID, row.Secret, sealed)
	}
	if err == nil && !swapped {
		err = store.Errorf(store.ErrChanged, "the secret of %s was replaced meanwhile", row.Name)
	}
	return err
}

// swapUnkept replaces the secret of an account that is not in the records yet.
func (s *secrets) swapUnkept(ctx context.Context, row records.Account, sealed []byte) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !s.unkept || string(s.linking.Secret) != string(row.Secret) {
		return false
	}
	if _, err := s.accounts.db.AccountByID(ctx, row.ID); err == nil {
		return false // it is in the records by now
	}
	s.linking.Secret = sealed
	return true
}

// purpose is what an account's secret is sealed for.
func purpose(id string) string { return "account " + id }
