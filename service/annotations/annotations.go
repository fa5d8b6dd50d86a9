// Package annotations keeps what people note about files and folders without touching them:
// tags, comments and locks. They are in the records, by the provider's id of an entry or
// else by its place, and follow it when it is moved.
package annotations

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"time"

	"deftheron/core/annotation"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// keepMissing is how long the annotations of an entry are kept after the entry is gone.
const keepMissing = 90 * 24 * time.Hour

// Annotations are the annotations of all accounts.
type Annotations struct {
	db   *records.DB
	tree *tree.Tree
	log  *slog.Logger
	// AccountID returns the id of an account by its name.
	AccountID func(ctx context.Context, name string) (string, error)
	// UserOf returns the id of the user in whose name a request is made; empty for none.
	UserOf func(ctx context.Context) string
	// Changed, if not nil, is called after something about an entry of a folder was noted.
	Changed func(folder store.Address)
	// Unlocked, if not nil, is called after a lock has ended.
	Unlocked func(entry store.Address)
	// Now is the clock.
	Now func() time.Time

	mu       sync.Mutex
	locks    map[string]*annotation.Locks // by account id; missing is not read yet
	some     map[string]bool              // whether anything of an account is annotated
	renewing sync.Mutex
}

// New returns the annotations of the records.
func New(db *records.DB, all *tree.Tree, log *slog.Logger) *Annotations {
	return &Annotations{db: db, tree: all, log: log, Now: time.Now, locks: map[string]*annotation.Locks{}, some: map[string]bool{},
		UserOf: func(context.Context) string { return "" }}
}

// Entry is an entry of the tree with its annotations.
type Entry struct {
	records.Annotated
	Address store.Address
	// Located is where the entry is.
	Located tree.Located
}

// idOf is by what an entry is known when it was moved: its id, or "=" and its identity,
// which a file does not keep when it is replaced by another.
func idOf(entry store.Entry) string {
	if entry.ID == "" && entry.Identity != "" {
		return "=" + entry.Identity
	}
	return entry.ID
}

// placeOf is the place of an entry with that id.
func placeOf(at store.Ref, entry store.Entry) store.Ref {
	at = at.As(store.KindFile)
	if entry.Kind == store.KindFolder {
		at = at.As(store.KindFolder)
	}
	at.ID = idOf(entry)
	return at
}

// Of returns an entry with its annotations. The error is store.ErrNotFound if it does not
// exist; an account's start has no annotations.
func (a *Annotations) Of(ctx context.Context, address store.Address) (one Entry, err error) {
	one.Address = address
	if one.Located, err = a.tree.Locate(ctx, address); err != nil {
		return one, err
	}
	if one.Located.Place.IsStart() {
		return one, store.Errorf(store.ErrRefused, "%s is a whole account; tags, comments and locks are for files and folders in it", address)
	}
	entry, err := one.Located.Store.Stat(ctx, one.Located.Place)
	if err != nil {
		return one, err
	}
	account, err := a.AccountID(ctx, address.Account)
	if err != nil {
		return one, err
	}
	place := placeOf(one.Located.Place, entry)
	one.Annotated, err = a.find(ctx, account, one.Located.Store, place)
	if errors.Is(err, records.ErrNotFound) {
		err = nil
		one.Account, one.Folder, one.Name, one.IsFolder = account, place.Folder.Path, place.Name, place.Kind == store.KindFolder
	}
	one.Ref = place.ID
	return one, err
}

// find returns the annotations of the entry at a place, whose ref has its id;
// records.ErrNotFound if there are none.
func (a *Annotations) find(ctx context.Context, account string, s store.Store, place store.Ref) (records.Annotated, error) {
	all, err := a.match(ctx, account, s, []store.Ref{place})
	if err == nil && all[0] == nil {
		err = records.ErrNotFound
	}
	if err != nil {
		return records.Annotated{}, err
	}
	return *all[0], nil
}

