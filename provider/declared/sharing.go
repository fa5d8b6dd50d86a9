package declared

import (
	"context"

	"deftheron/core/store"
)

// Sharing says how share lists are read and extended.
type Sharing struct {
	Levels ShareLevels `yaml:"levels" doc:"What the service calls the levels that it has." need:"yes"`
	List   ShareLister `yaml:"list" doc:"Reads the share list of an entry." need:"yes"`
	Share  *Operation  `yaml:"share" doc:"Shares an entry with .person at .level, and notifies nobody if that can be chosen. A lower level is raised."`
	Own    *Operation  `yaml:"own" doc:"Makes .person the owner of an entry."`
	Person *Person     `yaml:"person" doc:"Whether entries can be shared with .person. Without it, sharing is tried."`
}

// ShareLevels are the service's names of levels.
type ShareLevels struct {
	View    string `yaml:"view" doc:"Reads."`
	Comment string `yaml:"comment" doc:"Reads and comments."`
	Edit    string `yaml:"edit" doc:"Changes."`
}

// ShareLister reads a share list.
type ShareLister struct {
	Operation `yaml:",inline"`
	Items     Expr  `yaml:"items" doc:"The owner, each person and each link of an answer." need:"yes"`
	Next      *Next `yaml:"next" doc:"How the next page is found; without it there is one page."`
	Person    Expr  `yaml:"person" doc:"Of an item: the email address." need:"yes"`
	Level     Expr  `yaml:"level" doc:"Of an item: the level, as in levels." need:"yes"`
	Owner     Expr  `yaml:"owner" doc:"Of an item: whether it is the owner; it needs no level."`
	Link      Expr  `yaml:"link" doc:"Of an item: whether it is a link that whoever knows it may use."`
}

// Person finds out whether the service knows a person.
type Person struct {
	Operation `yaml:",inline"`
	Known     Expr `yaml:"known" doc:"Whether it does, of the answer; true unless given. Not found means no."`
}

// check returns an error if the section is invalid.
func (s *Sharing) check(wrong func(field, format string, args ...any) error) error {
	if s == nil {
		return nil
	}
	if s.Levels == (ShareLevels{}) {
		return wrong("sharing.levels", "it is missing: name at least one level")
	}
	if len(s.List.steps()) == 0 {
		return wrong("sharing.list.request", "it is missing: a share list is read by a request")
	}
	return nil
}

// name returns what the service calls a level; empty if it has none such.
func (l ShareLevels) name(level store.ShareLevel) string {
	return map[store.ShareLevel]string{store.ShareView: l.View, store.ShareComment: l.Comment, store.ShareEdit: l.Edit}[level]
}

// shareLists implements store.Sharing for the service of a definition.
type shareLists struct{ *account }

// ShareLevels implements store.Sharing.
func (s shareLists) ShareLevels() (levels []store.ShareLevel) {
	for _, level := range store.ShareLevels {
		if s.definition.Sharing.Levels.name(level) != "" {
			levels = append(levels, level)
		}
	}
	return levels
}

// ShareList implements store.Sharing.
func (s shareLists) ShareList(ctx context.Context, ref store.Ref) (list store.ShareList, err error) {
	in, err := s.about(ctx, ref)
	if err != nil {
		return list, err
	}
	d := &s.definition.Sharing.List
	for one, err := range s.pages(ctx, "reading a share list", &d.Operation, d.Items, d.Next, in) {
		if err != nil {
			return list, err
		}
		if err := s.add(ctx, &list, one); err != nil {
			return list, err
		}
		if len(list.People)+list.Links > store.MostShared {
			return list, store.Errorf(store.ErrRefused, "%s is shared with more than %d people", ref, store.MostShared)
		}
	}
	return list, nil
}

// add reads one item of a share list.
func (s shareLists) add(ctx context.Context, list *store.ShareList, one item) error {
	d := &s.definition.Sharing.List
	input := one.input
	input.Value = one.value
	m := &mapping{ctx: ctx, input: input}
	person, level, owner, link := m.text(d.Person), m.text(d.Level), truth(m.value(d.Owner)), truth(m.value(d.Link))
	switch {
	case m.err != nil:
		return m.err
	case owner:
		list.Owner = person
		return nil
	case link:
		list.Links++
		return nil
	case person == "":
		return wrong(store.Errorf(store.ErrRefused, "sharing.list.person comes to nothing"))
	}
	for _, known := range s.ShareLevels() {
		if s.definition.Sharing.Levels.name(known) == level {
			list.People = append(list.People, store.SharedWith{Person: person, Level: known})
			return nil
		}
	}
	return wrong(store.Errorf(store.ErrRefused, "sharing.list.level comes to %q, which sharing.levels does not name", level))
}

// Share implements store.Sharing.
func (s shareLists) Share(ctx context.Context, ref store.Ref, with store.SharedWith) error {
	level := s.definition.Sharing.Levels.name(with.Level)
	if level == "" {
		return store.Errorf(store.ErrUnsupported, "the provider %s has no level %s", s.definition.Name, with.Level)
	}
	return s.change(ctx, "sharing", s.definition.Sharing.Share, ref, scope{"person": with.Person, "level": level})
}

// SetOwner implements store.Sharing.
func (s shareLists) SetOwner(ctx context.Context, ref store.Ref, person string) error {
	return s.change(ctx, "changing the owner", s.definition.Sharing.Own, ref, scope{"person": person})
}

// change carries out an operation on an entry, which must be safe to repeat.
func (s shareLists) change(ctx context.Context, operation string, op *Operation, ref store.Ref, more scope) error {
	if op == nil {
		return store.Errorf(store.ErrUnsupported, "the provider %s has no way of %s", s.definition.Name, operation)
	}
	in, err := s.about(ctx, ref)
	if err != nil {
		return err
	}
	_, err = s.do(ctx, operation, op, in.with(more), doing{changes: true})
	return err
}

// KnowsPerson implements store.Sharing.
func (s shareLists) KnowsPerson(ctx context.Context, person string) (bool, error) {
	d := s.definition.Sharing.Person
	if d == nil {
		return true, nil
	}
	in := s.fixed().with(scope{"person": person})
	got, err := s.do(ctx, "looking for a person", &d.Operation, in, doing{})
	switch {
	case store.KindOf(err) == store.ErrNotFound:
		return false, nil
	case err != nil:
		return false, err
	}
	known, err := d.Known.run(ctx, got.input(in), true)
	return truth(known), err
}

// about is what requests about an entry see.
func (s shareLists) about(ctx context.Context, ref store.Ref) (scope, error) {
	if ref.IsStart() || s.definition.Addressed == "id" && ref.ID == "" || s.definition.Entry.Facts.Given() {
		one, err := s.look(ctx, ref)
		if err != nil {
			return nil, err
		}
		if ref.IsStart() {
			in := s.ofFolder(store.Folder{}, one.ID)
			in["kind"] = string(store.KindFolder)
			return in, nil
		}
		return s.subject(ctx, ref, one)
	}
	return s.subject(ctx, ref, found{Entry: store.Entry{ID: ref.ID, Kind: ref.Kind}})
}
