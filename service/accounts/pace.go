package accounts

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"sync"

	"deftheron/core/pace"
	"deftheron/core/store"
)

// paces are the limits on what goes over the network, for all accounts together and
// for each: connections are held to them, whatever goes through.
type paces struct {
	setting  sync.Mutex // one change at a time
	mu       sync.Mutex
	overall  pace.Limiter
	accounts map[string]*pace.Limiter // by id
}

// Paces are limits as they are kept.
type Paces struct {
	Overall  pace.Rule            `json:"overall"`
	Accounts map[string]pace.Rule `json:"accounts"` // by name for people, by id in the records
}

// paceName is what the limits are kept under in the records.
const paceName = "pace"

func (p *paces) limiter(id string) *pace.Limiter {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.accounts == nil {
		p.accounts = map[string]*pace.Limiter{}
	}
	if p.accounts[id] == nil {
		p.accounts[id] = &pace.Limiter{}
	}
	return p.accounts[id]
}

// paced puts a connection of an account under its limits.
func (a *Accounts) paced(id string, connection net.Conn) net.Conn {
	return pace.Conn(connection, &a.paces.overall, a.paces.limiter(id))
}

// LoadPaces takes up the limits that are kept.
func (a *Accounts) LoadPaces(ctx context.Context) error {
	kept, err := a.keptPaces(ctx)
	if err != nil {
		return err
	}
	a.applyPaces(kept)
	return nil
}

func (a *Accounts) keptPaces(ctx context.Context) (kept Paces, err error) {
	kept.Accounts = map[string]pace.Rule{}
	text, err := a.db.Meta(ctx, paceName)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &kept)
	}
	if err != nil {
		return kept, fmt.Errorf("could not read the limits on rates: %w", err)
	}
	return kept, nil
}

func (a *Accounts) applyPaces(kept Paces) {
	a.paces.overall.Set(kept.Overall)
	for id, rule := range kept.Accounts {
		a.paces.limiter(id).Set(rule)
	}
}

// Paces returns the limits, by the accounts' names.
func (a *Accounts) Paces(ctx context.Context) (Paces, error) {
	kept, err := a.keptPaces(ctx)
	if err != nil {
		return kept, err
	}
	rows, err := a.db.Accounts(ctx)
	named := Paces{Overall: kept.Overall, Accounts: map[string]pace.Rule{}}
	for _, row := range rows {
		if rule, ok := kept.Accounts[row.ID]; ok && !rule.IsZero() {
			named.Accounts[row.Name] = rule
		}
	}
	return named, err
}

// SetPace sets the limits of an account, or with an empty name of all together. They
// hold at once, for what moves already too.
func (a *Accounts) SetPace(ctx context.Context, name string, rule pace.Rule) error {
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
	a.paces.setting.Lock()
	defer a.paces.setting.Unlock()
	kept, err := a.keptPaces(ctx)
	if err != nil {
		return err
	}
	if id == "" {
		kept.Overall = rule
	} else {
		kept.Accounts[id] = rule
	}
	text, err := json.Marshal(kept)
	if err != nil {
		return err
	}
	if err := a.db.SetMeta(ctx, paceName, string(text)); err != nil {
		return err
	}
	a.applyPaces(kept)
	return nil
}

// Gates are those of the accounts that are open, by name.
func (a *Accounts) Gates() map[string]*store.Gate {
	a.mu.Lock()
	defer a.mu.Unlock()
	gates := map[string]*store.Gate{}
	for _, opened := range a.open {
		gates[opened.Name] = opened.Gate
	}
	return gates
}
