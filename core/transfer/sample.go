package transfer

import (
	"context"
	"errors"
	"sync"

	"deftheron/core/compare"
	"deftheron/core/store"
	"deftheron/core/unit"
)

// samples are what the run knows of how true others tell what they have copied.
type samples struct {
	mu     sync.Mutex
	units  map[string]int // that a member has copied
	passed map[string]int // samples that were right
	doubts map[string]int // copies that were not there as they were said to be, and may have been changed since
}

const (
	// sampledFirst is how many samples of a member of the crew must be right before a unit is believed
	// without one. From then on one of sampledEvery units is sampled.
	sampledFirst, sampledEvery = 4, 16
	// mostSampled is the largest file that is read to find out whether it was copied.
	mostSampled = 1 << 20
	// mostDoubts is how many copies may have been changed right after they were made.
	mostDoubts = 2
)

// isDue reports whether the next unit of a member is sampled. Many units may be answered at the same moment:
// none is believed before enough samples were right.
func (s *samples) isDue(by string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.units == nil {
		s.units, s.passed, s.doubts = map[string]int{}, map[string]int{}, map[string]int{}
	}
	s.units[by]++
	return s.passed[by] < sampledFirst || s.units[by]%sampledEvery == 0
}

// pass counts a sample that was right.
func (s *samples) pass(by string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.passed[by]++
}

// isFirst reports whether no copy of a member was sampled yet.
func (s *samples) isFirst(by string) bool {
	s.mu.Lock()
	first := s.units[by] == 0
	s.mu.Unlock()
	return first && s.isDue(by)
}

// doubt reports whether there have been too many doubts, with this one.
func (s *samples) doubt(by string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.doubts[by]++
	return s.doubts[by] > mostDoubts
}

// sample checks, for some units, one of the copies. A member whose report was false is not trusted any more.
// After an error none of the unit's copies counts as made.
func (r *Run) sample(ctx context.Context, by string, copied []unit.Copied, sent map[int64]*attempt) error {
	if !r.samples.isDue(by) {
		return nil
	}
	for _, one := range copied {
		a := sent[one.Seq]
		if a == nil || one.Err != nil || one.Size > mostSampled {
			continue
		}
		err := a.matches(ctx, one)
		if errors.Is(err, store.ErrVerification) || errors.Is(err, errChangedSince) && r.samples.doubt(by) {
			r.Crew.Distrust(ctx, by, err)
		}
		if err == nil {
			r.samples.pass(by)
		}
		return err
	}
	return nil
}

// errChangedSince says that something was changed right after it was copied, if it was copied at all.
var errChangedSince = errors.New("it is not there as it was copied")

// matches returns an error that wraps store.ErrVerification if the target does not hold what it is said
// to hold, or errChangedSince if somebody may have changed it since.
func (a *attempt) matches(ctx context.Context, copied unit.Copied) error {
	entry, err := a.route.Target.Store.Stat(ctx, a.target())
	if store.KindOf(err) == store.ErrNotFound || err == nil && !store.SameRevision(entry.Revision, copied.Entry.Revision) {
		return errChangedSince
	}
	if err != nil {
		return err
	}
	lies := func(what string) error {
		return store.Errorf(store.ErrTryAgain, "%s %s: %w", a.target(), what, store.ErrVerification)
	}
	if entry.Size >= 0 && entry.Size != copied.Size {
		return lies("has another size than was said")
	}
	wanted, ok := store.ParseHash(hashIn(copied.Verification))
	if !ok {
		return nil
	}
	sum, err := a.sumAtTarget(ctx, a.target(), entry, wanted.Kind)
	if err != nil {
		return err
	}
	if sum != wanted {
		return lies("holds another content than was said")
	}
	sum, _, err = store.ReadBack(ctx, a.route.Source.Store, a.source(), a.item.Source.Revision, wanted.Kind)
	if err != nil {
		return compare.NewSourceError(err)
	}
	if sum != wanted {
		return lies("holds another content than the source")
	}
	return nil
}
