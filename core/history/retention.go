package history

import (
	"time"

	"deftheron/core/remedy"
)

// Retention says which contents are kept for how long. What any of its rules keeps is kept.
// The zero value keeps nothing, and is not valid.
type Retention struct {
	// All keeps each content for a time after it was replaced.
	All time.Duration
	// Hourly keeps what was there at the end of each hour of that time, Daily of each day,
	// Weekly of each week from Monday, and Monthly of each month. 0 is not at all.
	Hourly, Daily, Weekly, Monthly time.Duration
	// Versions keeps the newest of each file, however old they are.
	Versions int
}

// Longest is for how long anything but the newest versions is kept.
func (r Retention) Longest() time.Duration { return max(r.All, r.Hourly, r.Daily, r.Weekly, r.Monthly) }

// Check returns an error if the rules are invalid.
func (r Retention) Check() error {
	if r.Longest() <= 0 && r.Versions <= 0 {
		return remedy.Errorf("no version would be kept at all; give at least one rule, such as all: 30d")
	}
	return nil
}

// Decision is what becomes of a change.
type Decision int

// The decisions.
const (
	Keep Decision = iota
	// Drop removes the content, where there is one, and the change.
	Drop
	// Empty removes the content, and leaves the change as Thinned: it still tells from
	// when on the file has been what it is now.
	Empty
)

// Thin decides about the changes of one path, which are in the order of time. Days begin in
// the zone of now. Nothing is dropped that is locked. wanted reports whether the content of
// a change is one that a retained move leads to; it may be nil.
func (r Retention) Thin(changes []Change, now time.Time, wanted func(*Change) (bool, error)) ([]Decision, error) {
	decisions := make([]Decision, len(changes))
	newest := r.Versions
	for i := len(changes) - 1; i >= 0; i-- {
		change := &changes[i]
		last := i == len(changes)-1
		switch change.How {
		case Created, Thinned: // without them, what came later would count as having been there
			if now.Sub(change.At) > r.Longest() {
				decisions[i] = Drop
			}
			continue
		}
		if change.HasContent() && newest > 0 {
			newest--
			continue
		}
		if change.IsLocked(now) || r.keeps(change, last, now) {
			continue
		}
		if wanted != nil && change.HasContent() {
			keep, err := wanted(change)
			if err != nil {
				return nil, err
			}
			if keep {
				continue
			}
		}
		decisions[i] = Drop
		if last && change.How == Overwritten && now.Sub(change.At) <= r.Longest() {
			decisions[i] = Empty
		}
	}
	return decisions, nil
}

// keeps reports whether a rule keeps a change. The last version of a deleted file is kept
// for as long as any.
func (r Retention) keeps(change *Change, last bool, now time.Time) bool {
	age := now.Sub(change.At)
	if age <= r.All || last && change.How == Deleted && age <= r.Longest() {
		return true
	}
	at := change.At.In(now.Location())
	day := func(months, days int) time.Time {
		return time.Date(at.Year(), at.Month()+time.Month(months), days, 0, 0, 0, 0, at.Location())
	}
	for _, one := range []struct {
		within time.Duration
		began  time.Time // of the hour, day, … in which it was replaced
	}{
		{r.Hourly, at.Truncate(time.Hour)},
		{r.Daily, day(0, at.Day())},
		{r.Weekly, day(0, at.Day()-(int(at.Weekday())+6)%7)},
		{r.Monthly, day(0, 1)},
	} {
		// It was there at the end of the hour, day, … before, unless it came later.
		if one.within > 0 && now.Sub(one.began) <= one.within && !change.Since.After(one.began) {
			return true
		}
	}
	return false
}
