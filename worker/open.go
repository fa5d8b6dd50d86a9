package worker

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"sync"
	"time"

	"filippo.io/age"

	"deftheron/core/gate"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/provider/declared"
	"deftheron/provider/network"
	"deftheron/provider/site"
)

// open opens an account of the service.
func (r *run) open(ctx context.Context, account site.ToOpen) (store.Store, error) {
	provider, opening, err := r.prepare(account)
	if err != nil {
		return nil, err
	}
	opening.Gate = r.gateOf(account.Account)
	return provider.Open(ctx, opening)
}

// prepare returns the provider of an account, and what it opens the account with. The gate is for the few
// requests of signing in.
func (r *run) prepare(account site.ToOpen) (store.Provider, store.Opening, error) {
	provider, err := r.provider(account)
	if err != nil {
		return nil, store.Opening{}, err
	}
	secret, err := r.unseal(account.Secret)
	if err != nil {
		return nil, store.Opening{}, err
	}
	return provider, store.Opening{
		Account: account.Name, Options: account.Options, Start: account.Start, ReadOnly: account.ReadOnly,
		Secrets: &secrets{run: r, of: account, now: secret}, Gate: gate.New("sign-in", 4, 4),
		Dial: dial,
		Transport: network.Transport{Proxy: http.ProxyFromEnvironment, Reach: network.ReachOf(provider, account.Options),
			Showed: account.Showed}.New(),
		OnCertificate: account.Showed,
		Now:           clock(account.Ahead), Log: r.options.Log.With("account", account.Name),
	}, nil
}

// clock is the clock of the service, by which tokens end; or this machine's if the two agree.
func clock(ahead time.Duration) func() time.Time {
	const agree = 5 * time.Second
	if ahead.Abs() < agree {
		return time.Now
	}
	return func() time.Time { return time.Now().Add(ahead) }
}

// dial is store.Opening.Dial.
func dial(ctx context.Context, _, address string) (net.Conn, error) {
	return network.DialThrough(ctx, http.ProxyFromEnvironment, address)
}

// provider returns the provider of an account: one that the program brings, or one that the service
// describes. Places of this machine are those that its own options allow.
func (r *run) provider(account site.ToOpen) (store.Provider, error) {
	if len(account.Definition) > 0 {
		definition, err := declared.Load(account.Provider+".yaml", account.Definition)
		if err != nil {
			return nil, err
		}
		return declared.New(definition), nil
	}
	for _, provider := range r.options.Providers {
		if provider.Name() != account.Provider {
			continue
		}
		local, ofMachine := provider.(store.Restrictable)
		if !ofMachine {
			return provider, nil
		}
		if len(r.options.Folders) == 0 {
			return nil, store.Errorf(store.ErrRefused, "the worker %s shows no folders of its machine; "+
				"start it there with heron worker --folders DIR", r.keys.Name)
		}
		return local.Restrict(r.options.Folders, []string{r.options.Data}), nil
	}
	return nil, remedy.Errorf("the worker does not know the provider %s; install the version of the service on it", account.Provider)
}

// unseal opens a secret that is sealed to this worker.
func (r *run) unseal(sealed []byte) ([]byte, error) {
	if len(sealed) == 0 {
		return nil, nil
	}
	identity, err := age.ParseX25519Identity(r.keys.Identity)
	if err != nil {
		return nil, fmt.Errorf("read the key of the worker: %w", err)
	}
	plain, err := age.Decrypt(bytes.NewReader(sealed), identity)
	if err != nil {
		return nil, fmt.Errorf("open the secret of the account: %w", err)
	}
	return io.ReadAll(plain)
}

// secrets keep the secret of an account in memory alone. One that is replaced is saved by the service.
type secrets struct {
	run    *run
	of     site.ToOpen
	mu     sync.Mutex
	now    []byte
	loaded bool // it was used once
}

// Load implements store.Secrets. It asks again for a secret that is good for a short time.
func (s *secrets) Load(ctx context.Context) ([]byte, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.of.Lent && s.loaded {
		token, err := ask[site.AskToken, site.Token](ctx, s.run, site.SaysToken,
			site.AskToken{Account: s.of.Account, Generation: s.of.Generation})
		if err == nil {
			err = token.Err()
		}
		if err != nil {
			return nil, err
		}
		if s.now, err = s.run.unseal(token.Sealed); err != nil {
			return nil, err
		}
	}
	s.loaded = true
	return bytes.Clone(s.now), nil
}

// Save implements store.Secrets.
func (s *secrets) Save(ctx context.Context, old, new []byte) error {
	answer, err := s.run.bus.RequestWithContext(ctx, site.FromSubject(s.run.keys.ID, site.SaysSecret),
		site.Encode(site.NewSecret{Account: s.of.Account, Generation: s.of.Generation, Old: old, New: new}))
	if err != nil {
		return store.Errorf(store.ErrTryAgain, "the service did not save the secret: %w", err)
	}
	refusal, err := site.Decode[site.Refusal](answer.Data)
	if err == nil {
		err = refusal.Err()
	}
	if err == nil {
		s.mu.Lock()
		s.now = bytes.Clone(new)
		s.mu.Unlock()
	}
	return err
}
