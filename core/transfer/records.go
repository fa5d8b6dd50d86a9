// Package transfer executes runs. It lists and compares with package compare,
// decides with package plan, queues the work in the records, transfers the bytes
// in parallel lanes, verifies what arrived, and records how every item ended.
//
// [Plan] computes what a run would do; [New] and [Run.Execute] do it. A run that
// was interrupted is created again with Options.Resumed and continues from the
// records.
//
// Memory does not grow with the number of files or their size: listings are
// streams, the queue is in the records, content streams from one store to the
// other, and the results that wait to be recorded are bounded.
package transfer

import (
	"context"
	"iter"
	"time"

	"deftheron/core/compare"
	"deftheron/core/history"
	"deftheron/core/plan"
	"deftheron/core/store"
)

// State is the state of an item.
type State string

// The states of an item. An item that is being moved is Waiting in the records,
// so that a restart takes it up again.
const (
	Waiting State = "waiting"
	Done    State = "done"
	Skipped State = "skipped"
	Failed  State = "failed"
)

// Item is one queued file or folder of a run.
type Item struct {
	Seq    int64 // unique in the run, in the order of the plan
	Route  int
	Key    store.Key
	To     store.Key // at the target, where it is another than Key; empty else
	Kind   store.Kind
	Action plan.Action
	Size   int64 // of the source; -1 is unknown
	// Source and Target as they were listed; Target.Revision is empty where
	// there was none.
	SourceID string
	Source   compare.Remembered
	Target   compare.Remembered
	// Mark of the source, see compare.MarkOf; Origin is what is copied inside
	// the target in place of being sent.
	Mark   string
	Origin *plan.Origin
	State  State
	Cause  plan.Cause
	Why    string
	// Decision is what a person has decided about this item, where both sides had
	// changed; empty leaves it to the rules of the run.
	Decision plan.ConflictRule

	// version is the old content of the target, once it is in history; keeps is what it was to
	// be there; changes are those that earlier tries made.
	version *version
	keeps   *version
	changes []history.Change
	// movedFrom is where at the target the content was, by the key of the account.
	movedFrom store.Key
}

// moves is how many bytes the item moves, as far as is known.
func (i *Item) moves() int64 {
	if i.Action.Takes() {
		return 0
	}
	return max(0, i.Size)
}

// marked reports whether the item is the half of a move that removes.
func (i *Item) marked() bool { return i.Action == plan.Remove && i.Cause == plan.CauseMoved }

// to is the item's key at the target.
func (i *Item) to() store.Key {
	if i.To != "" {
		return i.To
	}
	return i.Key
}

// Ending is how an item ended, and the pair to be remembered of it.
type Ending struct {
	Seq          int64 // 0: no item, only a pair
	Route        int
	State        State
	Cause        plan.Cause
	Why          string // the error's words, for a failure
	Verification string // "crc64nvme=…", and how it was come by
	Name         string // the name at the target, where it is another
	Moved        int64  // bytes
	Attempts     int
	Ended        time.Time
	Pair         *compare.Pair
	Also         []compare.Pair   // of what else was brought about
	Forget       []store.Key      // of the source, whose pairs are dropped
	Changes      []history.Change // of the accounts, with what was there before
	Held         []HeldFile       // what the target holds now, where identical files are there once

	// Drop is set if no record of the item is kept: it is the removing half of a move,
	// and the other half stands for both.
	Drop bool

	again bool // it may be tried again
}

// Upload is a file on its way in parts.
type Upload struct {
	ID string // empty: about to be begun
	// Source revision that the parts are of, and the size of a part.
	Revision string
	PartSize int64
	Parts    []store.Part
}

// Tally holds the counts of a run so far.
type Tally struct {
	Planned   bool        // the listing was complete and all is queued
	Totals    plan.Totals // of a plan that is complete, as is Unchanged
	Unchanged int64
	Items     int64 // queued, in whichever state
	Bytes     int64 // of the items that are to be moved
	Done      int64
	Skipped   int64
	Failed    int64
	Locked    int64 // of those skipped, what somebody had locked
	Moved     int64 // bytes of done items
	Removed   int64 // files and folders, of those done
	LastSeq   int64 // the highest there is
	// Lost holds the recent losses, as they were passed to the last Judge.
	Lost []Loss
	// Judged is up to which Seq the safety limits have passed the plan, and Asked
	// up to which they have held it for a person's word.
	Judged, Asked int64
}

