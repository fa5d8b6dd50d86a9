package index_test

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/core/query"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/core/tree"
	"deftheron/service/index"
)

// linked are accounts in memory.
type linked struct {
	mu     sync.Mutex
	stores map[string]store.Store
	index  []index.Account
}

func (l *linked) Names(context.Context) (names []string, err error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for name := range l.stores {
		names = append(names, name)
	}
	slices.Sort(names)
	return names, nil
}

func (l *linked) Open(_ context.Context, name string) (tree.Account, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if s := l.stores[name]; s != nil {
		return tree.Account{Name: name, Store: s}, nil
	}
	return tree.Account{}, store.Errorf(store.ErrNotFound, "no account %s", name)
}

func (l *linked) accounts(context.Context) ([]index.Account, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.index), nil
}

// plainReader reads text as it is.
type plainReader struct{}

func (plainReader) Text(ctx context.Context, name string, _ int64, open func(context.Context) (io.ReadCloser, error)) (string, string,
	error) {
	body, err := open(ctx)
	if err != nil {
		return "", "", err
	}
	defer body.Close()
	text, err := io.ReadAll(body)
	if strings.Contains(string(text), "locked") {
		return "", "the file is encrypted", nil
	}
	return string(text), "", err
}

// bench is an index of two accounts.
type bench struct {
	t       *testing.T
	dir     string
	linked  *linked
	index   *index.Index
	desk    *storetest.Memory
	archive *storetest.Memory
	end     func()
}

func newBench(t *testing.T) *bench {
	t.Helper()
	b := &bench{t: t, dir: t.TempDir(), desk: storetest.NewMemory(), archive: storetest.NewMemory()}
	b.linked = &linked{stores: map[string]store.Store{"desk": b.desk, "archive": b.archive},
		index: []index.Account{{Link: "1", Name: "desk", Contents: true}, {Link: "2", Name: "archive"}}}
	b.start()
	t.Cleanup(func() { b.end() })
	return b
}

