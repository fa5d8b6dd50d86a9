package declared

import (
	"context"
	"net/url"
	"slices"
	"strings"

	"deftheron/core/store"
)

// The options that a definition does not name by itself.
const (
	optionSignIn = "sign-in"
	optionClient = "client-id"
	optionUser   = "user"
	optionArea   = "area"
	optionSecret = "secret"
)

// Provider is a store.Provider, and a store.Consenter, of a definition.
type Provider struct {
	name string
	load func() *Definition // once
	// Record, if not nil, is called with every exchange, without its secrets.
	Record func(Exchange)
	// patient has requests wait by themselves where the service asks to slow
	// down, which is the engine's to do else.
	patient bool
}

// New returns the provider that a definition describes.
func New(definition *Definition) *Provider {
	return &Provider{name: definition.Name, load: func() *Definition { return definition }}
}

// Definition returns what the provider is described by.
func (p *Provider) Definition() *Definition { return p.load() }

// Name implements store.Provider.
func (p *Provider) Name() string { return p.name }

// Title implements store.Provider.
func (p *Provider) Title() string { return p.Definition().Title }

// Options implements store.Provider.
func (p *Provider) Options() []store.Option {
	d := p.Definition()
	var options []store.Option
	for _, o := range d.Options {
		options = append(options, store.Option{Name: o.Name, Title: o.Title, Help: o.Help, Required: o.Required, Default: o.Default,
			Choices: o.Choices})
	}
	var ways []string
	for _, way := range d.SignIn {
		ways = append(ways, way.Way)
	}
	if len(ways) > 1 {
		options = append(options, store.Option{
			Name: optionSignIn, Title: "Way to sign in", Help: "How to sign in; " + ways[0] + " unless given, where that can be done.",
			Choices: ways,
		})
	}
	if slices.Contains(ways, "basic") {
		options = append(options, store.Option{Name: optionUser, Title: "User", Help: "The user to sign in as.", Required: len(ways) == 1})
	}
	secret := store.Option{Name: optionSecret, Title: "Secret", Secret: true}
	consents := slices.ContainsFunc(ways, func(way string) bool { return byConsent[way] != "" })
	if consents || slices.Contains(ways, "client") {
		options = append(options, store.Option{
			Name: optionClient, Title: "Client id", Help: "The client id of an app registration of your own, in place of the provider's.",
			Required: !consents && d.SignIn[0].Client.ID == "",
		})
	}
	if d.Areas != nil {
		options = append(options, store.Option{Name: optionArea, Title: "Area", Help: "The area to link, by its name; your own unless given."})
	}
	switch {
	case len(ways) == 0:
		return options
	case consents:
		secret.Title = "Client secret"
		secret.Help = "The secret of your own app registration, where it has one; what other ways to sign in ask for."
	default:
		secret.Required = !(ways[0] == "client" && d.SignIn[0].Client.Secret != "")
		secret.Title = map[string]string{"basic": "Password", "bearer": "Token", "key": "Key", "assertion": "Service key",
			"client": "Client secret"}[ways[0]]
		secret.Help = "The " + strings.ToLower(secret.Title) + " to sign in with."
	}
	return append(options, secret)
}

// account is an opened one. It implements store.Store.
type account struct {
	definition *Definition
	opening    store.Opening
	signer     signer
	recording  func(Exchange)
	patient    bool // what is slowed down is waited for, here

	options map[string]any
	base    string
	origins map[string]bool
	start   store.Path
	names   *store.NameRules

	// Of the account, once it was asked; they do not change afterwards.
	area   map[string]any
	member map[string]any // of an organisation, whose area it is
	facts  map[string]any
	owner  string
	id     string
	root   string

	ids     *ids
	making  *making
	batches *batches
	blanks  *blanks
	beside  *together
}

