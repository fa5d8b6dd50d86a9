package accounts

import (
	"context"
	"crypto/rand"
	"sync"
	"time"

	"deftheron/core/gate"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/service/records"
)

// ConsentState is a state of a pending consent in one word.
type ConsentState string

// The states of a consent.
const (
	// ConsentWaiting: a person has to agree at the provider.
	ConsentWaiting ConsentState = "waiting"
	// ConsentAgreed: they did, and the account is being reached.
	ConsentAgreed ConsentState = "agreed"
	// ConsentLinked: the account is linked, or mended.
	ConsentLinked ConsentState = "linked"
	// ConsentGranted: they agreed, for a trial; nothing is linked.
	ConsentGranted ConsentState = "granted"
	// ConsentFailed: it failed; a new one must be started.
	ConsentFailed ConsentState = "failed"
)

// Consenting is what consent is asked for.
type Consenting struct {
	Link
	// Way in which a person agrees; empty takes the provider's first.
	Way store.ConsentWay
	// Callback is the address that a page leads back to.
	Callback string
	// ClientSecret is the secret of the app registration in Options.
	ClientSecret string
	// Reauthorize is whether the account is there already and its sign-in is made
	// again; of the Link, its name counts alone.
	Reauthorize bool
	// Trial is a provider that is not added yet, to be tried; nothing is
	// linked.
	Trial store.Provider
	// Console is set if the page leads back to the console, and not to a
	// terminal.
	Console bool
	// Browser, if not empty, is the hash of a value that the browser which began has in a cookie:
	// the page has to lead back to that one.
	Browser string
}

// Consent is a pending consent as others see it.
type Consent struct {
	ID       string
	Way      store.ConsentWay
	URL      string
	UserCode string
	Expires  time.Time
	State    ConsentState
	Err      error
	Account  records.Account // of one that is linked
	Found    Found
	Console  bool
}

// consents are those that are pending, and those that have just ended.
type consents struct {
	mu    sync.Mutex
	all   map[string]*pending
	group sync.WaitGroup
}

type pending struct {
	Consent
	asked    Consenting
	provider store.Provider
	asks     store.Consenter // the provider, by itself or at a site
	row      records.Account
	state    string // binds the answer to this consent
	used     bool   // an answer came
	by       string // who began it, in words
	user     string // and its id
	begun    store.Consent
	opening  store.Opening // one for all its requests, and their connections
	secret   []byte
}

// The limits of pending consents.
const (
	mostConsents  = 200
	consentKept   = 15 * time.Minute // after its end
	exchangeTime  = 40 * time.Second
	deviceSlowest = time.Minute
)

func byConsent(provider store.Provider, options map[string]string) bool {
	consenter, ok := provider.(store.Consenter)
	return ok && len(consenter.ConsentWays(options)) > 0
}

// ConsentOf reports whether the user of a context started a consent.
func (a *Accounts) ConsentOf(ctx context.Context, id string) bool {
	a.consents.mu.Lock()
	defer a.consents.mu.Unlock()
	p := a.consents.all[id]
	return p != nil && p.user == UserOf(ctx)
}

// BeginConsent begins to link an account by consent, after checking everything
// that can be wrong on this side. ctx ends what goes on in the background.
func (a *Accounts) BeginConsent(ctx, background context.Context, asked Consenting) (Consent, error) {
	p := &pending{asked: asked, state: rand.Text() + rand.Text()}
	p.by, _ = ctx.Value(byKey{}).(string)
	p.user = UserOf(ctx)
	var err error
	switch {
	case asked.Trial != nil:
		p.provider, p.row = asked.Trial, records.Account{Name: "trial", Provider: asked.Trial.Name(), Options: asked.Options,
			ReadOnly: asked.ReadOnly}
	case asked.Reauthorize:
		if p.row, err = a.row(ctx, asked.Name); err == nil {
			p.provider, err = a.Provider(p.row.Provider)
		}
	default:
		if p.row, err = a.check(ctx, asked.Link); err == nil {
			p.provider, err = a.Provider(asked.Provider)
		}
	}
	if err != nil {
		return Consent{}, err
	}
	way, err := chooseWay(p.provider, p.row.Options, asked.Way)
	if err != nil {
		return Consent{}, err
	}
	asking := store.ConsentAsking{Way: way, Callback: asked.Callback, State: p.state, ClientID: p.row.Options["client-id"],
		ClientSecret: asked.ClientSecret}
	if asking.ClientID == "" {
		if asking.ClientID, asking.ClientSecret, err = a.registration(ctx, p.provider.Name()); err != nil {
			return Consent{}, err
		}
	}
	beginning, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	var before store.Secrets = store.FixedSecret("")
	if asked.Reauthorize { // its registration is kept with the sign-in that it had
		before = &secrets{accounts: a, linking: p.row}
	}
	p.opening = a.openingFor(p.provider, p.row, consentGate(), before)
	if p.asks, err = reach[store.Consenter](beginning, a, p.provider, p.row, p.opening); err != nil {
		return Consent{}, err
	}
	if p.begun, err = p.asks.BeginConsent(beginning, p.opening, asking); err != nil {
		return Consent{}, err
	}
	p.Consent = Consent{
		ID: rand.Text(), Way: way, URL: p.begun.URL, UserCode: p.begun.UserCode, Expires: p.begun.Expires, State: ConsentWaiting,
		Console: asked.Console,
	}
	begun := p.Consent
	if err := a.consents.add(p); err != nil {
		return Consent{}, err
	}
	if way == store.ConsentByDevice {
		a.consents.group.Go(func() { a.pollDevice(background, p) })
	}
	return begun, nil
}

