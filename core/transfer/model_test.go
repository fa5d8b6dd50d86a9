package transfer_test

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/core/plan"
	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/transfer"
)

var (
	sequences = flag.Int("sequences", 1500, "how many random sequences of operations two sides are kept in sync over")
	firstSeed = flag.Uint64("seed", 0, "of the first of them")
	lasting   = flag.Duration("lasting", 0, "go on with further ones for so long")
)

// side is one side of the model: what people do there.
type side struct {
	*storetest.Account
	name   string
	random *rand.Rand
	writes *int
	// removed are contents that somebody has removed, or overwritten, here or
	// there; written are all.
	removed, written map[string]bool
}

// everything below the folder that is kept in sync, by its steps.
func (s *side) everything() (files map[string]string, folders []string) {
	files = map[string]string{}
	for address, content := range s.Files() {
		if below, ok := strings.CutPrefix(address, "/in/"); ok {
			files[below] = content
		}
	}
	var walk func(folder store.Folder, below string)
	walk = func(folder store.Folder, below string) {
		for entry, err := range s.Memory.List(s.context(), folder) {
			if err == nil && entry.Kind == store.KindFolder {
				folders = append(folders, below+entry.Name)
				walk(entry.Folder(folder), below+entry.Name+"/")
			}
		}
	}
	walk(store.At("in").AsFolder(), "")
	return files, folders
}

func (s *side) context() context.Context { return context.Background() }

// Folders have no names that differ from a file's by letter case alone: of those,
// one is in the way of the other where letter case does not count, and stays so.
var (
	folderNames = []string{"b", "c.", "d:e", "f.txt"}
	fileNames   = append([]string{"a", "A", "ü.txt", "u%CC"}, folderNames...)
)

func (s *side) pick(from []string) (string, bool) {
	if len(from) == 0 {
		return "", false
	}
	slices.Sort(from)
	return from[s.random.IntN(len(from))], true
}

func (s *side) newName(names, folders []string) string {
	name := names[s.random.IntN(len(names))]
	if folder, ok := s.pick(append(folders, "")); ok && folder != "" {
		return folder + "/" + name
	}
	return name
}

func place(path string) store.Ref {
	return store.At(append([]string{"in"}, strings.Split(path, "/")...)...)
}

func (s *side) free(path string, kind store.Kind) bool {
	target := place(path).As(kind)
	if err := s.allowed(target); err != nil {
		return false
	}
	_, err := store.Occupant(s.context(), s.Account, target)
	return err != nil
}

func (s *side) allowed(target store.Ref) error {
	traits := s.Traits()
	return traits.NameError(target.Folder.Path, target.Name)
}

func (s *side) content() string {
	*s.writes++
	content := fmt.Sprint("content ", *s.writes)
	if s.random.IntN(3) == 0 {
		content = content[:len(content)-1] + strings.Repeat("x", s.random.IntN(4)) // some have one size, or are the same
	}
	if s.written[content] {
		content = fmt.Sprint("content ", *s.writes, " ")
	}
	s.written[content] = true
	return content
}

