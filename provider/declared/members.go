package declared

import (
	"context"
	"sync"

	"deftheron/core/store"
	"deftheron/core/view"
)

// linksMembers reports whether an account is a whole organisation: the definition lists
// members, and the account is linked with a service key.
func (p *Provider) linksMembers(opening store.Opening) bool {
	return p.Definition().Members != nil && opening.Options[optionSignIn] == "assertion"
}

// openMembers opens the areas of all members of an organisation as one account. admin has
// the service key, and acts for no member.
func (p *Provider) openMembers(ctx context.Context, admin *account) (store.Store, error) {
	if admin.start != "" {
		return nil, &store.OptionError{Option: "start", Reason: "an organisation has no starting folder; leave it out"}
	}
	if admin.opening.Options[optionArea] != "" {
		return nil, &store.OptionError{Option: optionArea,
			Reason: "an organisation is linked with the areas of all its members; leave the area out"}
	}
	var mu sync.Mutex
	last := map[string]area{} // by id, as they were listed last
	listed := func(ctx context.Context) ([]area, error) {
		all, err := admin.list(ctx, "the members", admin.definition.Members)
		if err != nil {
			return nil, admin.explain(err)
		}
		mu.Lock()
		defer mu.Unlock()
		clear(last)
		for _, one := range all {
			last[one.id] = one
		}
		return all, nil
	}
	if _, err := listed(ctx); err != nil {
		return nil, err
	}
	able := admin.Capabilities()
	able.Owner = func(context.Context) (string, error) { return "a whole organisation", nil }
	return view.Members(view.Organisation{
		Traits: admin.Traits(), Able: able, Now: admin.opening.Now,
		List: func(ctx context.Context) ([]view.Member, error) {
			all, err := listed(ctx)
			members := make([]view.Member, 0, len(all))
			for _, one := range all {
				members = append(members, view.Member{ID: one.id, Name: one.title, Mail: one.mail})
			}
			return members, err
		},
		Open: func(ctx context.Context, member view.Member) (store.Store, error) {
			mu.Lock()
			one, ok := last[member.ID]
			mu.Unlock()
			if !ok {
				return nil, store.Errorf(store.ErrNotFound, "%s is not a member of the organisation any more", member.Name)
			}
			return p.openMember(context.WithoutCancel(ctx), admin, one)
		},
	}), nil
}

// openMember opens the area of one member: with a token of its own, which the service key
// is exchanged for.
func (p *Provider) openMember(ctx context.Context, admin *account, member area) (store.Store, error) {
	a, err := p.account(admin.opening)
	if err != nil {
		return nil, err
	}
	a.member = member.value
	if a.signer, err = a.newSigner(ctx); err != nil {
		return nil, err
	}
	if err := a.reach(ctx); err != nil {
		return nil, a.explain(err)
	}
	return a, nil
}
