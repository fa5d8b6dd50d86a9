package accounts

import (
	"context"
	"slices"

	"deftheron/core/store"
	"deftheron/service/records"
)

// areaOption is the option by which an area of a drive is chosen.
const areaOption = "area"

// Resources are the places that one sign-in leads to.
type Resources struct {
	Option    string // by which one of them is chosen
	Resources []Resource
}

// Resource is one of them.
type Resource struct {
	store.Resource
	Linked string // the account that is linked there; empty for none
}

// ListResources lists the places behind a sign-in before any is linked.
func (a *Accounts) ListResources(ctx context.Context, link Link) (Resources, error) {
	provider, err := a.Provider(link.Provider)
	if err != nil {
		return Resources{}, err
	}
	lister, ok := provider.(store.ResourceLister)
	if !ok {
		return Resources{}, noResources(provider)
	}
	given := without(link.Options, lister.ResourceOption())
	given[lister.ResourceOption()] = "to-be-chosen"
	options, err := store.CheckOptions(provider, given, link.Secret != "")
	if err != nil {
		return Resources{}, err
	}
	delete(options, lister.ResourceOption())
	if err := checkFiles(provider, link.Files); err != nil {
		return Resources{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	row := records.Account{Name: link.Name, Provider: link.Provider, Options: options}
	if err := a.placeAtSite(ctx, provider, link.At, &row); err != nil {
		return Resources{}, err
	}
	opening := a.openingFor(provider, row, consentGate(), &heldSecret{now: link.credential().Bytes()})
	if lister, err = reach[store.ResourceLister](ctx, a, provider, row, opening); err != nil {
		return Resources{}, err
	}
	found, err := lister.ListResources(ctx, opening)
	if err != nil {
		return Resources{}, err
	}
	return a.marked(ctx, row, Resources{Option: lister.ResourceOption(), Resources: places(found)})
}

func noResources(provider store.Provider) error {
	return store.Errorf(store.ErrUnsupported, "a sign-in to a %s leads to one place alone; link that", provider.Title())
}

func places(found []store.Resource) []Resource {
	all := make([]Resource, len(found))
	for i, one := range found {
		all[i].Resource = one
	}
	return all
}

// AccountResources lists what else is behind the sign-in of an account.
func (a *Accounts) AccountResources(ctx context.Context, name string) (Resources, error) {
	row, err := a.row(ctx, name)
	if err != nil {
		return Resources{}, err
	}
	provider, err := a.Provider(row.Provider)
	if err != nil {
		return Resources{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	behind := Resources{}
	if lister, ok := provider.(store.ResourceLister); ok {
		behind.Option = lister.ResourceOption()
		bare := row
		bare.Options = without(row.Options, behind.Option)
		opening := a.openingFor(provider, bare, consentGate(), &secrets{accounts: a, linking: row})
		if lister, err = reach[store.ResourceLister](ctx, a, provider, bare, opening); err != nil {
			return Resources{}, err
		}
		found, err := lister.ListResources(ctx, opening)
		if err != nil {
			return Resources{}, err
		}
		behind.Resources = places(found)
		return a.marked(ctx, row, behind)
	}
	opened, err := a.Open(ctx, name)
	if err != nil {
		return Resources{}, err
	}
	areas, err := store.AreasOf(ctx, opened.Store)
	if err != nil {
		return Resources{}, err
	}
	if len(areas) == 0 {
		return Resources{}, noResources(provider)
	}
	behind.Option = areaOption
	for i, area := range areas {
		place := Resource{Resource: store.Resource{Value: area}}
		if i == 0 {
			place.Note = "its own"
		}
		behind.Resources = append(behind.Resources, place)
	}
	return a.marked(ctx, row, behind)
}

// marked marks the places that are already linked with the sign-in of row.
func (a *Accounts) marked(ctx context.Context, row records.Account, behind Resources) (Resources, error) {
	rows, err := a.db.Accounts(ctx)
	if err != nil {
		return behind, err
	}
	for _, other := range rows {
		if other.Provider != row.Provider || other.Site != row.Site || !sameBut(other.Options, row.Options, behind.Option) {
			continue
		}
		if shared := row.ID != "" && (other.ID == row.ID || other.SignedIn == row.ID || row.SignedIn != "" &&
			(other.SignedIn == row.SignedIn || other.ID == row.SignedIn)); behind.Option == areaOption && !shared {
			continue // somebody else's areas may have the same names
		}
		at := slices.IndexFunc(behind.Resources, func(place Resource) bool { return place.Value == other.Options[behind.Option] })
		if at < 0 && behind.Option == areaOption && other.Options[areaOption] == "" {
			at = 0
		}
		if at >= 0 {
			behind.Resources[at].Linked = other.Name
		}
	}
	return behind, nil
}

func without(options map[string]string, name string) map[string]string {
	rest := map[string]string{}
	for key, value := range options {
		if key != name {
			rest[key] = value
		}
	}
	return rest
}

func sameBut(a, b map[string]string, option string) bool {
	a, b = without(a, option), without(b, option)
	for _, pair := range [][2]map[string]string{{a, b}, {b, a}} {
		for name, value := range pair[0] {
			if name != "host-key" && pair[1][name] != value {
				return false
			}
		}
	}
	return true
}

// Place is a place behind a sign-in that becomes an account of its own.
type Place struct {
	Value string
	Name  string
}

// LinkResource links another place behind the sign-in of an account, which both
// share from then on.
func (a *Accounts) LinkResource(ctx context.Context, name string, place Place) (records.Account, Found, error) {
	row, err := a.row(ctx, name)
	if err != nil {
		return records.Account{}, Found{}, err
	}
	behind, err := a.AccountResources(ctx, name)
	if err != nil {
		return records.Account{}, Found{}, err
	}
	if !slices.ContainsFunc(behind.Resources, func(one Resource) bool { return one.Value == place.Value }) {
		return records.Account{}, Found{}, &store.OptionError{Option: behind.Option, Reason: "there is no " + behind.Option + " " + place.Value +
			" behind the sign-in of /" + name}
	}
	options := without(row.Options, behind.Option)
	options[behind.Option] = place.Value
	keeper := row.ID
	if row.SignedIn != "" {
		keeper = row.SignedIn
	}
	return a.Add(ctx, Link{Provider: row.Provider, Name: place.Name, Options: options, ReadOnly: row.ReadOnly, At: row.Site, shared: keeper})
}

// Identity is the key or certificate that a server shows before a sign-in.
type Identity struct {
	Option string // that pins it
	Value  string
	Words  string
}

// ProbeIdentity asks a server what it shows, so that a person can compare it before
// anything is sent; ok is false where there is nothing to compare, or it was given.
func (a *Accounts) ProbeIdentity(ctx context.Context, link Link) (introduced Identity, ok bool, err error) {
	provider, err := a.Provider(link.Provider)
	if err != nil {
		return Identity{}, false, err
	}
	introducer, has := provider.(store.IdentityProber)
	if !has {
		return Identity{}, false, nil
	}
	options, err := store.CheckOptions(provider, link.Options, true)
	if err != nil {
		return Identity{}, false, err
	}
	if options[introducer.IdentityOption()] != "" {
		return Identity{}, false, nil
	}
	ctx, cancel := context.WithTimeout(ctx, openTime)
	defer cancel()
	row := records.Account{Name: link.Name, Provider: link.Provider, Options: options}
	if err := a.placeAtSite(ctx, provider, link.At, &row); err != nil {
		return Identity{}, false, err
	}
	opening := a.openingFor(provider, row, consentGate(), store.FixedSecret(""))
	if introducer, err = reach[store.IdentityProber](ctx, a, provider, row, opening); err != nil {
		return Identity{}, false, err
	}
	introduced.Option = introducer.IdentityOption()
	introduced.Value, introduced.Words, err = introducer.ProbeIdentity(ctx, opening)
	return introduced, err == nil && introduced.Value != "", err
}
