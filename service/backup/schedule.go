package backup

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sync"
	"time"

	"deftheron/core/files"
	"deftheron/core/remedy"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/tree"
)

// metaSchedule is the name under which the schedule is kept.
const metaSchedule = "backup schedule"

const (
	// lookEvery is how often it is looked whether a backup is due.
	lookEvery = 30 * time.Second
	// againAfter is when a backup that failed is tried again.
	againAfter = 10 * time.Minute
	// ShortestEvery is how often backups can be made at most.
	ShortestEvery = time.Hour
	// MostKept is how many backups can be kept.
	MostKept = 1000
)

// Schedule says where backups are written by themselves, and what came of the last.
type Schedule struct {
	Folder     string        `json:"folder"` // its address
	Recipients []string      `json:"recipients"`
	Every      time.Duration `json:"every"`
	Keep       int           `json:"keep"` // how many stay
	Last       time.Time     `json:"last,omitzero"`
	LastName   string        `json:"last_name,omitempty"`
	LastSize   int64         `json:"last_size,omitempty"`
	Tried      time.Time     `json:"tried,omitzero"`
	Failed     string        `json:"failed,omitempty"` // why the last try failed
}

// Overdue reports whether no backup was made for twice as long as the schedule says.
func (s *Schedule) Overdue(now time.Time) bool {
	return s.Failed != "" || !s.Last.IsZero() && now.Sub(s.Last) > 2*s.Every
}

// Scheduler makes backups by a schedule.
type Scheduler struct {
	Source   Source
	Tree     *tree.Tree
	Instance string
	Log      *slog.Logger
	// Track names what is written, so that what a process that dies leaves behind is found.
	Track func(ctx context.Context, address store.Address) (run string, ended func(), err error)
	// Changed, if not nil, is called with the folder to which a backup was written.
	Changed func(folder store.Address)

	mu sync.Mutex // one backup at a time
}

// Schedule returns the schedule, nil if there is none.
func (s *Scheduler) Schedule(ctx context.Context) (*Schedule, error) {
	text, err := s.Source.DB.Meta(ctx, metaSchedule)
	if err != nil || text == "" {
		return nil, err
	}
	var schedule Schedule
	return &schedule, json.Unmarshal([]byte(text), &schedule)
}

// Set changes the schedule, or ends it with nil. A new one makes a backup at once, so that
// what is wrong with it shows.
func (s *Scheduler) Set(ctx context.Context, schedule *Schedule) error {
	if schedule == nil {
		return s.Source.DB.SetMeta(ctx, metaSchedule, "")
	}
	if _, err := Recipients(schedule.Recipients, ""); err != nil {
		return err
	}
	switch {
	case schedule.Every < ShortestEvery:
		return remedy.Errorf("backups every %v are too many; the shortest is every hour", schedule.Every)
	case schedule.Keep < 1 || schedule.Keep > MostKept:
		return remedy.Errorf("%d backups cannot be kept; keep 1 to %d", schedule.Keep, MostKept)
	}
	if _, err := s.folder(ctx, schedule.Folder); err != nil {
		return err
	}
	return s.save(ctx, *schedule)
}

func (s *Scheduler) save(ctx context.Context, schedule Schedule) error {
	text, err := json.Marshal(schedule)
	if err != nil {
		return err
	}
	return s.Source.DB.SetMeta(ctx, metaSchedule, string(text))
}

// folder finds the folder of a schedule.
func (s *Scheduler) folder(ctx context.Context, text string) (tree.Located, error) {
	address, err := store.ParseAddress(text)
	if err != nil {
		return tree.Located{}, err
	}
	located, err := s.Tree.Locate(ctx, address)
	if err != nil {
		return located, err
	}
	if located.Store.Traits().ReadOnly {
		return located, store.Errorf(store.ErrRefused, "/%s is linked to be read only; name a folder that can be written to", located.Name)
	}
	entry, err := located.Store.Stat(ctx, located.Place.As(store.KindFolder))
	if err == nil && entry.Kind != store.KindFolder {
		err = store.Errorf(store.ErrExists, "%s is not a folder", address)
	}
	if store.KindOf(err) == store.ErrNotFound {
		err = store.Errorf(store.ErrNotFound, "the folder %s does not exist; make it first", address)
	}
	return located, err
}