func (b *bench) start() {
	b.t.Helper()
	x, err := index.Open(context.Background(), index.Options{Dir: b.dir, Tree: &tree.Tree{Accounts: b.linked}, Reader: plainReader{},
		Accounts: b.linked.accounts, Sweep: time.Hour, Space: 1 << 30, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		b.t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { x.Run(ctx) })
	b.index = x
	b.end = sync.OnceFunc(func() {
		cancel()
		running.Wait()
		x.Close()
	})
}

func (b *bench) write(s store.Store, path, data string) {
	b.t.Helper()
	at, names := store.Path(""), strings.Split(path, "/")
	for _, name := range names[:len(names)-1] {
		if _, err := s.MakeFolder(b.t.Context(), store.Folder{Path: at}.Ref(name).As(store.KindFolder)); err != nil {
			b.t.Fatal(err)
		}
		at = at.Child(name)
	}
	if _, err := s.Write(b.t.Context(), store.Writing{Place: store.Folder{Path: at}.Ref(names[len(names)-1]).As(store.KindFile),
		Content: storetest.Text(data), Size: int64(len(data)), If: store.Any}); err != nil {
		b.t.Fatal(err)
	}
}

func (b *bench) remove(s store.Store, path string) {
	b.t.Helper()
	if _, err := s.Remove(b.t.Context(), store.At(strings.Split(path, "/")...).As(store.KindFile), ""); err != nil {
		b.t.Fatal(err)
	}
}

func address(t *testing.T, text string) store.Address {
	t.Helper()
	parsed, err := store.ParseAddress(text)
	if err != nil {
		t.Fatal(err)
	}
	return parsed
}

// find returns the addresses that a query finds, page by page.
func (b *bench) find(ctx context.Context, text string, change func(*index.Asked)) (found []string) {
	b.t.Helper()
	parsed, err := query.Parse(text)
	if err != nil {
		b.t.Fatal(err)
	}
	asked := index.Asked{Query: parsed, Larger: -1, Smaller: -1, Most: 3}
	if change != nil {
		change(&asked)
	}
	for {
		results, err := b.index.Search(ctx, asked)
		if err != nil || results.Cut {
			b.t.Fatal(err, results.Cut)
		}
		for _, hit := range results.Hits {
			found = append(found, hit.Address.String())
		}
		if results.Next == nil {
			slices.Sort(found)
			return found
		}
		asked.After = *results.Next
	}
}

// finds waits until a query finds what it is to find.
func (b *bench) finds(text string, want ...string) {
	b.t.Helper()
	slices.Sort(want)
	for deadline := time.Now().Add(20 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		found := b.find(b.t.Context(), text, nil)
		if slices.Equal(found, want) {
			return
		}
		if time.Now().After(deadline) {
			states, _ := b.index.States(b.t.Context())
			b.t.Fatalf("%s finds %q, want %q (%v)", text, found, want, states)
		}
	}
}

// TestSearch finds files by their names, parts of them and their text, with filters; and
// follows what is added, changed, removed, moved, unlinked.
func TestSearch(t *testing.T) {
	b := newBench(t)
	b.write(b.desk, "Permits/Withy Weir permit.txt", "The river board grants a fish pass at Withy.")
	b.write(b.desk, "Permits/2025/old.md", "An older permit for the río Tólle.")
	b.write(b.desk, "plan.csv", "weir;height\nWithy;2")
	b.write(b.desk, "secret.txt", "locked")
	b.write(b.archive, "reports/Weir report.pdf", "permit")
	b.index.TouchedBelow(address(t, "/desk"))
	b.index.TouchedBelow(address(t, "/archive"))
	b.finds("permit", "/desk/Permits/Withy Weir permit.txt", "/desk/Permits/2025/old.md", "/desk/Permits")
	b.finds("permit AND weir", "/desk/Permits/Withy Weir permit.txt")
	b.finds("weir NOT withy", "/archive/reports/Weir report.pdf")
	b.finds("tolle", "/desk/Permits/2025/old.md")
	b.finds(`"fish pass"`, "/desk/Permits/Withy Weir permit.txt")
	b.finds("ERMI", "/desk/Permits", "/desk/Permits/Withy Weir permit.txt")
	b.finds("wei*", "/desk/Permits/Withy Weir permit.txt", "/archive/reports/Weir report.pdf", "/desk/plan.csv")
	if found := b.find(t.Context(), "weir", func(a *index.Asked) { a.Types = []string{"csv"} }); !slices.Equal(found,
		[]string{"/desk/plan.csv"}) {
		t.Errorf("of a type: %q", found)
	}
	if found := b.find(t.Context(), "weir", func(a *index.Asked) { a.In = []store.Address{address(t, "/archive")} }); len(found) != 1 {
		t.Errorf("in an account: %q", found)
	}
	if found := b.find(t.Context(), "weir", func(a *index.Asked) { a.Smaller = 10 }); len(found) != 1 {
		t.Errorf("small ones: %q", found)
	}
	if found := b.find(t.Context(), "weir", func(a *index.Asked) { a.Newer = time.Now().Add(time.Hour) }); len(found) != 0 {
		t.Errorf("of the future: %q", found)
	}
	hidden := tree.WithScope(t.Context(), only("/desk/Permits/2025"))
	if found := b.find(hidden, "permit", nil); !slices.Equal(found, []string{"/desk/Permits/2025/old.md"}) {
		t.Errorf("with a grant: %q", found)
	}
	unread, _, err := b.index.Unreads(t.Context(), "desk", 0, 10)
	if err != nil || len(unread) != 1 || unread[0].Why != "the file is encrypted" {
		t.Errorf("what could not be read: %v, %v", unread, err)
	}

	b.write(b.desk, "plan.csv", "pass;height\nTolle;3")
	b.remove(b.desk, "Permits/2025/old.md")
	b.index.Touched(address(t, "/desk"))
	b.index.Touched(address(t, "/desk/Permits/2025"))
	b.finds("tolle", "/desk/plan.csv")
	b.finds("withy", "/desk/Permits/Withy Weir permit.txt")
	b.write(b.archive, "reports/deep/er/new weir.txt", "x")
	b.index.Touched(address(t, "/archive/reports/deep/er"))
	b.finds("new", "/archive/reports/deep/er/new weir.txt")

	b.linked.mu.Lock()
	b.linked.index = []index.Account{{Link: "1", Name: "desk"}, {Link: "2", Name: "store", Contents: true}}
	b.linked.stores["store"] = b.archive
	b.linked.mu.Unlock()
	b.index.AccountsChanged()
	b.finds("tolle")
	b.finds("report", "/store/reports", "/store/reports/Weir report.pdf")
	b.linked.mu.Lock()
	b.linked.index = b.linked.index[:1]
	b.linked.mu.Unlock()
	b.index.AccountsChanged()
	b.finds("weir", "/desk/Permits/Withy Weir permit.txt")
}

// TestListedOnceItRests has a folder filled for a second: it is listed once it is left alone.
func TestListedOnceItRests(t *testing.T) {
	b := newBench(t)
	b.index.TouchedBelow(address(t, "/desk"))
	b.write(b.desk, "first.txt", "x")
	b.index.Touched(address(t, "/desk"))
	b.finds("first", "/desk/first.txt")
	counted := storetest.NewFaulty(b.desk)
	b.linked.mu.Lock()
	b.linked.stores["desk"] = counted
	b.linked.mu.Unlock()
	for i := range 100 {
		b.write(b.desk, fmt.Sprintf("filling %d.txt", i), "x")
		b.index.Touched(address(t, "/desk"))
		time.Sleep(10 * time.Millisecond)
	}
	b.finds("99", "/desk/filling 99.txt")
	if lists := counted.Calls(storetest.OpList); lists > 2 {
		t.Errorf("the folder was listed %d times while it was filled", lists)
	}
}

// TestGoneFoldersAreListedOnce has the folders of many removed files be told as changed, none of
// which is there any more: the folder that they were in is listed once.
func TestGoneFoldersAreListedOnce(t *testing.T) {
	b := newBench(t)
	for i := range 50 {
		b.write(b.desk, fmt.Sprintf("tree/folder %d/file.txt", i), "x")
	}
	b.write(b.desk, "tree/stays.txt", "x")
	b.index.TouchedBelow(address(t, "/desk"))
	b.finds("folder 49", "/desk/tree/folder 49")
	counted := storetest.NewFaulty(b.desk)
	b.linked.mu.Lock()
	b.linked.stores["desk"] = counted
	b.linked.mu.Unlock()
	for i := range 50 {
		b.remove(b.desk, fmt.Sprintf("tree/folder %d/file.txt", i))
		if _, err := b.desk.RemoveFolder(t.Context(), store.At("tree", fmt.Sprintf("folder %d", i)).As(store.KindFolder)); err != nil {
			t.Fatal(err)
		}
	}
	for range 2 {
		for i := range 50 {
			b.index.Touched(address(t, fmt.Sprintf("/desk/tree/folder %d", i)))
		}
	}
	b.finds("folder")
	for before := -1; before != counted.Calls(storetest.OpList); time.Sleep(300 * time.Millisecond) {
		before = counted.Calls(storetest.OpList)
	}
	if lists := counted.Calls(storetest.OpList); lists > 60 { // each of the 50, and the one that they were in
		t.Errorf("%d folders were listed", lists)
	}
}

// TestContentsSwitched switches contents on and off while a large folder is listed.
func TestContentsSwitched(t *testing.T) {
	b := newBench(t)
	for i := range 1200 {
		b.write(b.archive, fmt.Sprintf("f%04d.txt", i), "weir")
	}
	b.index.TouchedAll("archive")
	for _, contents := range []bool{true, false, true} {
		b.linked.mu.Lock()
		b.linked.index = []index.Account{{Link: "2", Name: "archive", Contents: contents}}
		b.linked.mu.Unlock()
		b.index.AccountsChanged()
		time.Sleep(20 * time.Millisecond)
	}
	for deadline := time.Now().Add(30 * time.Second); ; time.Sleep(20 * time.Millisecond) {
		states, err := b.index.States(t.Context())
		if err == nil && len(states) == 1 && states[0].Texts == 1200 {
			return
		}
		if time.Now().After(deadline) {
			t.Fatalf("%+v, %v", states, err)
		}
	}
}

// only is a scope that shows one folder.
type only string

func (o only) Sees(at store.Address) tree.Sight {
	folder, _ := store.ParseAddress(string(o))
	switch {
	case folder.Contains(at):
		return tree.Seen
	case at.Contains(folder):
		return tree.Through
	}
	return tree.Hidden
}

func (o only) MayChange(store.Address) bool { return false }

// TestRebuilt damages the database: it is built again.
func TestRebuilt(t *testing.T) {
	b := newBench(t)
	b.write(b.desk, "weir.txt", "fish")
	b.index.TouchedAll("desk")
	b.finds("fish", "/desk/weir.txt")
	b.end()
	b.start()
	b.finds("fish", "/desk/weir.txt") // kept
	b.end()
	file := filepath.Join(b.dir, index.FileName)
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	copy(text[20:], strings.Repeat("damage", 1000))
	if err := os.WriteFile(file, text, 0o600); err != nil {
		t.Fatal(err)
	}
	b.start()
	b.finds("fish", "/desk/weir.txt")
	b.end()
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	b.start()
	b.finds("fish", "/desk/weir.txt")
}

// TestModel changes accounts at random and lists what is touched: what is found is what is
// there.
func TestModel(t *testing.T) {
	b := newBench(t)
	random := rand.New(rand.NewPCG(1, 2))
	words := []string{"alder", "brook", "culvert", "drain", "eel"}
	there := map[string]string{}
	for round := range 30 {
		for range 10 {
			folder := strings.Repeat("f/", random.IntN(3)) + fmt.Sprint("g", random.IntN(3))
			path := fmt.Sprint(folder, "/", words[random.IntN(5)], random.IntN(3), ".txt")
			if _, is := there[path]; is && random.IntN(2) == 0 {
				b.remove(b.desk, path)
				delete(there, path)
			} else {
				there[path] = words[random.IntN(5)] + fmt.Sprint(" in round ", round)
				b.write(b.desk, path, there[path])
			}
			b.index.Touched(address(t, "/desk/"+folder))
		}
		word := words[random.IntN(5)]
		var want []string
		for path, text := range there {
			if strings.Contains(path, word) || strings.Contains(text, word) {
				want = append(want, "/desk/"+path)
			}
		}
		b.finds(word, want...)
	}
}
