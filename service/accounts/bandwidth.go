package accounts

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"sync"

	"deftheron/core/bandwidth"
	"deftheron/core/gate"
	"deftheron/core/store"
)

// limits are the limits on what goes over the network, for all accounts together and
// for each: connections are held to them, whatever goes through.
type limits struct {
	setting  sync.Mutex // one change at a time
	mu       sync.Mutex
	overall  bandwidth.Limiter
	accounts map[string]*bandwidth.Limiter // by id, and of sites
}

// Bandwidths are limits as they are kept.
type Bandwidths struct {
	Overall  bandwidth.Rule            `json:"overall"`
	Accounts map[string]bandwidth.Rule `json:"accounts"` // by name for people, by id in the records
	Sites    map[string]bandwidth.Rule `json:"sites,omitempty"`
}

// bandwidthName is what the limits are kept under in the records.
const bandwidthName = "bandwidth"

func (p *limits) limiter(id string) *bandwidth.Limiter {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.accounts == nil {
		p.accounts = map[string]*bandwidth.Limiter{}
	}
	if p.accounts[id] == nil {
		p.accounts[id] = &bandwidth.Limiter{}
	}
	return p.accounts[id]
}

// limited puts a connection of an account under its limits.
func (a *Accounts) limited(id string, connection net.Conn) net.Conn {
	return bandwidth.Conn(connection, &a.limits.overall, a.limits.limiter(id))
}

// LoadBandwidths takes up the limits that are kept.
func (a *Accounts) LoadBandwidths(ctx context.Context) error {
	kept, err := a.keptBandwidths(ctx)
	if err != nil {
		return err
	}
	a.applyBandwidths(kept)
	return nil
}

func (a *Accounts) keptBandwidths(ctx context.Context) (kept Bandwidths, err error) {
	kept.Accounts = map[string]bandwidth.Rule{}
	text, err := a.db.Meta(ctx, bandwidthName)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &kept)
	}
	if err != nil {
		return kept, fmt.Errorf("could not read the limits on rates: %w", err)
	}
	return kept, nil
}

func (a *Accounts) applyBandwidths(kept Bandwidths) {
	a.limits.overall.Set(kept.Overall)
	for id, rule := range kept.Accounts {
		a.limits.limiter(id).Set(rule)
	}
	for site, rule := range kept.Sites {
		a.SiteLimiter(site).Set(rule)
	}
}

// SiteLimiter returns what limits the line of a site: up is what leaves the site.
func (a *Accounts) SiteLimiter(site string) *bandwidth.Limiter {
	return a.limits.limiter("site/" + site)
}

// Bandwidths returns the limits, by the accounts' names.
func (a *Accounts) Bandwidths(ctx context.Context) (Bandwidths, error) {
	kept, err := a.keptBandwidths(ctx)
	if err != nil {
		return kept, err
	}
	rows, err := a.db.Accounts(ctx)
	named := Bandwidths{Overall: kept.Overall, Accounts: map[string]bandwidth.Rule{}, Sites: map[string]bandwidth.Rule{}}
	for site, rule := range kept.Sites {
		if !rule.IsZero() {
			named.Sites[site] = rule
		}
	}
	for _, row := range rows {
		if rule, ok := kept.Accounts[row.ID]; ok && !rule.IsZero() {
			named.Accounts[row.Name] = rule
		}
	}
	return named, err
}

// SetBandwidth sets the limits of an account, or with an empty name of all together. They
// hold at once, for what moves already too.
func (a *Accounts) SetBandwidth(ctx context.Context, name string, rule bandwidth.Rule) error {
	if err := rule.Check(); err != nil {
		return err
	}
	id := ""
	if name != "" {
		var err error
		if id, err = a.ID(ctx, name); err != nil {
			return err
		}
	}
	return a.changeBandwidths(ctx, func(kept *Bandwidths) {
		if id == "" {
			kept.Overall = rule
		} else {
			kept.Accounts[id] = rule
		}
	})
}

// SetSiteBandwidth sets the limits of the line of a site. They hold at once.
func (a *Accounts) SetSiteBandwidth(ctx context.Context, site string, rule bandwidth.Rule) error {
	if err := rule.Check(); err != nil {
		return err
	}
	if a.Sites == nil {
		return store.Errorf(store.ErrNotFound, "there is no site %q, as this service has no workers", site)
	}
	if found, _, err := a.Sites.Resolve(ctx, site, false); err != nil || found != site {
		return errors.Join(store.Errorf(store.ErrNotFound, "there is no site %q; list the workers", site), err)
	}
	return a.changeBandwidths(ctx, func(kept *Bandwidths) {
		if kept.Sites == nil {
			kept.Sites = map[string]bandwidth.Rule{}
		}
		kept.Sites[site] = rule
	})
}

// changeBandwidths changes the limits that are kept.
func (a *Accounts) changeBandwidths(ctx context.Context, change func(kept *Bandwidths)) error {
	a.limits.setting.Lock()
	defer a.limits.setting.Unlock()
	kept, err := a.keptBandwidths(ctx)
	if err != nil {
		return err
	}
	change(&kept)
	text, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	if err := a.db.SetMeta(ctx, bandwidthName, string(text)); err != nil {
		return err
	}
	a.applyBandwidths(kept)
	return nil
}

// Gates returns the gates of the open accounts, by name.
func (a *Accounts) Gates() map[string]*gate.Gate {
	a.mu.Lock()
	defer a.mu.Unlock()
	gates := map[string]*gate.Gate{}
	for _, opened := range a.open {
		gates[opened.Name] = opened.Gate
	}
	return gates
}