// Run makes backups when they are due, until the context ends.
func (s *Scheduler) Run(ctx context.Context) {
	for ctx.Err() == nil {
		schedule, err := s.Schedule(ctx)
		if err != nil {
			s.Log.ErrorContext(ctx, "the schedule of backups could not be read", "error", err)
		}
		if err == nil && schedule != nil && s.due(schedule, time.Now()) {
			s.Make(ctx, *schedule)
		}
		_ = retry.Sleep(ctx, lookEvery)
	}
}

func (s *Scheduler) due(schedule *Schedule, now time.Time) bool {
	if schedule.Failed != "" {
		return now.Sub(schedule.Tried) >= againAfter
	}
	return now.Sub(schedule.Last) >= schedule.Every
}

// Make makes a backup by a schedule now, and keeps what came of it.
func (s *Scheduler) Make(ctx context.Context, schedule Schedule) {
	s.mu.Lock()
	defer s.mu.Unlock()
	now := time.Now().UTC()
	schedule.Tried = now
	name, size, err := s.write(ctx, schedule, now)
	if ctx.Err() != nil {
		return
	}
	if err != nil {
		schedule.Failed = err.Error()
		s.Log.ErrorContext(ctx, "a backup could not be made", "folder", schedule.Folder, "error", err)
	} else {
		schedule.Failed, schedule.Last, schedule.LastName, schedule.LastSize = "", now, name, size
		s.Log.InfoContext(ctx, "a backup was made", "folder", schedule.Folder, "name", name, "bytes", size)
	}
	still, err := s.Schedule(ctx)
	if err != nil || still == nil || still.Folder != schedule.Folder {
		return // it was changed meanwhile
	}
	if err := s.save(ctx, schedule); err != nil {
		s.Log.ErrorContext(ctx, "it could not be kept that a backup was made", "error", err)
	}
}

// nameOf is the name of a backup of an instance.
func nameOf(instance string, at time.Time) string {
	return "heron-" + instance + "-" + at.Format("20060102-150405") + ".tar.age"
}

// write makes a backup in the folder of a schedule, and removes those that are not kept.
func (s *Scheduler) write(ctx context.Context, schedule Schedule, now time.Time) (name string, size int64, err error) {
	recipients, err := Recipients(schedule.Recipients, "")
	if err != nil {
		return "", 0, err
	}
	located, err := s.folder(ctx, schedule.Folder)
	if err != nil {
		return "", 0, err
	}
	spool, err := os.CreateTemp(s.Source.Scratch, "backup-*.tar.age")
	if err != nil {
		return "", 0, err
	}
	defer func() { _ = errors.Join(spool.Close(), os.Remove(spool.Name())) }()
	if _, err := Create(ctx, s.Source, spool, recipients); err != nil {
		return "", 0, err
	}
	if size, err = spool.Seek(0, 1); err == nil {
		_, err = spool.Seek(0, 0)
	}
	if err != nil {
		return "", 0, err
	}
	name = nameOf(s.Instance, now)
	run, ended, err := s.Track(ctx, located.Address.Child(name))
	if err != nil {
		return "", 0, err
	}
	defer ended()
	_, err = files.Write(ctx, located.Store, files.Putting{Place: located.Place.AsFolder().Ref(name).As(store.KindFile), Size: size,
		If: store.Absent, Body: spool, Run: run, Scratch: filepath.Dir(spool.Name())})
	if err == nil {
		err = store.Sync(ctx, located.Store)
	}
	if err != nil {
		return "", 0, err
	}
	if s.Changed != nil {
		s.Changed(located.Address)
	}
	return name, size, s.thin(ctx, located, schedule.Keep)
}

// thin removes the oldest backups of this instance in a folder, and touches nothing else.
func (s *Scheduler) thin(ctx context.Context, located tree.Located, keep int) error {
	mine := regexp.MustCompile(`^heron-` + regexp.QuoteMeta(s.Instance) + `-\d{8}-\d{6}\.tar\.age$`)
	folder := located.Place.AsFolder()
	var names []string
	revisions := map[string]string{}
	for entry, err := range located.Store.List(ctx, folder) {
		if err != nil {
			return err
		}
		if entry.Kind == store.KindFile && mine.MatchString(entry.Name) {
			names, revisions[entry.Name] = append(names, entry.Name), entry.Revision
		}
	}
	slices.Sort(names)
	for _, name := range names[:max(0, len(names)-keep)] {
		if _, err := located.Store.Remove(ctx, folder.Ref(name).As(store.KindFile), revisions[name]); err != nil {
			return err
		}
	}
	return nil
}