// chooseWay is the way that was asked for, if the provider has it, else its
// first.
func chooseWay(provider store.Provider, options map[string]string, wanted store.ConsentWay) (store.ConsentWay, error) {
	consenter, ok := provider.(store.Consenter)
	var ways []store.ConsentWay
	if ok {
		ways = consenter.ConsentWays(options)
	}
	if len(ways) == 0 {
		return "", store.Errorf(store.ErrRefused, "accounts at %s are not linked by consent; link them with their secret", provider.Title())
	}
	if wanted == "" {
		return ways[0], nil
	}
	for _, way := range ways {
		if way == wanted {
			return way, nil
		}
	}
	return "", store.Errorf(store.ErrRefused, "%s has no consent by %s; there is %v", provider.Title(), wanted, ways)
}

// openingFor returns the parameters with which a provider opens an account.
func (a *Accounts) openingFor(provider store.Provider, row records.Account, gate *gate.Gate, keeps store.Secrets) store.Opening {
	return store.Opening{
		Account: row.Name, Options: row.Options, Start: startPath(row.Start), Gate: gate, ReadOnly: row.ReadOnly,
		Secrets: keeps, Dial: a.dialFor(row.ID), Transport: a.transport(provider, row),
		OnCertificate: a.showed(row.ID),
		Now:           time.Now, Log: a.log.With("account", row.Name),
	}
}

// consentGate is for the few requests of signing in and out.
func consentGate() *gate.Gate { return gate.New("consent", 4, 4) }

func (c *consents) add(p *pending) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all == nil {
		c.all = map[string]*pending{}
	}
	now := time.Now()
	for id, other := range c.all {
		if now.After(other.Expires.Add(consentKept)) {
			delete(c.all, id)
		}
	}
	if len(c.all) >= mostConsents {
		return store.Errorf(store.ErrRefused, "%d consents are pending; end those first, or wait until they expire", len(c.all))
	}
	c.all[p.ID] = p
	return nil
}

// Wait returns when nothing goes on in the background any more.
func (a *Accounts) Wait() { a.consents.group.Wait() }

// Consent returns a consent; store.ErrNotFound where there is none.
func (a *Accounts) Consent(id string) (Consent, error) {
	a.consents.mu.Lock()
	defer a.consents.mu.Unlock()
	p := a.consents.all[id]
	if p == nil {
		return Consent{}, store.Errorf(store.ErrNotFound, "there is no such consent any more; begin again")
	}
	if p.State == ConsentWaiting && time.Now().After(p.Expires) {
		p.State, p.Err = ConsentFailed, store.Errorf(store.ErrRefused, "nobody agreed in time; begin again")
	}
	return p.Consent, nil
}

// GiveUpConsent cancels a pending consent.
func (a *Accounts) GiveUpConsent(id string) {
	a.consents.mu.Lock()
	defer a.consents.mu.Unlock()
	delete(a.consents.all, id)
}

// Granted returns the secret that a trial's consent came to, once.
func (a *Accounts) Granted(id string) ([]byte, error) {
	a.consents.mu.Lock()
	defer a.consents.mu.Unlock()
	p := a.consents.all[id]
	if p == nil || p.State != ConsentGranted {
		return nil, store.Errorf(store.ErrRefused, "nobody has agreed to this trial; begin again")
	}
	delete(a.consents.all, id)
	return p.secret, nil
}

// ErrState is the error of an answer that belongs to no pending consent.
var ErrState = remedy.New("the answer belongs to no link that is pending here; it may be too late, or meant for another service: " +
	"begin again")

