package runner

import (
	"cmp"
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"time"

	"deftheron/core/compare"
	"deftheron/core/job"
	"deftheron/core/rehearsal"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/transfer"
	"deftheron/service/records"
)

// mostOutcomes is how many outcomes of a rehearsal are kept.
const mostOutcomes = 1000

// Rehearse starts a rehearsal of the files that a job keeps at its targets, as of a time; the zero
// time means now. A seed of 0 means a random one.
func (r *Runner) Rehearse(ctx context.Context, name string, given job.Rehearse, at time.Time, seed int64) (*records.Rehearsal, error) {
	row, err := r.kept(ctx, name)
	if err != nil {
		return nil, err
	}
	if given.All && given.Files > 0 {
		return nil, &InputError{errors.New("a rehearsal restores all files or a choice of them; give one of both")}
	}
	spec := keptSpec(row)
	if seed == 0 {
		seed = rand.Int64N(1<<53-1) + 1
	}
	one := &records.Rehearsal{Job: name, At: at, StartedAt: time.Now(), Seed: seed, Everything: given.All,
		Outcomes: []records.RehearsedFile{}}
	if at.IsZero() {
		one.At = one.StartedAt
	}
	if !r.takeRehearsal(name) {
		return nil, store.Errorf(store.ErrExists, "a rehearsal of %s is running; wait until it has ended", name)
	}
	if err := r.db.SaveRehearsal(ctx, one); err != nil {
		r.giveRehearsal(name)
		return nil, err
	}
	began := *one
	r.group.Go(func() {
		defer r.giveRehearsal(name)
		r.carryOutRehearsal(r.ctx, spec, given, !at.IsZero(), one)
	})
	return &began, nil
}

// takeRehearsal reports whether no rehearsal of a job is running; then one is.
func (r *Runner) takeRehearsal(job string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.rehearsing[job] {
		return false
	}
	if r.rehearsing == nil {
		r.rehearsing = map[string]bool{}
	}
	r.rehearsing[job] = true
	return true
}

func (r *Runner) giveRehearsal(job string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.rehearsing, job)
}

func (r *Runner) carryOutRehearsal(ctx context.Context, spec job.Spec, given job.Rehearse, past bool, one *records.Rehearsal) {
	err := r.rehearseRoutes(ctx, spec, given, past, one)
	if err != nil {
		one.Why = err.Error()
	}
	ended := time.Now()
	one.EndedAt = &ended
	if err := r.db.SaveRehearsal(context.WithoutCancel(ctx), one); err != nil {
		r.log.ErrorContext(ctx, "could not keep a rehearsal", "job", spec.Name, "error", err)
	}
	r.log.InfoContext(ctx, "rehearsed a restore", "job", spec.Name, "files", one.Files, "of", one.OfFiles,
		"failed", one.Failed, "error", one.Why)
}

func (r *Runner) rehearseRoutes(ctx context.Context, spec job.Spec, given job.Rehearse, past bool, one *records.Rehearsal) error {
	for _, route := range spec.Routes {
		from, to, err := addressesOf(route)
		if err != nil {
			return err
		}
		row, opened, err := r.resolve(ctx, from, to)
		if err != nil {
			return err
		}
		target := opened.Target
		if past {
			if target.Store, err = r.asOf(ctx, target.Account, target.Store, one.At); err != nil {
				return err
			}
		}
		scratch, err := newScratch(r.Scratch)
		if err != nil {
			return err
		}
		total, err := rehearsal.Rehearse(ctx, rehearsal.Options{
			Store: target.Store, Folder: target.Root.AsFolder(), Files: given.Choice(), Seed: uint64(one.Seed), Scratch: scratch,
			HashOf: r.recorded(row.Scope),
			Done:   func(outcome rehearsal.Outcome) error { return count(one, target, outcome) },
		})
		one.OfFiles += total.Files
		one.OfBytes += total.Bytes
		if err != nil {
			return err
		}
	}
	return nil
}

// count adds an outcome to a rehearsal.
func count(one *records.Rehearsal, target transfer.Side, outcome rehearsal.Outcome) error {
	one.Files++
	one.Bytes += max(0, outcome.Size)
	shown := records.RehearsedFile{Address: transfer.Route{Target: target}.TargetAddress(transfer.Item{Key: outcome.Key,
		Kind: store.KindFile}, ""),
		Size: outcome.Size, Chosen: outcome.Why, Hash: outcome.Hash}
	switch {
	case outcome.Err != nil:
		one.Failed++
		shown.Why = outcome.Err.Error()
	case outcome.By == "":
		one.BySize++
	}
	if len(one.Outcomes) < mostOutcomes && (outcome.Err != nil || !one.Everything) {
		one.Outcomes = append(one.Outcomes, shown)
	}
	return nil
}

