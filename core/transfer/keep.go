package transfer

import (
	"context"
	"time"

	"deftheron/core/compare"
	"deftheron/core/history"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// version is the old content of an item's target, as history keeps it.
type version struct {
	history.Content
	hash string // KIND=HEXADECIMAL; empty where none is known
	// was is the old content as it was at the target. The item's target may be another since.
	was compare.Remembered
}

// tell says in a note where the old content goes.
func (v *version) tell(note *Note) {
	note.Kept, note.KeptVersion, note.KeptHash = history.KeyOf(v.Place), v.Version, v.hash
}

// keeps is what a run knows of its versions.
type keeps struct {
	// settled are versions that the run had kept before it was interrupted, by Seq.
	settled map[int64]*version
	// settledMoves are where it had moved contents from.
	settledMoves map[int64]store.Key
	// fresh holds the stores of targets that did not exist; firstChanges records that.
	fresh        map[store.Store]bool
	firstChanges []Ending
	unlisted     unlisted
}

// keepsDeleted reports whether a removed file is moved to history: if the rules say so, and
// if nothing proves that it is still the file that was synced.
func (a *attempt) keepsDeleted(ctx context.Context) (bool, error) {
	if a.Rules.KeepsVersions() {
		return true, nil
	}
	return a.isKept(ctx)
}

// deleteKept moves a file of the target to history.
func (a *attempt) deleteKept(ctx context.Context, place store.Ref, ending *Ending) error {
	revision := a.item.Target.Revision
	s := a.route.Target.Store
	if a.item.version == nil {
		kept, err := a.newVersion(ctx, place)
		if err != nil {
			return err
		}
		if kept.Version != "" {
			a.item.version = kept
			return a.removeKept(ctx, place, ending)
		}
		_, err = store.Move(ctx, s, place, revision, kept.Place)
		if store.KindOf(err) == store.ErrOutcomeUnknown {
			if _, looked := s.Stat(ctx, place); store.KindOf(looked) == store.ErrNotFound {
				err = nil
			}
		}
		switch store.KindOf(err) {
		case nil:
			a.item.version = kept
			a.kept(ctx, ending, history.Deleted)
			return nil
		case store.ErrUnsupported:
		case store.ErrExists:
			return store.Errorf(store.ErrTryAgain, "something else is kept at %s", kept.Place)
		default:
			return err
		}
		if err = a.copyTo(ctx, place, revision, kept); err != nil {
			return err
		}
	}
	return a.removeKept(ctx, place, ending)
}

// removeKept removes a file of the target whose content is in history.
func (a *attempt) removeKept(ctx context.Context, place store.Ref, ending *Ending) error {
	if _, err := a.route.Target.Store.Remove(ctx, place, a.item.Target.Revision); err != nil {
		return err
	}
	a.kept(ctx, ending, history.Deleted)
	return nil
}

// copyTo copies the old content to where it is kept: inside the account, where it can, or
// else by reading and writing it.
func (a *attempt) copyTo(ctx context.Context, place store.Ref, revision string, kept *version) error {
	err := a.keepCopy(ctx, place, revision, kept.Place)
	if store.KindOf(err) == store.ErrExists {
		err = store.Errorf(store.ErrTryAgain, "something else is kept at %s", kept.Place)
	}
	if err == nil {
		a.item.version = kept
	}
	return err
}

// newVersion returns, and notes, where history keeps the old content of a place: as the version
// that the account keeps by itself, or in an existing folder under a free name.
func (a *attempt) newVersion(ctx context.Context, place store.Ref) (*version, error) {
	id, err := store.VersionOf(ctx, a.route.Target.Store, place, a.item.Target.Revision)
	if err != nil {
		return nil, err
	}
	kept := &version{Content: history.Content{Place: place.As(store.KindFile), Version: id}, was: a.item.Target}
	if id == "" {
		kept.Place = a.newPlace(place)
		if err := a.folders.ensure(ctx, a.route.Target, kept.Place.Folder.Path); err != nil {
			return nil, err
		}
	}
	pair, err := a.Records.Pair(ctx, a.route.Scope, a.pairKey())
	if err != nil {
		return nil, err
	}
	if pair != nil && !pair.Kept {
		remembered := pair.Target
		if a.route.Back {
			remembered = pair.Source
		}
		if store.SameRevision(remembered.Revision, a.item.Target.Revision) {
			if kept.hash = pair.Digest; kept.hash == "" {
				kept.hash = pair.Verification
			}
		}
	}
	a.item.keeps = kept
	a.tellKept(place, kept.Content)
	note := Note{Seq: a.item.Seq, Source: a.item.Source}
	kept.tell(&note)
	return kept, a.Records.Note(a.ID, note)
}

// newPlace returns a place in history with a free name.
func (a *attempt) newPlace(place store.Ref) store.Ref {
	now := time.Now()
	number := int64(0)
	// A path that the run may have kept before gets a name that nothing has had.
	if a.try > 1 || a.Resumed || a.pass > 0 || a.item.Route > 0 && !a.route.Back {
		number = max(1, now.Sub(a.Began).Microseconds())
	}
	return history.Place(history.PartName(a.Began, now, a.ID), place, number)
}

// tellKept tells a source that is what the target was where a content of it is going.
func (a *attempt) tellKept(place store.Ref, kept history.Content) {
	if tell := a.route.Source.Store.Capabilities().Kept; tell != nil && a.route.Source.Account == a.route.Target.Account {
		tell(place, kept.Place, kept.Version)
	}
}

// kept notes in an ending that the old content was kept.
func (a *attempt) kept(ctx context.Context, ending *Ending, how history.How) {
	kept, until := a.item.version, a.lockedUntil()
	if ending.Cause == plan.CauseRemoved || ending.Cause == plan.CauseNone && how == history.Deleted {
		ending.Cause = plan.CauseVersionKept
	}
	if ending.Cause == plan.CauseVersionKept {
		ending.Why = "kept as /" + a.route.Target.Account + kept.Place.String()
		if kept.Version != "" {
			ending.Why = "kept by the account as version " + kept.Version
		}
	}
	ending.Changes = append(ending.Changes, history.Change{
		Account: a.route.Target.Account, Path: history.KeyOf(a.target()), At: time.Now(), How: how, Size: kept.was.Size,
		Modified: kept.was.Modified, Hash: kept.hash, Kept: history.KeyOf(kept.Place), Version: kept.Version, Run: a.ID, Job: a.Job,
		Locked: until, Enforced: a.enforce(ctx, kept.Content, until),
	})
}

// enforce has the store itself keep a version until a time, where it can. That it does not
// is no failure: the service keeps to the time in any case, and says which of the two.
func (a *attempt) enforce(ctx context.Context, content history.Content, until time.Time) bool {
	if until.IsZero() {
		return false
	}
	enforced, err := content.Lock(ctx, a.route.Target.Store, until)
	if err != nil {
		a.Log.Warn("the store does not lock a version", "run", a.ID, "place", content.String(), "error", err)
	}
	return enforced && err == nil
}

// lockedUntil is until when a version that is kept now must stay.
func (a *attempt) lockedUntil() time.Time {
	if a.Rules.Locked <= 0 {
		return time.Time{}
	}
	return time.Now().Add(a.Rules.Locked)
}

// changed says in an ending what became of a place that has the item's content now.
func (a *attempt) changed(ctx context.Context, ending *Ending, place store.Ref) {
	switch {
	case a.item.version != nil:
		a.kept(ctx, ending, history.Overwritten)
	case a.item.movedFrom != "":
		ending.Changes = a.moved(a.route.Target, a.item.movedFrom.Ref("", store.KindFile), place)
	default:
		ending.Changes = a.created(a.route.Target, place)
	}
}

// noteMove notes that the content is about to be moved within the target.
func (a *attempt) noteMove(from store.Ref, hash string) error {
	if a.item.movedFrom = ""; a.Rules.TracksFiles() {
		a.item.movedFrom = history.KeyOf(from)
	}
	if a.Rules.Type != plan.TwoWay && a.item.movedFrom != "" {
		return a.Records.Note(a.ID, Note{Seq: a.item.Seq, Source: a.item.Source, From: a.item.movedFrom})
	}
	a.note(hashIn(hash))
	return nil
}

// notMoved takes back what noteMove has noted.
func (a *attempt) notMoved() {
	if a.item.movedFrom == "" {
		return
	}
	a.item.movedFrom = ""
	if err := a.Records.Note(a.ID, Note{Seq: a.item.Seq, Source: a.item.Source}); err != nil {
		a.Log.Warn("could not record that a file was not moved", "run", a.ID, "error", err)
	}
}

// created is the change of a file that was put where nothing was.
func (a *attempt) created(side Side, place store.Ref) []history.Change {
	if !a.Rules.TracksFiles() || a.pass == 0 && a.item.Key != "" && a.fresh[side.Store] {
		return nil
	}
	return []history.Change{{Account: side.Account, Path: history.KeyOf(place), At: time.Now(), How: history.Created, Run: a.ID, Job: a.Job}}
}

// moved are the changes of a file that was moved within a side.
func (a *attempt) moved(side Side, from, to store.Ref) []history.Change {
	if !a.Rules.TracksFiles() {
		return nil
	}
	now := time.Now()
	return []history.Change{
		{Account: side.Account, Path: history.KeyOf(from), At: now, How: history.Moved, To: history.KeyOf(to), Run: a.ID, Job: a.Job},
		{Account: side.Account, Path: history.KeyOf(to), At: now, How: history.Created, Run: a.ID, Job: a.Job},
	}
}

// keepCopy copies a file of the target within it: inside, where it can, or else by
// reading and writing it.
func (a *attempt) keepCopy(ctx context.Context, from store.Ref, revision string, to store.Ref) error {
	side := a.route.Target
	_, err := store.Copy(ctx, side.Store, from, revision, to, a.ID)
	if store.KindOf(err) != store.ErrUnsupported {
		return err
	}
	_, _, err = a.through(ctx, side, side, from, revision, to, store.Absent)
	return err
}

// replace overwrites what the target holds. Where versions are kept, the old content is
// moved to history by the write itself, or copied there before it.
func (a *attempt) replace(ctx context.Context) (*Ending, error) {
	place, condition := a.target(), store.AtRevision(a.item.Target.Revision)
	if a.item.Cause != plan.CauseVersionKept {
		if err := a.untouched(ctx); err != nil {
			if store.KindOf(err) == store.ErrChanged || store.KindOf(err) == store.ErrNotFound {
				return a.lookAgain(ctx, place, err)
			}
			return nil, err
		}
	}
	if !a.Rules.KeepsVersions() || a.item.version != nil {
		return a.write(ctx, place, condition)
	}
	kept, err := a.newVersion(ctx, place)
	switch store.KindOf(err) {
	case nil:
	case store.ErrNotFound, store.ErrChanged:
		return a.lookAgain(ctx, place, err)
	default:
		return nil, err
	}
	if kept.Version != "" {
		a.item.version, a.item.Cause = kept, plan.CauseNone
		return a.write(ctx, place, condition)
	}
	if a.keepsByWriting(place, condition, kept) {
		a.keeping = kept
		return a.write(ctx, place, condition)
	}
	err = a.copyTo(ctx, place, a.item.Target.Revision, kept)
	switch store.KindOf(err) {
	case nil:
		a.item.Cause = plan.CauseNone
		return a.write(ctx, place, condition)
	case store.ErrNotFound, store.ErrChanged:
		return a.lookAgain(ctx, place, err)
	}
	return nil, err
}

// keepsByWriting reports whether the write itself keeps the old content.
func (a *attempt) keepsByWriting(place store.Ref, condition store.Condition, kept *version) bool {
	if _, _, parts := store.Parts(a.route.Target.Store, a.item.Size); parts {
		return false
	}
	return store.Keeps(a.route.Target.Store, store.Writing{Place: place, Size: a.item.Size, If: condition, Keep: kept.Place})
}

// findKept finds the old content in history if an earlier attempt, whose result is unknown, has
// put it there.
func (a *attempt) findKept(ctx context.Context) error {
	if a.item.version != nil || a.item.keeps == nil {
		return nil
	}
	entry, err := a.item.keeps.Stat(ctx, a.route.Target.Store)
	switch {
	case store.KindOf(err) == store.ErrNotFound:
		return nil
	case err != nil:
		return err
	case entry.Size == a.item.keeps.was.Size:
		a.item.version = a.item.keeps
	}
	return nil
}

// otherwise is called if the target no longer holds the content that was kept: that version
// stays in history, and the present content becomes another one.
func (a *attempt) otherwise(ctx context.Context) {
	if a.item.version != nil {
		var ending Ending
		a.kept(ctx, &ending, history.Overwritten)
		a.item.changes = append(a.item.changes, ending.Changes...)
	}
	a.item.version, a.item.keeps, a.keeping = nil, nil, nil
	a.notMoved()
}

// settleHistory says in the ending of an item what its tries have done to history.
func (a *attempt) settleHistory(ctx context.Context, ending *Ending) {
	a.settleVersion(ctx, ending)
	creating := a.item.Action == plan.Create && a.item.Kind == store.KindFile && a.item.version == nil
	if ending.State == Failed && creating && a.Rules.TracksFiles() {
		// It may have come all the same, if the answer was lost: nothing was there before.
		if _, err := a.route.Target.Store.Stat(ctx, a.target()); err == nil {
			ending.Changes = append(ending.Changes, a.created(a.route.Target, a.target())...)
		}
	}
	if !a.Rules.Superseded || ending.State != Done || a.item.Kind != store.KindFile || ending.Pair == nil {
		return
	}
	change, err := a.superseded(ctx)
	switch {
	case err != nil:
		a.Log.Warn("could not look where an earlier run has put a file", "run", a.ID, "place", a.target().String(), "error", err)
	case change != nil:
		ending.Changes = append(ending.Changes, *change)
	}
}

// settleVersion records in the ending of an item what its attempts have moved to history. A
// copy is dropped if the target still holds the same content.
func (a *attempt) settleVersion(ctx context.Context, ending *Ending) {
	if ending.State != Done {
		if err := a.findKept(ctx); err != nil {
			a.Log.Warn("could not look whether the old content of a file was kept", "run", a.ID, "place", a.target().String(), "error", err)
		}
	}
	if ending.State != Done && a.item.version != nil && len(ending.Changes) == 0 {
		target := a.route.Target.Store
		entry, err := target.Stat(ctx, a.target())
		if err == nil && store.SameRevision(entry.Revision, a.item.version.was.Revision) {
			if a.item.version.Version == "" {
				err = a.item.version.Remove(ctx, target)
			}
			if err == nil {
				a.item.version = nil
			}
		}
		if a.item.version != nil {
			a.kept(ctx, ending, history.Overwritten)
		}
	}
	ending.Changes = append(a.item.changes, ending.Changes...)
}
