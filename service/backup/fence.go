package backup

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"strconv"
	"strings"
	"sync"
	"time"

	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/records"
)

// Fence keeps two services from working with copies of the same records. Each restore makes
// a new generation of a service. It leaves its number in a file at every account that it can
// write to, and a service that finds a higher one ends.
type Fence struct {
	DB       *records.DB
	Tree     *tree.Tree
	Instance string // the id that all generations have
	Log      *slog.Logger
	// TakeOver has this service be the newest generation.
	TakeOver bool

	mu         sync.Mutex
	generation int64
	known      bool
}

// claim is the file of a generation.
type claim struct {
	Generation int64     `json:"generation"`
	Since      time.Time `json:"since"`
}

const (
	// fenceEvery is how often it is looked for other generations.
	fenceEvery = 5 * time.Minute
	// firstLook is how long a start waits for it.
	firstLook = 10 * time.Second
	// oneLook is how long one account is asked.
	oneLook = time.Minute
	// looksAtOnce is how many accounts are asked at once.
	looksAtOnce = 8
)

// errSuperseded says that another generation works with the same accounts.
var errSuperseded = remedy.Errorf("another service that was restored from a backup of this one works with its accounts, and " +
	"this one does not run beside it; remove this data folder, or, if the other is gone for good, start with heron serve --take-over")

// First looks for other generations before anything is run. Accounts that do not answer in
// time are looked at later.
func (f *Fence) First(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, firstLook)
	defer cancel()
	return f.look(ctx)
}

// Watch looks for other generations until the context ends, and sends the reason why the
// service has to end.
func (f *Fence) Watch(ctx context.Context) <-chan error {
	superseded := make(chan error, 1)
	go func() {
		ticker := time.NewTicker(fenceEvery)
		defer ticker.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-ticker.C:
			}
			if err := f.look(ctx); err != nil {
				superseded <- err
				return
			}
		}
	}()
	return superseded
}

// own returns the generation of this service; 0 if it was never restored.
func (f *Fence) own(ctx context.Context) (int64, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.known {
		return f.generation, nil
	}
	text, err := f.DB.Meta(ctx, records.MetaGeneration)
	if err == nil && text != "" {
		f.generation, err = strconv.ParseInt(text, 10, 64)
	}
	f.known = err == nil
	return f.generation, err
}

// raise makes this service newer than a generation.
func (f *Fence) raise(ctx context.Context, above int64) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.generation = max(f.generation, above+1)
	return f.DB.SetMeta(ctx, records.MetaGeneration, strconv.FormatInt(f.generation, 10))
}

// look reads what lies at the accounts, and leaves its own where that is older. An error is
// errSuperseded.
func (f *Fence) look(ctx context.Context) error {
	rows, err := f.DB.Accounts(ctx)
	if err != nil {
		f.Log.ErrorContext(ctx, "the accounts could not be read", "error", err)
		return nil
	}
	if _, err := f.own(ctx); err != nil {
		f.Log.ErrorContext(ctx, "the generation of the service could not be read", "error", err)
		return nil
	}
	turns := make(chan struct{}, looksAtOnce)
	var group sync.WaitGroup
	var mu sync.Mutex
	highest := int64(0)
	for _, row := range rows {
		if row.Suspended || row.ReadOnly {
			continue
		}
		group.Go(func() {
			turns <- struct{}{}
			defer func() { <-turns }()
			found, err := f.lookAt(ctx, row.Name)
			if err != nil {
				f.Log.DebugContext(ctx, "it could not be looked whether another service works with an account", "account", row.Name, "error", err)
			}
			mu.Lock()
			highest = max(highest, found)
			mu.Unlock()
		})
	}
	group.Wait()
	own, _ := f.own(ctx)
	if highest <= own {
		return nil
	}
	if !f.TakeOver {
		return errSuperseded
	}
	f.TakeOver = false
	if err := f.raise(ctx, highest); err != nil {
		f.Log.ErrorContext(ctx, "the generation of the service could not be kept", "error", err)
		return nil
	}
	return f.look(ctx)
}

// lookAt returns the generation that lies at an account, and leaves the own one if it is newer.
func (f *Fence) lookAt(ctx context.Context, name string) (found int64, err error) {
	ctx, cancel := context.WithTimeout(ctx, oneLook)
	defer cancel()
	account, err := f.Tree.Accounts.Open(ctx, name)
	if err != nil {
		return 0, err
	}
	place := store.At(store.OwnFolder, "service-"+f.Instance).As(store.KindFile)
	body, err := account.Store.Open(ctx, store.Reading{Place: place})
	if err != nil && store.KindOf(err) != store.ErrNotFound {
		return 0, err
	}
	if err == nil {
		text, failed := io.ReadAll(io.LimitReader(body, 1000))
		var there claim
		if err := errors.Join(failed, body.Close(), json.Unmarshal(text, &there)); err != nil {
			return 0, err
		}
		found = there.Generation
	}
	own, err := f.own(ctx)
	if err != nil || found >= own {
		return found, err
	}
	return found, leave(ctx, account.Store, place, claim{own, time.Now().UTC()})
}

func leave(ctx context.Context, s store.Store, place store.Ref, mine claim) error {
	text, err := json.Marshal(mine)
	if err != nil {
		return err
	}
	if _, err := s.MakeFolder(ctx, store.MakePath(store.OwnFolder).Ref()); err != nil {
		return err
	}
	_, err = s.Write(ctx, store.Writing{Place: place, Size: int64(len(text)), If: store.Any, Content: content(text)})
	if err == nil {
		err = store.Sync(ctx, s)
	}
	return err
}

// content is a short text.
type content string

// Open implements store.Content.
func (c content) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(io.NopCloser(strings.NewReader(string(c))), store.CRC64NVME, nil), nil
}