// match returns the annotations of entries of one folder, nil for an entry without any. It
// follows entries that were moved there.
func (a *Annotations) match(ctx context.Context, account string, s store.Store, places []store.Ref) ([]*records.Annotated, error) {
	matched := make([]*records.Annotated, len(places))
	if has, err := a.hasSome(ctx, account); err != nil || !has || len(places) == 0 {
		return matched, err
	}
	first, last := places[0].Name, places[0].Name
	for _, place := range places {
		first, last = min(first, place.Name), max(last, place.Name)
	}
	rows, err := a.db.AnnotatedIn(ctx, account, places[0].Folder.Path, first, last)
	if err != nil {
		return nil, err
	}
	byName := map[store.Key]*records.Annotated{}
	for i := range rows {
		byName[store.KeyOf("", rows[i].Name, rows[i].Place().Kind)] = &rows[i]
	}
	for i, place := range places {
		row := byName[store.KeyOf("", place.Name, place.Kind)]
		switch {
		case row != nil && (row.Ref == place.ID || place.ID == "" || row.Ref == "" || strings.HasPrefix(place.ID, "=")):
			if matched[i] = row; row.Ref != place.ID || row.MissingAt != nil {
				err = a.db.FoundAnnotated(ctx, row.ID, account, place) // replaced, or back
			}
			if err != nil {
				return nil, err
			}
		case place.ID != "":
			if matched[i], err = a.followed(ctx, account, s, place); err != nil {
				return nil, err
			}
		}
	}
	return matched, nil
}

