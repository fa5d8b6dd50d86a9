package declared

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"

	"deftheron/core/store"
)

// askAccount finds out whom the account belongs to.
func (a *account) askAccount(ctx context.Context) error {
	d := a.definition.Account
	if d == nil {
		return nil
	}
	in := a.fixed()
	got, err := a.do(ctx, "the account", &Operation{Step: d.Step}, in, doing{})
	if err != nil {
		return err
	}
	if got.notJSON != nil {
		return got.json(&outgoing{operation: "the account", url: &url.URL{Host: a.base}})
	}
	owner, err := d.Owner.run(ctx, got.input(in), nil)
	if err != nil {
		return err
	}
	id, err := d.ID.run(ctx, got.input(in), nil)
	if err != nil {
		return err
	}
	facts, err := d.Facts.run(ctx, got.input(in), nil)
	if err != nil {
		return err
	}
	a.owner, a.id = textOf(owner), textOf(id)
	if object, ok := facts.(map[string]any); ok {
		a.facts = object
		return a.settle()
	}
	return nil
}

// area is one that can be chosen.
type area struct {
	id, title, mail string
	value           map[string]any
}

// areas lists the areas of the account, one's own first.
func (a *account) areas(ctx context.Context) ([]area, error) {
	return a.list(ctx, "the areas", a.definition.Areas)
}

// list lists areas or members.
func (a *account) list(ctx context.Context, what string, d *Areas) ([]area, error) {
	var all []area
	add := func(value any) error {
		object, _ := value.(map[string]any)
		input := jqInput{Value: value, In: map[string]any(a.fixed()), Headers: map[string]any{}}
		id, err := d.ID.run(ctx, input, object["id"])
		if err != nil {
			return err
		}
		title, err := d.Title.run(ctx, input, object["name"])
		if err != nil {
			return err
		}
		if object == nil {
			object = map[string]any{}
		}
		mail, err := d.Mail.run(ctx, input, nil)
		if err != nil {
			return err
		}
		all = append(all, area{textOf(id), textOf(title), textOf(mail), object})
		return nil
	}
	if d.Own.Given() {
		own, err := d.Own.run(ctx, a.fixed().asInput(), nil)
		if err != nil {
			return nil, err
		}
		if err := add(own); err != nil {
			return nil, err
		}
	}
	for item, err := range a.pages(ctx, what, &Operation{Step: d.Step}, d.Items, d.Next, a.fixed()) {
		if err != nil {
			return nil, err
		}
		if err := add(item.value); err != nil {
			return nil, err
		}
	}
	return all, nil
}

// chooseArea takes the area that the account was linked for.
func (a *account) chooseArea(ctx context.Context) error {
	if a.definition.Areas == nil {
		return nil
	}
	all, err := a.areas(ctx)
	if err != nil {
		return err
	}
	wanted := a.opening.Options[optionArea]
	var titles []string
	for i, one := range all {
		if wanted == "" && i == 0 || wanted != "" && (one.id == wanted || one.title == wanted) {
			a.area = one.value
			return nil
		}
		titles = append(titles, fmt.Sprintf("%q", one.title))
	}
	if len(all) == 0 {
		return store.Errorf(store.ErrNotFound, "the account has no area that can be linked")
	}
	return &store.OptionError{Option: optionArea, Reason: fmt.Sprintf("there is no area %q; there are %s", wanted, strings.Join(titles, ", "))}
}

// Areas is store.Capabilities.Areas.
func (a *account) Areas(ctx context.Context) ([]string, error) {
	if a.definition.Areas == nil {
		return nil, nil
	}
	all, err := a.areas(ctx)
	titles := make([]string, len(all))
	for i, one := range all {
		titles[i] = one.title
	}
	return titles, err
}

// Owner is store.Capabilities.Owner.
func (a *account) Owner(context.Context) (string, error) { return a.owner, nil }

// Locate is store.Capabilities.Locate.
func (a *account) Locate(folder store.Folder) string {
	if a.id == "" {
		return ""
	}
	where := url.URL{Scheme: "drive+" + a.definition.Name, Host: "account"}
	steps := []string{a.base, a.id, textOf(a.area["id"])}
	steps = append(append(steps, a.start.Names()...), folder.Path.Names()...)
	escaped := "/"
	for _, step := range steps {
		escaped += url.PathEscape(step) + "/"
	}
	where.Path, where.RawPath = strings.Join(append([]string{""}, steps...), "/")+"/", escaped
	return where.String()
}

// Space is store.Capabilities.Space.
func (a *account) Space(ctx context.Context) (store.Space, error) {
	d := a.definition.Space
	if d == nil {
		return store.UnknownSpace, nil
	}
	in := a.fixed()
	got, err := a.do(ctx, "the space", &Operation{Step: d.Step}, in, doing{})
	if err != nil {
		return store.UnknownSpace, err
	}
	space := store.UnknownSpace
	for _, one := range []struct {
		e  Expr
		to *int64
	}{{d.Used, &space.Used}, {d.Free, &space.Free}, {d.Total, &space.Total}} {
		value, err := one.e.run(ctx, got.input(in), nil)
		if err != nil {
			return store.UnknownSpace, err
		}
		if n, ok := intOf(value); ok && n >= 0 {
			*one.to = n
		}
	}
	if space.Free < 0 && space.Total >= 0 && space.Used >= 0 {
		space.Free = max(0, space.Total-space.Used)
	}
	shared, err := d.Shared.run(ctx, got.input(in), nil)
	if err != nil {
		return store.UnknownSpace, err
	}
	if shared != nil {
		space.Volume = a.definition.Name + " " + a.base + " " + textOf(shared)
	}
	return space, nil
}