// operate does one thing that people do, and returns it in words.
func (s *side) operate() string {
	files, folders := s.everything()
	names := slices.Collect(maps.Keys(files))
	put := func(path, content string) { s.Put(content, append([]string{"in"}, strings.Split(path, "/")...)...) }
	remove := func(path string) {
		s.removed[files[path]] = true
		s.Remove(s.context(), place(path), "")
	}
	rename := func(from, to string) { s.Rename(place(from), place(to)) }
	inside := func(folder string) (in []string) {
		for _, name := range names {
			if strings.HasPrefix(name, folder+"/") {
				in = append(in, name)
			}
		}
		return in
	}
	removeFolder := func(folder string) {
		for _, name := range inside(folder) {
			remove(name)
		}
		slices.Sort(folders)
		for _, one := range slices.Backward(folders) {
			if one == folder || strings.HasPrefix(one, folder+"/") {
				s.RemoveFolder(s.context(), place(one))
			}
		}
	}
	switch s.random.IntN(12) {
	case 0, 1, 2:
		if path := s.newName(fileNames, folders); s.free(path, store.KindFile) {
			content := s.content()
			put(path, content)
			return fmt.Sprintf("create %s %q", path, content)
		}
	case 3, 4:
		if path, ok := s.pick(names); ok {
			s.removed[files[path]] = true
			content := s.content()
			put(path, content)
			return fmt.Sprintf("change %s %q", path, content)
		}
	case 5:
		if path, ok := s.pick(names); ok {
			remove(path)
			return "remove " + path
		}
	case 6:
		if path, ok := s.pick(names); ok {
			if to := s.newName(fileNames, folders); s.free(to, store.KindFile) {
				rename(path, to)
				return "rename " + path + " to " + to
			}
		}
	case 7:
		if path := s.newName(folderNames, folders); s.free(path, store.KindFolder) {
			s.Folder(append([]string{"in"}, strings.Split(path, "/")...)...)
			return "folder " + path
		}
	case 8:
		if folder, ok := s.pick(folders); ok {
			if s.random.IntN(2) == 0 {
				removeFolder(folder)
				return "remove folder " + folder
			}
			if to := s.newName(folderNames, nil); s.free(to, store.KindFolder) && !strings.HasPrefix(to+"/", folder+"/") {
				for _, name := range inside(folder) {
					rename(name, to+strings.TrimPrefix(name, folder))
				}
				s.Folder(append([]string{"in"}, strings.Split(to, "/")...)...)
				names = nil
				removeFolder(folder)
				return "rename folder " + folder + " to " + to
			}
		}
	case 9:
		if path, ok := s.pick(names); ok && s.random.IntN(2) == 0 && !caseTwin(path) {
			remove(path)
			s.Folder(append([]string{"in"}, strings.Split(path, "/")...)...)
			if inside, there := files[path+"/in it"]; there { // in the folder beside the file
				s.removed[inside] = true
			}
			content := s.content()
			put(path+"/in it", content)
			return fmt.Sprintf("put a folder, with %q, in place of %s", content, path)
		}
		if folder, ok := s.pick(folders); ok {
			removeFolder(folder)
			if file, there := files[folder]; there { // it had the name as well
				s.removed[file] = true
			}
			content := s.content()
			put(folder, content)
			return fmt.Sprintf("put a file, %q, in place of %s", content, folder)
		}
	case 10: // an archive fixes times, and a program puts them back
		if path, ok := s.pick(names); ok {
			entry, err := s.Stat(s.context(), place(path).As(store.KindFile))
			if err != nil || len(files[path]) < 4 {
				return ""
			}
			*s.writes++
			content := fmt.Sprintf("%0*d", len(files[path]), *s.writes)
			s.removed[files[path]], s.written[content] = true, true
			s.PutAt(content, entry.Modified, append([]string{"in"}, strings.Split(path, "/")...)...)
			return fmt.Sprintf("rewrite %s with %q, its size and its time", path, content)
		}
	case 11:
		if path, ok := s.pick(names); ok {
			entry, err := s.Stat(s.context(), place(path).As(store.KindFile))
			if err != nil {
				return ""
			}
			s.PutAt(files[path], entry.Modified, append([]string{"in"}, strings.Split(path, "/")...)...)
			return "touch the metadata of " + path
		}
	}
	return ""
}

// model is two sides that are kept in sync, while people work at both.
type model struct {
	t       *testing.T
	sides   [2]*side
	records *memory
	mu      sync.Mutex
	log     []string
	runs    int
	random  *rand.Rand
	beside  bool // a file and a folder may have one name
}

func newModel(t *testing.T, seed uint64) *model {
	random := rand.New(rand.NewPCG(seed, 7))
	writes := 0
	removed, written := map[string]bool{}, map[string]bool{}
	m := &model{t: t, records: newMemory(), random: random, beside: random.IntN(4) == 0}
	for i := range m.sides {
		account := &storetest.Account{Memory: storetest.NewMemory(), Moves: random.IntN(2) == 0, Copies: random.IntN(2) == 0}
		account.NoHashes = random.IntN(4) == 0
		if i == 1 {
			account.Fold = random.IntN(3) > 0 && !m.beside
		}
		account.Inodes = account.NoHashes && random.IntN(2) == 0
		account.SetTraits(func(traits *store.Traits) {
			traits.FileBesideFolder = m.beside
			if account.Inodes {
				traits.Revisions = store.RevisionsOfClock
			}
		})
		account.SetClock(time.Date(2026, 3, 1+i, 12, 0, 0, 0, time.UTC))
		account.Folder("in")
		m.sides[i] = &side{Account: account, random: random, writes: &writes, removed: removed, written: written}
	}
	return m
}

func (m *model) run() transfer.Result {
	m.runs++
	m.records.restart()
	end := func(account string, s *side) transfer.Side {
		return transfer.Side{Account: account, Address: store.MakeAddress(account, store.At("in")), Store: s.Account, Root: store.At("in")}
	}
	options := transfer.Options{
		ID: fmt.Sprint("model", m.runs), Records: m.records, Lanes: 4, Retry: retry.Policy{First: 1},
		Began:  time.Date(2026, 5, 1, 0, 0, m.runs, 0, time.UTC),
		Routes: []transfer.Route{{Source: end("sedge", m.sides[0]), Target: end("alder", m.sides[1]), Scope: "both"}},
		Log:    m.logger(),
		Rules:  plan.Rules{Type: plan.TwoWay, Conflict: plan.KeepBoth},
	}
	if m.random.IntN(12) == 0 { // what is remembered is of another place
		_ = m.records.SetEpoch(m.t.Context(), "both", transfer.Epoch{Place: "elsewhere"})
		m.log = append(m.log, "the pairs are not to be trusted")
	}
	for range m.random.IntN(5) - 2 { // the process ends in the middle
		ctx, end := context.WithCancel(m.t.Context())
		mortal := options
		mortal.Records = &mortalRecords{memory: m.records, end: end, left: m.random.IntN(12)}
		result := transfer.New(mortal).Execute(ctx)
		m.log = append(m.log, fmt.Sprintf("run, ended by a restart: %q", result.State))
		end()
		if result.State != "" {
			break
		}
		options.Resumed = true
	}
	run := transfer.New(options)
	result := run.Execute(m.t.Context())
	m.log = append(m.log, fmt.Sprintf("run: %s %s %+v", result.State, result.Why, run.Snapshot().Failed))
	for _, item := range m.records.items {
		m.log = append(m.log, fmt.Sprintf("    %s back=%v %q to %q: %s %s %s %s", item.Action, item.Route, item.Key, item.To, item.State,
			item.Cause, item.Why, m.records.ends[item.Seq].Name))
	}
	return result
}