// followed returns the annotations of an entry that was at another place when it got them.
func (a *Annotations) followed(ctx context.Context, account string, s store.Store, place store.Ref) (*records.Annotated, error) {
	row, err := a.db.AnnotatedByRef(ctx, account, place.ID)
	if errors.Is(err, records.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if strings.HasPrefix(place.ID, "=") && (row.MissingAt != nil || !isGone(ctx, s, row.Place())) {
		return nil, nil // an identity may be given to another file, and a file may have several names
	}
	if err := a.db.FoundAnnotated(ctx, row.ID, account, place); err != nil {
		return nil, err
	}
	a.forgetLocks(account) // a lock goes with its entry
	row.Folder, row.Name, row.IsFolder, row.MissingAt = place.Folder.Path, place.Name, place.Kind == store.KindFolder, nil
	return &row, nil
}

// isGone reports whether it is certain that nothing is at a place any more.
func isGone(ctx context.Context, s store.Store, place store.Ref) bool {
	_, err := s.Stat(ctx, place)
	return store.KindOf(err) == store.ErrNotFound
}

// In returns the annotations of entries of one folder of an account, by their position; nil
// for an entry without any. Of twins with one name, annotations by place belong to the
// first.
func (a *Annotations) In(ctx context.Context, folder store.Address, nodes []tree.Node) ([]*records.Annotated, error) {
	if folder.IsRoot() || len(nodes) == 0 {
		return make([]*records.Annotated, len(nodes)), nil
	}
	account, err := a.AccountID(ctx, folder.Account)
	if err != nil {
		return nil, err
	}
	if has, err := a.hasSome(ctx, account); err != nil || !has {
		return make([]*records.Annotated, len(nodes)), err
	}
	located, err := a.tree.Locate(ctx, folder)
	if err != nil {
		return nil, err
	}
	places := make([]store.Ref, len(nodes))
	for i, node := range nodes {
		places[i] = placeOf(located.Place.AsFolder().Ref(node.Name), node.Entry)
	}
	matched, err := a.match(ctx, account, located.Store, places)
	if err != nil {
		return nil, err
	}
	var filled []records.Annotated
	for _, row := range matched {
		if row != nil {
			filled = append(filled, *row)
		}
	}
	if err := a.db.FillAnnotated(ctx, filled); err != nil {
		return nil, err
	}
	next := 0
	for i := range matched {
		if matched[i] != nil {
			matched[i] = &filled[next]
			a.dropExpired(matched[i])
			next++
		}
	}
	return matched, nil
}

// Follow moves the annotations of entries that were moved to a folder.
func (a *Annotations) Follow(ctx context.Context, folder store.Address, nodes []tree.Node) error {
	_, err := a.In(ctx, folder, nodes)
	return err
}

// FolderMoved moves the annotations of a folder of an account, and of everything in it, after
// a move by another program.
func (a *Annotations) FolderMoved(ctx context.Context, account string, from, to []store.Step) {
	before, known := store.Address{Account: "x", Steps: from}.Place()
	now, also := store.Address{Account: "x", Steps: to}.Place()
	if has, err := a.hasSome(ctx, account); err != nil || !has || !known || !also {
		return
	}
	moved, err := a.db.MoveAnnotated(ctx, account, before.As(store.KindFolder), now.As(store.KindFolder))
	if err != nil {
		a.log.ErrorContext(ctx, "the tags and comments in a folder could not follow its move",
			"from", before.String(), "to", now.String(), "error", err)
	}
	if moved > 0 {
		a.forgetLocks(account)
	}
}

// dropExpired leaves a lock out that has ended and was not cleaned up yet.
func (a *Annotations) dropExpired(one *records.Annotated) {
	if one.Lock != nil && !a.Now().Before(one.Lock.Until) {
		one.Lock = nil
	}
}

// Fill reads the annotations of an entry.
func (a *Annotations) Fill(ctx context.Context, one *Entry) error {
	if one.ID == 0 {
		return nil
	}
	filled := []records.Annotated{one.Annotated}
	err := a.db.FillAnnotated(ctx, filled)
	one.Annotated = filled[0]
	a.dropExpired(&one.Annotated)
	return err
}

// hasSome reports whether anything of an account is annotated: most accounts have nothing,
// and cost nothing.
func (a *Annotations) hasSome(ctx context.Context, account string) (bool, error) {
	a.mu.Lock()
	has, known := a.some[account]
	a.mu.Unlock()
	if known {
		return has, nil
	}
	has, err := a.db.HasAnnotated(ctx, account)
	if err != nil {
		return false, err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if now, known := a.some[account]; known { // something was noted while it was read
		return now, nil
	}
	a.some[account] = has
	return has, nil
}

// noted takes note that something about an entry changed.
func (a *Annotations) noted(account string, entry store.Address) {
	a.mu.Lock()
	a.some[account] = true
	a.mu.Unlock()
	if a.Changed != nil {
		a.Changed(entry.Parent())
	}
}

// Tag gives an entry tags and takes others from it. It returns how many tags changed.
func (a *Annotations) Tag(ctx context.Context, one Entry, add, remove []string, by string) (changed int64, err error) {
	for _, list := range [][]string{add, remove} {
		for i := range list {
			if list[i], err = annotation.Tag(list[i]); err != nil {
				return 0, err
			}
		}
	}
	if len(add) > 0 {
		changed, err = a.db.AddTags(ctx, one.Account, one.place(), add, by, a.Now())
		if errors.Is(err, records.ErrTooMany) {
			return 0, store.Errorf(store.ErrRefused, "%s would have more than %d tags; remove some first", one.Address, annotation.MostTags)
		}
	}
	if err == nil && len(remove) > 0 && one.ID != 0 {
		var removed int64
		removed, err = a.db.RemoveTags(ctx, one.ID, remove)
		changed += removed
	}
	if changed > 0 {
		a.noted(one.Account, one.Address)
	}
	return changed, err
}

func (e *Entry) place() store.Ref { return e.Annotated.Place() }

// AddComment adds a comment to an entry.
func (a *Annotations) AddComment(ctx context.Context, one Entry, text, user, by string) (records.Comment, error) {
	text, err := annotation.Comment(text)
	if err != nil {
		return records.Comment{}, err
	}
	added, _, err := a.db.AddComment(ctx, one.Account, one.place(), records.Comment{User: user, By: by, Text: text,
		At: a.Now().UTC().Round(time.Millisecond)})
	if errors.Is(err, records.ErrTooMany) {
		err = store.Errorf(store.ErrRefused, "%s has %d comments; delete some first", one.Address, annotation.MostComments)
	}
	if err == nil {
		a.noted(one.Account, one.Address)
	}
	return added, err
}

// EditComment changes the text of a comment.
func (a *Annotations) EditComment(ctx context.Context, id int64, entry store.Address, account, text string) error {
	text, err := annotation.Comment(text)
	if err == nil {
		err = a.db.EditComment(ctx, id, text, a.Now())
	}
	if err == nil {
		a.noted(account, entry)
	}
	return err
}

// RemoveComment removes a comment.
func (a *Annotations) RemoveComment(ctx context.Context, id int64, entry store.Address, about records.Annotated) error {
	err := a.db.RemoveComment(ctx, id, about.ID)
	if err == nil {
		a.noted(about.Account, entry)
	}
	return err
}
