package transfer

import (
	"context"
	"time"

	"deftheron/core/compare"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// A process may be killed after the target has a file and before this is recorded. A
// two-way run that continues would take the file for one that somebody else put there:
// it would bring back files that were removed meanwhile, and report conflicts for files
// that were changed. So a note is written before something appears at the target. Notes
// are not synced to the disk, so they cost no more than a write to memory: they survive the
// process, but perhaps not the machine. Without a note nothing is lost, either.

// Note is what an item is about to bring about at the target.
type Note struct {
	Seq    int64
	Source compare.Remembered // what is sent
	Hash   string             // KIND=HEXADECIMAL of the content; empty of a folder
	// Kept and KeptVersion are where the old content of the target goes, see
	// [history.Change], and KeptHash its hash, where one is known.
	Kept        store.Key `json:",omitempty"`
	KeptVersion string    `json:",omitempty"`
	KeptHash    string    `json:",omitempty"`
	// From is where at the target the content is moved from.
	From store.Key `json:",omitempty"`
}

// Noted is a note of an item that is Waiting.
type Noted struct {
	Item Item
	Note
}

// note records what is about to appear at the target, with the hash of its content.
func (a *attempt) note(hash string) {
	if a.Rules.Type != plan.TwoWay || a.from != nil || hash == "" && a.item.Kind != store.KindFolder {
		return
	}
	note := Note{Seq: a.item.Seq, Source: a.item.Source, Hash: hash, From: a.item.movedFrom}
	if keeps := a.item.keeps; keeps != nil {
		keeps.tell(&note)
	}
	if err := a.Records.Note(a.ID, note); err != nil {
		a.Log.Warn("could not record what is about to be written", "run", a.ID, "error", err)
	}
}

// settleNotes ends the items of an interrupted run whose result is at the target: the
// content of the note, or the folder.
func (r *Run) settleNotes(ctx context.Context) error {
	if r.Rules.Type != plan.TwoWay {
		return nil
	}
	notes, err := r.Records.Noted(ctx, r.ID)
	if err != nil {
		return err
	}
	var endings []Ending
	for _, noted := range notes {
		if noted.Item.Route >= len(r.Routes) || r.absentOf(noted.Item.Route) != nil {
			continue
		}
		noted.Item.Source = noted.Source
		r.takeSettled(&noted.Item)
		a := attempt{Run: r, item: &noted.Item, route: r.Routes[noted.Item.Route]}
		var ending *Ending
		err := r.persist(ctx, nil, func() (err error) {
			ending, err = a.broughtAbout(ctx, noted.Hash)
			return err
		})
		if err != nil {
			return err
		}
		if ending != nil {
			endings = append(endings, *ending)
		}
	}
	if len(endings) == 0 {
		return nil
	}
	return r.Records.Finish(ctx, r.ID, r.scopes, endings)
}

// broughtAbout returns the ending of an item whose result is at the target; nil if the
// target has something else.
func (a *attempt) broughtAbout(ctx context.Context, hash string) (*Ending, error) {
	entry, err := store.Occupant(ctx, a.route.Target.Store, a.target())
	switch {
	case store.KindOf(err) == store.ErrNotFound:
		return nil, nil
	case err != nil:
		return nil, err
	case entry.Kind != a.item.Kind:
		return nil, nil
	case entry.Kind == store.KindFolder:
		return &Ending{Seq: a.item.Seq, Route: a.item.Route, State: Done, Ended: time.Now(),
			Pair: a.pairWith(store.Entry{Kind: store.KindFolder}, "")}, nil
	}
	wanted, ok := store.ParseHash(hash)
	if !ok || entry.Size >= 0 && a.item.Source.Size >= 0 && entry.Size != a.item.Source.Size {
		return nil, nil
	}
	sum, err := a.sumAtTarget(ctx, a.target(), entry, wanted.Kind)
	switch {
	case store.KindOf(err) == store.ErrNotFound, store.KindOf(err) == store.ErrChanged:
		return nil, nil
	case err != nil:
		return nil, err
	case sum != wanted:
		return nil, nil
	}
	ending := &Ending{
		Seq: a.item.Seq, Route: a.item.Route, State: Done, Ended: time.Now(), Attempts: 1, Moved: max(0, entry.Size),
		Verification: hash + " (compared after an interruption)", Pair: a.pairWith(entry, hash),
	}
	a.changed(ctx, ending, a.target())
	return ending, nil
}

// sumAtTarget is the hash of a file at the target: told by it, or read back where it
// tells none, or the rules ask for that.
func (a *attempt) sumAtTarget(ctx context.Context, place store.Ref, entry store.Entry, kind store.HashKind) (store.Hash, error) {
	target := a.route.Target.Store
	sum, err := store.Sum(ctx, target, place, entry, kind)
	if store.KindOf(err) == store.ErrUnsupported || a.Rules.Verification == store.VerifyByReading {
		sum, _, err = store.ReadBack(ctx, target, place, entry.Revision, kind)
	}
	return sum, err
}