// mortalRecords end the process after so many writes.
type mortalRecords struct {
	*memory
	end  context.CancelFunc
	left int
	mu   sync.Mutex
}

func (r *mortalRecords) write() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.left--; r.left < 0 {
		r.end()
	}
}

func (r *mortalRecords) Enqueue(ctx context.Context, run string, items []transfer.Item) error {
	defer r.write()
	return r.memory.Enqueue(ctx, run, items)
}

func (r *mortalRecords) Finish(ctx context.Context, run string, scopes []string, endings []transfer.Ending) error {
	defer r.write()
	return r.memory.Finish(ctx, run, scopes, endings)
}

func (r *mortalRecords) Judge(ctx context.Context, run string, seq int64, lost []transfer.Loss, planned *plan.Totals) error {
	defer r.write()
	return r.memory.Judge(ctx, run, seq, lost, planned)
}

// logger adds what a run says to the log.
func (m *model) logger() *slog.Logger {
	return slog.New(slog.NewTextHandler(logOf{m}, &slog.HandlerOptions{Level: slog.LevelDebug}))
}

type logOf struct{ *model }

func (l logOf) Write(line []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.log = append(l.log, "      "+strings.TrimSpace(string(line)))
	return len(line), nil
}

func (m *model) fail(format string, args ...any) {
	m.t.Helper()
	m.t.Fatalf(format+"\n%s", append(args, strings.Join(m.log, "\n"))...)
}

// settled runs until nothing more is done, and looks at what has become of all.
func (m *model) settled() {
	m.t.Helper()
	for n := 0; ; n++ {
		result := m.run()
		if result.State == "done" && len(m.records.items) == 0 {
			break
		}
		if n == 8 {
			m.fail("it does not settle: %+v", result)
		}
	}
	sides := [2]map[string]string{}
	all := [2][]string{}
	for i, s := range m.sides {
		sides[i], _ = s.everything()
		all[i] = slices.Sorted(maps.Values(sides[i]))
	}
	if !slices.Equal(all[0], all[1]) {
		m.fail("the sides hold other contents:\n%q\n%q", sides[0], sides[1])
	}
	for content := range m.sides[0].written {
		if !m.sides[0].removed[content] && !slices.Contains(all[0], content) {
			m.fail("%q is lost:\n%q\n%q", content, sides[0], sides[1])
		}
	}
	for _, pair := range m.records.pairs["both"] {
		if strings.HasSuffix(string(pair.Key), "/") {
			continue
		}
		source, target := sides[0][string(pair.Key)], ""
		for path, content := range sides[1] {
			if at := string(pair.At()); path == at || m.sides[1].Fold && fold(path) == fold(at) {
				target = content
			}
		}
		if source != target || source == "" {
			m.fail("%q holds %q, and %q %q:\n%q\n%q", pair.Key, source, pair.At(), target, sides[0], sides[1])
		}
	}
}

func fold(name string) string { return strings.ToLower(name) }

// sequence is one random sequence of operations on both sides, with runs between.
func sequence(t *testing.T, seed uint64) {
	m := newModel(t, seed)
	m.log = append(m.log, fmt.Sprintf("seed %d; sedge %+v; alder folds %v, moves %v, copies %v", seed, m.sides[0].Moves, m.sides[1].Fold,
		m.sides[1].Moves, m.sides[1].Copies))
	for range 1 + m.sides[0].random.IntN(5) {
		for range m.sides[0].random.IntN(8) {
			i := m.sides[0].random.IntN(2)
			if done := m.sides[i].operate(); done != "" {
				m.log = append(m.log, []string{"sedge: ", "alder: "}[i]+done)
			}
		}
		m.run()
	}
	m.settled()
}

// TestTwoSidesStayInStep does at random what people do at two sides, with runs in
// between: both sides come to hold the same, and every content that was ever written
// is there, or was removed, or overwritten, by somebody.
func TestTwoSidesStayInStep(t *testing.T) {
	begun, most := time.Now(), *sequences
	if testing.Short() {
		most = min(most, 300)
	}
	for seed := *firstSeed; seed < *firstSeed+uint64(most) || time.Since(begun) < *lasting; seed++ {
		sequence(t, seed)
	}
}

// caseTwin reports whether a file may have a twin by letter case.
func caseTwin(path string) bool {
	name := fold(path[strings.LastIndexByte(path, '/')+1:])
	return name == "a" || strings.Contains(name, "%61") || strings.Contains(name, "%41")
}