// recorded returns a function that returns the recorded hash of a file at the target of a scope,
// if the file has not changed since a run has written it.
func (r *Runner) recorded(scope string) func(context.Context, store.Key, store.Entry) (string, error) {
	return func(ctx context.Context, key store.Key, entry store.Entry) (string, error) {
		if len(entry.Hashes) > 0 && entry.Hashes.Get(store.BLAKE3) != (store.Hash{}) {
			return entry.Hashes.Get(store.BLAKE3).String(), nil // of a version
		}
		pair, err := r.db.PairTo(ctx, scope, key)
		if pair == nil && err == nil {
			pair, err = r.db.Pair(ctx, scope, key)
		}
		if err != nil || pair == nil || pair.Kept || !isLeft(pair, entry) {
			return "", err
		}
		return cmp.Or(pair.Digest, pair.Verification), nil
	}
}

func isLeft(pair *compare.Pair, entry store.Entry) bool {
	return pair.TargetIs(&entry) || pair.Target.LooksLike(&entry)
}

// scratch keeps restored files in a folder of the service, one at a time.
type scratch struct{ dir string }

func newScratch(in string) (*scratch, error) {
	dir, err := os.MkdirTemp(in, "rehearsal-*")
	return &scratch{dir}, err
}

// Keep implements rehearsal.Scratch.
func (s *scratch) Keep(_ context.Context, content io.Reader) (io.ReadCloser, error) {
	file, err := os.CreateTemp(s.dir, "file-*")
	if err != nil {
		return nil, err
	}
	// Its name goes at once, so that nothing is left whenever the process ends.
	err = os.Remove(file.Name())
	if err == nil {
		_, err = io.Copy(file, content)
	}
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

// Clear implements rehearsal.Scratch.
func (s *scratch) Clear() error { return os.RemoveAll(s.dir) }

// rehearsalsEvery is the interval of the checks whether a rehearsal is due.
const rehearsalsEvery = 10 * time.Minute

// KeepRehearsals begins the rehearsals of jobs when they are due, until ctx ends.
func (r *Runner) KeepRehearsals(ctx context.Context) {
	if err := r.db.EndRehearsals(ctx); err != nil {
		r.log.ErrorContext(ctx, "could not end the rehearsals of an earlier process", "error", err)
	}
	for wait := firstTidy; retry.Sleep(ctx, wait) == nil; wait = rehearsalsEvery {
		jobs, err := r.db.KeptJobs(ctx)
		if err != nil {
			r.log.ErrorContext(ctx, "could not look for rehearsals that are due", "error", err)
			continue
		}
		for _, row := range jobs {
			spec := keptSpec(row)
			due, overdue, err := r.rehearsalDue(ctx, spec, row.CreatedAt)
			if err != nil || due.IsZero() || !overdue || row.Suspended {
				continue
			}
			if _, err := r.Rehearse(ctx, spec.Name, spec.History.Rehearse, time.Time{}, 0); err != nil {
				r.log.WarnContext(ctx, "could not begin a rehearsal", "job", spec.Name, "error", err)
			}
		}
	}
}

// rehearsalDue returns when the next rehearsal of a job is due, zero for never, and whether
// that is over.
func (r *Runner) rehearsalDue(ctx context.Context, spec job.Spec, created time.Time) (due time.Time, overdue bool, err error) {
	last, err := r.db.LastRehearsal(ctx, spec.Name)
	if err != nil {
		return due, false, err
	}
	before := created
	if last != nil {
		before = last.StartedAt
	}
	due, ok := spec.History.Rehearse.Due(before)
	if !ok {
		return time.Time{}, false, nil
	}
	return due, time.Now().After(due), nil
}

// Rehearsals returns the rehearsals of a job, newest first, and when the next is due.
func (r *Runner) Rehearsals(ctx context.Context, name string) (rehearsals []records.Rehearsal, due time.Time, err error) {
	row, err := r.kept(ctx, name)
	if err != nil {
		return nil, due, err
	}
	if rehearsals, err = r.db.Rehearsals(ctx, name); err != nil {
		return nil, due, err
	}
	due, _, err = r.rehearsalDue(ctx, keptSpec(row), row.CreatedAt)
	return rehearsals, due, err
}

// RehearsalWarning is a job whose last rehearsal failed, or whose next is overdue.
type RehearsalWarning struct {
	Job  string
	Last *records.Rehearsal
	Due  time.Time // zero where it is not overdue
}

// overdueAfter is how long after it was due a rehearsal is overdue: it may have to wait.
const overdueAfter = 24 * time.Hour

// RehearsalWarnings returns them, by the names of jobs.
func (r *Runner) RehearsalWarnings(ctx context.Context) (warnings []RehearsalWarning, err error) {
	jobs, err := r.db.KeptJobs(ctx)
	if err != nil {
		return nil, err
	}
	for _, row := range jobs {
		last, err := r.db.LastRehearsal(ctx, row.Name)
		if err != nil {
			return nil, err
		}
		due, _, err := r.rehearsalDue(ctx, keptSpec(row), row.CreatedAt)
		if err != nil {
			return nil, err
		}
		warning := RehearsalWarning{Job: row.Name, Last: last}
		if !due.IsZero() && time.Since(due) > overdueAfter {
			warning.Due = due
		}
		if !warning.Due.IsZero() || last != nil && last.EndedAt != nil && !last.Passed() {
			warnings = append(warnings, warning)
		}
	}
	return warnings, nil
}