// Records keep the queue, the results and the pairs. Each call is one
// transaction, which is safe on the disk when the call returns. All methods may
// be called from many goroutines.
type Records interface {
	// Tally returns what the records hold of a run.
	Tally(ctx context.Context, run string) (Tally, error)
	// Forget removes the run's items that are not done, and its counts, before
	// the run is planned again.
	Forget(ctx context.Context, run string) error
	// Enqueue adds items. Those that are not Waiting have ended already.
	Enqueue(ctx context.Context, run string, items []Item) error
	// MarkMoved says of files Waiting to be removed at keys of the target of a route that
	// they have only moved: another item brings their content to where it is now. They
	// get [plan.CauseMoved] and are counted and told no more, unless they end otherwise
	// than dropped. It returns how many there were.
	MarkMoved(ctx context.Context, run string, route int, at []store.Key) (int64, error)
	// Planned says that all is queued, and to what it comes. Judge may say it too.
	Planned(ctx context.Context, run string, totals plan.Totals) error
	// Judge records that all items up to a Seq are within the safety limits: only
	// then does Claim return those that overwrite or remove something. It keeps
	// the recent losses for the next start. planned is nil, or what Planned would
	// get: both are recorded in one step.
	// Ask records that the run waits for a person to approve them.
	Judge(ctx context.Context, run string, seq int64, lost []Loss, planned *plan.Totals) error
	Ask(ctx context.Context, run string, seq int64) error
	// ForgetUnjudged removes the Waiting items above the Seq that was judged.
	ForgetUnjudged(ctx context.Context, run string) error
	// Epoch returns what tells whether the pairs of a scope are of the places
	// that its route leads to now; the zero value where nothing is kept.
	Epoch(ctx context.Context, scope string) (Epoch, error)
	// SetEpoch stores it. DistrustPairs keeps only the keys of the pairs of a scope,
	// with [compare.Nothing] on both sides. It removes the pairs of settled conflicts
	// and the epoch.
	SetEpoch(ctx context.Context, scope string, epoch Epoch) error
	DistrustPairs(ctx context.Context, scope string) error
	// Find returns a file that the target holds, and that is the content of a
	// mark; nil where there is none. back finds it at the source, by the mark of
	// the target.
	Find(ctx context.Context, scope, mark string, back bool) (*plan.Origin, error)
	// PairTo returns the pair of a target key that differs from its source key; nil
	// if there is none.
	PairTo(ctx context.Context, scope string, to store.Key) (*compare.Pair, error)
	// Pair returns the pair of a key; nil where there is none.
	Pair(ctx context.Context, scope string, key store.Key) (*compare.Pair, error)
	// Removing reports whether a file is Waiting to be removed at a key of the
	// target of a route.
	Removing(ctx context.Context, run string, route int, at store.Key) (bool, error)
	// Overwriting reports whether a file is Waiting to be overwritten, or beside,
	// at a key of the target of a route.
	Overwriting(ctx context.Context, run string, route int, at store.Key) (bool, error)
	// Claim returns Waiting items of a phase with a Seq above after, in order. For
	// plan.PhaseFolders it returns items with a Seq below after (0: any), last
	// first, so that a folder follows its content.
	Claim(ctx context.Context, run string, phase plan.Phase, after int64, most int) ([]Item, error)
	// Largest returns Waiting items of at least Large bytes, largest first.
	Largest(ctx context.Context, run string, phase plan.Phase, most int) ([]Item, error)
	// Finish writes endings and pairs in one transaction. scopes are those
	// of the run's routes.
	Finish(ctx context.Context, run string, scopes []string, endings []Ending) error
	// EndRest ends all Waiting items and returns how many there were.
	EndRest(ctx context.Context, run string, state State, cause plan.Cause) (int64, error)

	// Note records what is about to be done, without waiting for the disk. Notes of
	// items that have ended may be dropped. Noted returns the last note of each
	// Waiting item of a run.
	Note(run string, note Note) error
	Noted(ctx context.Context, run string) ([]Noted, error)

	// SaveUpload and SavePart store the progress of a file that is sent in parts.
	// LoadUpload returns it, with ok false if there is none; DropUpload removes it.
	// Uploads returns the uploads of Waiting items.
	SaveUpload(ctx context.Context, run string, seq int64, upload Upload) error
	SavePart(ctx context.Context, run string, seq int64, part store.Part) error
	LoadUpload(ctx context.Context, run string, seq int64) (upload Upload, ok bool, err error)
	DropUpload(ctx context.Context, run string, seq int64) error
	Uploads(ctx context.Context, run string) ([]PendingUpload, error)

	// Pairs yields the pairs of a scope in the order of keys.
	Pairs(ctx context.Context, scope string) iter.Seq2[compare.Pair, error]
	// PairsUnder yields the pairs of a path and of everything below it.
	PairsUnder(ctx context.Context, scope string, path store.Path) iter.Seq2[compare.Pair, error]
	// Manifests are written of the changes in endings.
	history.Unlisted
	// Known is how many files a scope has pairs of, without settled conflicts. It is
	// kept, not counted.
	Known(ctx context.Context, scope string) (int64, error)

	Contents
}

// PendingUpload is an upload that a run has not ended.
type PendingUpload struct {
	Item   Item
	Upload Upload
}