// account returns one that nothing was asked of yet.
func (p *Provider) account(opening store.Opening) (*account, error) {
	a := &account{
		definition: p.Definition(), opening: opening, recording: p.Record, patient: p.patient, signer: nobody{}, start: opening.Start,
		ids: &ids{}, making: &making{}, batches: &batches{}, blanks: &blanks{}, beside: &together{},
		options: map[string]any{}, area: map[string]any{}, member: map[string]any{}, facts: map[string]any{}, origins: map[string]bool{},
	}
	a.names = a.nameRules()
	for _, option := range p.Definition().Options {
		value, ok := opening.Options[option.Name]
		if !ok {
			value = option.Default
		}
		if strings.Contains(value, "://") { // an address, that others are put behind
			value = strings.TrimSuffix(value, "/")
		}
		a.options[option.Name] = value
	}
	return a, a.settle()
}

// settle sets the base and the origins, which may depend on values of the account.
func (a *account) settle() error {
	in := a.fixed()
	base := a.definition.Base.expand(in, nil)
	address, err := url.Parse(base)
	later := len(a.facts) == 0 && strings.Contains(a.definition.Base.Raw(), "account.") // known once the account has been asked
	switch {
	case err == nil && address.Host != "" && (address.Scheme == "http" || address.Scheme == "https"):
		a.base = strings.TrimSuffix(base, "/")
		a.origins[origin(address)] = true
	case !later:
		return &store.OptionError{Option: a.baseOption(),
			Reason: "\"" + base + "\" is not an address of a service; give one that begins with https://"}
	}
	for _, template := range a.definition.Origins {
		text := template.expand(in, nil)
		if further, err := url.Parse(text); err == nil && further.Host != "" {
			a.origins[origin(further)] = true
		}
	}
	return nil
}

// baseOption is the option that the base is made of.
func (a *account) baseOption() string {
	for _, name := range a.definition.Base.Names() {
		if option, ok := strings.CutPrefix(name, "option."); ok {
			return option
		}
	}
	return "url"
}

// Open implements store.Provider.
func (p *Provider) Open(ctx context.Context, opening store.Opening) (store.Store, error) {
	a, err := p.account(opening)
	if err != nil {
		return nil, err
	}
	if a.signer, err = a.newSigner(ctx); err != nil {
		return nil, err
	}
	if p.linksMembers(opening) {
		return p.openMembers(ctx, a)
	}
	if err := a.reach(ctx); err != nil {
		return nil, a.explain(err)
	}
	if opening.Uploads != nil && !opening.ReadOnly && a.definition.Leftovers == nil {
		go a.giveUpAbandoned(context.WithoutCancel(ctx))
	}
	return a, nil
}

// reach asks who the account is, chooses its area, and looks at the start.
func (a *account) reach(ctx context.Context) error {
	if err := a.askAccount(ctx); err != nil {
		return err
	}
	if err := a.chooseArea(ctx); err != nil {
		return err
	}
	if a.definition.Addressed == "id" {
		root, err := a.definition.Start.run(ctx, a.fixed().asInput(), nil)
		if err != nil {
			return err
		}
		if a.root = textOf(root); a.root == "" {
			return store.Errorf(store.ErrRefused, "the provider definition gives no id of the folder that everything is in (start)")
		}
	}
	if a.start == "" {
		return a.answers(ctx)
	}
	start, err := a.Stat(ctx, store.Ref{})
	if err == nil && start.Kind != store.KindFolder {
		return &store.OptionError{Option: "start", Reason: "it is a file; give a folder"}
	}
	if store.KindOf(err) == store.ErrNotFound {
		return store.Concerns(store.Errorf(store.ErrNotFound, "the starting folder /%s is not there; make it, or give another starting folder",
			strings.TrimSuffix(string(a.start), "/")), "start")
	}
	return err
}

// answers asks for the first entry, so that a sign-in that is not accepted shows
// now.
func (a *account) answers(ctx context.Context) error {
	for _, err := range a.children(ctx, store.Folder{}) {
		return err
	}
	return nil
}