// Capabilities implements store.Store: as the definition says.
func (a *account) Capabilities() store.Capabilities {
	d := a.definition
	c := store.Capabilities{Clean: a.Clean, Owner: a.Owner, Locate: a.Locate}
	if d.Move != nil {
		c.Move = a.Move
	}
	if d.Copy != nil {
		c.Copy = a.Copy
	}
	if a.partsUpload() != nil {
		c.Parts = a
	}
	if d.Export != nil {
		c.Exports = a
	}
	if d.Changes != nil {
		c.Changes, c.AwaitChanges = a.Changes, a.AwaitChanges
	}
	if d.Space != nil {
		c.Space = a.Space
	}
	if d.Areas != nil {
		c.Areas = a.Areas
	}
	if d.Sharing != nil {
		c.Sharing = shareLists{a}
	}
	return c
}

// Traits implements store.Store.
func (a *account) Traits() store.Traits {
	d := a.definition
	traits := store.Traits{
		Order: store.OrderNone, Folders: store.FoldersReal, Names: a.names, LargestFile: int64(d.Limits.File),
		TimePrecision: d.precision(), KeepsTimes: d.Times.Kept, FileBesideFolder: d.Names.Beside, Twins: d.Names.Twins,
		CaseIgnored: d.Names.LetterCase == "kept", Conditional: true, Whole: true, Streams: d.Limits.Streams,
		VerificationKind: d.verificationKind(),
		Trash:            d.Remove != nil && d.Remove.Trash, ReadOnly: len(d.Uploads) == 0,
	}
	if d.Entry.Revision.Given() {
		traits.Revisions = store.RevisionsOfContent
	}
	if d.List.ByKey {
		traits.Order = store.OrderByKey
	}
	if traits.Streams == 0 {
		traits.Streams = 8
	}
	replaces := ""
	for _, upload := range d.Uploads {
		traits.Conditional = traits.Conditional && slices.Contains(upload.Conditions, "absent") && slices.Contains(upload.Conditions, "revision")
		replaces = upload.Replaces
	}
	if !traits.Conditional {
		traits.Windows = append(traits.Windows, "Conditions that the service does not check are checked just before the last request of "+
			"an upload, or before its last bytes if it is one request. A change in between is overwritten.")
	}
	if d.Names.Twins {
		traits.Windows = append(traits.Windows, "The service allows two entries of one name. After creating one, the program checks "+
			"whether somebody else created one of that name at the same moment; the earlier one stays, and the other is deleted.")
	}
	if replaces == "remove" && !d.Names.Twins {
		traits.Windows = append(traits.Windows, "A file is replaced by moving the old one aside once the new one has arrived under a "+
			"temporary name. Its name is missing between two requests, and the old one is restored after an interruption.")
	}
	if d.Remove != nil && !d.Remove.EmptyOnly {
		traits.Windows = append(traits.Windows, "The service deletes a folder with its content. The program checks just before that the "+
			"folder is empty; what is added between the two requests is deleted with it.")
	}
	if d.Remove != nil && !d.Remove.Conditional {
		traits.Windows = append(traits.Windows, "An entry is checked just before it is deleted. A change in between is lost.")
	}
	return traits
}

// nameRules are what the definition says of names.
func (a *account) nameRules() *store.NameRules {
	n := a.definition.Names
	rules := store.NameRules{Keeper: "the service", NoEmpty: true, NoSlashes: !n.Slashes, UTF8: true, MostBytes: n.Bytes,
		MostCharacters: n.Characters, NoCapitals: n.LetterCase == "lost", MostPath: n.Path, Start: a.start, Deepest: n.Deepest}
	if n.Unicode == "nfc" || n.Unicode == "nfd" {
		rules.Form = n.Unicode
	}
	for _, pattern := range n.Refused {
		rules.Patterns = append(rules.Patterns, pattern.Regexp)
	}
	return &rules
}

// check refuses a place whose way holds a name that cannot be.
func (a *account) check(place store.Ref) error {
	path := store.Path("")
	for _, name := range append(place.Folder.Path.Names(), place.Name) {
		if err := a.names.Check(path, name); err != nil {
			return err
		}
		path = path.Child(name)
	}
	return nil
}

// explain adds what to do to an error of the first requests.
func (a *account) explain(err error) error {
	var option *store.OptionError
	var dns *net.DNSError
	var operation *net.OpError
	host := strings.TrimPrefix(strings.TrimPrefix(a.base, "https://"), "http://")
	host, _, _ = strings.Cut(host, "/")
	switch {
	case errors.As(err, &option):
		return err
	case errors.Is(err, context.DeadlineExceeded):
		return store.Errorf(store.ErrTryAgain, "%s did not answer in time; check its address, and that no firewall is between", host)
	case errors.As(err, &dns):
		return store.Errorf(store.ErrTryAgain, "the host %s is not known; check the address of the service", dns.Name)
	case errors.As(err, &operation) && operation.Op == "dial":
		return store.Errorf(store.ErrTryAgain, "nothing answers at %s (%v); check the address of the service, and that it runs", host,
			operation.Err)
	case strings.Contains(err.Error(), "HTTP response to HTTPS"):
		return store.Errorf(store.ErrRefused, "%s speaks no TLS; give its address with http:// if that is intended", host)
	}
	return err
}
