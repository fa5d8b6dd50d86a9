package accounts

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"deftheron/core/store"
	"deftheron/service/records"
)

// SealingTask is work on the keys or the manifests of a sealed account.
type SealingTask struct {
	Kind     string // TaskReseal or TaskRebuild
	Started  time.Time
	Ended    time.Time // zero while it goes on
	Resealed store.Resealed
	Rebuilt  store.Rebuilt
	Err      error

	done chan struct{} // closed at the end
}

// The kinds of tasks.
const (
	TaskReseal  = "reseal"
	TaskRebuild = "rebuild"
)

// sealingTasks are the tasks of accounts, the last one of each, by id.
type sealingTasks struct {
	mu    sync.Mutex
	group sync.WaitGroup
	all   map[string]*SealingTask
	end   context.CancelFunc
	ctx   context.Context
}

// Sealing describes the keys of a sealed account.
type Sealing struct {
	Recipients []string
	// NeedsReseal is set if names are still sealed to earlier recipients.
	NeedsReseal bool
	Task        *SealingTask // the last one; nil where there was none since the service started
}

// sealingOf returns the ability of a sealed account.
func (a *Accounts) sealingOf(ctx context.Context, name string) (records.Account, store.Sealing, error) {
	row, err := a.row(ctx, name)
	if err != nil {
		return row, nil, err
	}
	opened, err := a.Open(ctx, name)
	if err != nil {
		return row, nil, err
	}
	sealing := opened.Store.Capabilities().Sealing
	if sealing == nil {
		return row, nil, store.Errorf(store.ErrUnsupported, "/%s is not a sealed place that can be written to", name)
	}
	return row, sealing, nil
}

// Sealing returns the keys of a sealed account.
func (a *Accounts) Sealing(ctx context.Context, name string) (Sealing, error) {
	row, sealing, err := a.sealingOf(ctx, name)
	if err != nil {
		return Sealing{}, err
	}
	return Sealing{Recipients: sealing.Recipients(), NeedsReseal: sealing.NeedsReseal(), Task: a.sealingTask(row.ID)}, nil
}

// sealingTask is a copy of the last task of an account, by its id.
func (a *Accounts) sealingTask(id string) *SealingTask {
	a.sealing.mu.Lock()
	defer a.sealing.mu.Unlock()
	if task := a.sealing.all[id]; task != nil {
		now := *task
		return &now
	}
	return nil
}

// Reseal seals the entries of a sealed account to its present recipients, in the background:
// the names, and the contents if contents is set.
func (a *Accounts) Reseal(ctx context.Context, name string, contents bool) error {
	return a.startSealing(ctx, name, TaskReseal, func(ctx context.Context, sealing store.Sealing, task *SealingTask) error {
		done, err := sealing.Reseal(ctx, contents, func(sofar store.Resealed) {
			a.sealing.mu.Lock()
			task.Resealed = sofar
			a.sealing.mu.Unlock()
		})
		a.sealing.mu.Lock()
		task.Resealed = done
		a.sealing.mu.Unlock()
		return err
	})
}

// Rebuild makes missing or damaged manifests of a sealed account again, in the
// background.
func (a *Accounts) Rebuild(ctx context.Context, name string) error {
	return a.startSealing(ctx, name, TaskRebuild, func(ctx context.Context, sealing store.Sealing, task *SealingTask) error {
		done, err := sealing.Rebuild(ctx)
		a.sealing.mu.Lock()
		task.Rebuilt = done
		a.sealing.mu.Unlock()
		return err
	})
}

func (a *Accounts) startSealing(ctx context.Context, name, kind string,
	do func(context.Context, store.Sealing, *SealingTask) error) error {
	row, sealing, err := a.sealingOf(ctx, name)
	if err != nil {
		return err
	}
	a.sealing.mu.Lock()
	defer a.sealing.mu.Unlock()
	last := a.sealing.all[row.ID]
	if last != nil && last.Ended.IsZero() && (last.Kind != TaskReseal || kind != TaskReseal) {
		return store.Errorf(store.ErrRefused, "/%s is being worked on (%s); wait until that has ended", name, last.Kind)
	}
	if a.sealing.ctx == nil {
		a.sealing.ctx, a.sealing.end = context.WithCancel(context.Background())
		a.sealing.all = map[string]*SealingTask{}
	}
	task := &SealingTask{Kind: kind, Started: time.Now(), done: make(chan struct{})}
	a.sealing.all[row.ID] = task
	a.sealing.group.Go(func() {
		defer close(task.done)
		if last != nil {
			<-last.done
		}
		err := do(a.sealing.ctx, sealing, task)
		a.sealing.mu.Lock()
		task.Ended, task.Err = time.Now(), err
		a.sealing.mu.Unlock()
		if err != nil {
			a.log.ErrorContext(ctx, "work on a sealed account has failed", "account", name, "work", kind, "error", err)
			return
		}
		a.log.InfoContext(ctx, "work on a sealed account has ended", "account", name, "work", kind)
	})
	return nil
}

// CloseSealed stops the work on sealed accounts, which continues after the next start, and
// writes the changes that they have gathered.
func (a *Accounts) CloseSealed() {
	a.sealing.mu.Lock()
	if a.sealing.end != nil {
		a.sealing.end()
	}
	a.sealing.mu.Unlock()
	a.sealing.group.Wait()
	a.mu.Lock()
	open := slices.Collect(maps.Values(a.open))
	a.mu.Unlock()
	for _, opened := range open {
		if opened.Store.Capabilities().Sealing == nil {
			continue
		}
		if err := store.Close(opened.Store); err != nil {
			a.log.Error("what was gathered for a sealed account could not be written", "account", opened.Name, "error", err)
		}
	}
}

// setRecipients changes whom an account is sealed to, where an edit says so.
func (a *Accounts) setRecipients(ctx context.Context, opened store.Store, before, after records.Account) (changed bool, err error) {
	sealing := opened.Capabilities().Sealing
	if sealing == nil || before.Options[recipientsOption] == after.Options[recipientsOption] {
		return false, nil
	}
	others := strings.FieldsFunc(after.Options[recipientsOption], func(r rune) bool { return r == ',' || r == ' ' })
	return true, sealing.SetRecipients(ctx, others)
}

// recipientsOption is the option of a provider that names the recipients of a sealed place.
const recipientsOption = "recipients"

// goOnSealing goes on with sealing the names of an account, where a process ended in it.
func (a *Accounts) goOnSealing(ctx context.Context, name string, opened store.Store) {
	if sealing := opened.Capabilities().Sealing; sealing != nil && sealing.NeedsReseal() {
		if err := a.Reseal(ctx, name, false); err != nil {
			a.log.WarnContext(ctx, "could not go on with sealing an account", "account", name, "error", err)
		}
	}
}