// AnswerByState takes the answer of a page that led back to a browser; browser is the hash of
// the browser's cookie. Each state is good for one answer.
func (a *Accounts) AnswerByState(ctx context.Context, state, browser string, answer store.ConsentAnswer) (Consent, error) {
	a.consents.mu.Lock()
	var p *pending
	for _, one := range a.consents.all {
		if one.asked.Browser != "" && one.asked.Browser != browser {
			continue
		}
		if one.state == state && one.State == ConsentWaiting && !one.used && one.Way == store.ConsentByPage && time.Now().Before(one.Expires) {
			p = one
			p.used = true
		}
	}
	a.consents.mu.Unlock()
	if p == nil {
		return Consent{}, ErrState
	}
	return a.exchange(ctx, p, answer), nil
}

// AnswerByPaste takes what a person pasted: a code, or the last address of the page.
func (a *Accounts) AnswerByPaste(ctx context.Context, id, pasted string) (Consent, error) {
	answer, state := store.ParsePasted(pasted)
	a.consents.mu.Lock()
	p := a.consents.all[id]
	switch {
	case p == nil || p.State != ConsentWaiting || p.used || time.Now().After(p.Expires):
		a.consents.mu.Unlock()
		return Consent{}, store.Errorf(store.ErrNotFound, "there is no such consent any more; begin again")
	case p.Way == store.ConsentByDevice:
		a.consents.mu.Unlock()
		return Consent{}, store.Errorf(store.ErrRefused, "nothing is pasted here; type the code at the page")
	case state != "" && state != p.state:
		a.consents.mu.Unlock()
		return Consent{}, store.Errorf(store.ErrRefused,
			"what was pasted belongs to another link; paste what the page shows that was opened for this one")
	case answer.Code == "" && answer.Refused == "":
		a.consents.mu.Unlock()
		return Consent{}, store.Errorf(store.ErrRefused,
			"there is no code in what was pasted; paste the code that is shown, or the whole address")
	}
	p.used = true
	a.consents.mu.Unlock()
	return a.exchange(ctx, p, answer), nil
}

// exchange makes the account's secret of an answer, and links the account.
func (a *Accounts) exchange(ctx context.Context, p *pending, answer store.ConsentAnswer) Consent {
	// A code is good once: it is not lost with the request that brought it.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), exchangeTime)
	defer cancel()
	secret, err := p.asks.EndConsent(ctx, p.opening, p.begun, answer)
	return a.finish(ctx, p, secret, err)
}

func (a *Accounts) finish(ctx context.Context, p *pending, secret []byte, err error) Consent {
	var row records.Account
	var found Found
	state := ConsentLinked
	ctx = ByUser(By(ctx, p.by), p.user) // the page that leads back has no sign-in
	if err == nil {
		a.setConsent(p, func() { p.State = ConsentAgreed })
		switch {
		case p.asked.Trial != nil:
			state = ConsentGranted
		case p.asked.Reauthorize:
			row, found, err = a.mend(ctx, p.row, secret)
		default:
			link := p.asked.Link
			link.Secret, link.consented = string(secret), true
			row, found, err = a.Add(ctx, link)
		}
	}
	a.setConsent(p, func() {
		p.State, p.Account, p.Found, p.secret = state, row, found, secret
		if err != nil {
			p.State, p.Err, p.secret = ConsentFailed, err, nil
		}
	})
	a.consents.mu.Lock()
	defer a.consents.mu.Unlock()
	return p.Consent
}

func (a *Accounts) setConsent(p *pending, set func()) {
	a.consents.mu.Lock()
	set()
	a.consents.mu.Unlock()
	a.Changed()
}

// pollDevice asks until a person has agreed at another device.
func (a *Accounts) pollDevice(ctx context.Context, p *pending) {
	every := p.begun.Every
	for {
		timer := time.NewTimer(every)
		select {
		case <-timer.C:
		case <-ctx.Done():
			timer.Stop()
			return
		}
		a.consents.mu.Lock()
		_, wanted := a.consents.all[p.ID]
		a.consents.mu.Unlock()
		if !wanted {
			return
		}
		asking, cancel := context.WithTimeout(ctx, exchangeTime)
		secret, err := p.asks.EndConsent(asking, p.opening, p.begun, store.ConsentAnswer{})
		cancel()
		kind := store.KindOf(err)
		if ctx.Err() != nil {
			return
		}
		if time.Now().Before(p.Expires) && (kind == store.ErrSlowDown || kind == store.ErrTryAgain || kind == store.ErrOutcomeUnknown) {
			every = min(max(every, store.Wait(err)), deviceSlowest)
			continue
		}
		if kind == store.ErrSlowDown {
			err = store.Errorf(store.ErrRefused, "the code has expired before anybody agreed; begin again")
		}
		a.finish(ctx, p, secret, err)
		return
	}
}
