package bench

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/core/query"
	"deftheron/core/store"
	"deftheron/core/store/storetest"
	places "deftheron/core/tree"
	"deftheron/service/index"
)

// library is an account of folders of a thousand files, of which some have text.
type library struct {
	*storetest.Memory
	folders, texts int
	words          []string
	prose          string // of which texts are pieces
}

const inFolder = 1000

func (l *library) List(_ context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		names := folder.Path.Names()
		if len(names) == 0 {
			for i := range l.folders {
				if !yield(store.Entry{Name: fmt.Sprintf("folder %06d", i), Kind: store.KindFolder}, nil) {
					return
				}
			}
			return
		}
		var number int
		_, _ = fmt.Sscanf(names[0], "folder %d", &number)
		for i := range inFolder {
			n := number*inFolder + i
			random := rand.New(rand.NewPCG(uint64(n), 7))
			ending := "jpg"
			if n%(l.folders*inFolder/l.texts) == 0 {
				ending = "txt"
			}
			name := fmt.Sprintf("%04d %s %s %07d.%s", i, l.word(random), l.word(random), n, ending)
			if !yield(store.Entry{Name: name, Kind: store.KindFile, Size: 5000, Revision: "1",
				Modified: time.Unix(int64(1_600_000_000+n*37%100_000_000), 0)},
				nil) {
				return
			}
		}
	}
}

// word is one of the library's, of which a few are frequent, as in a language (Zipf).
func (l *library) word(random *rand.Rand) string {
	zipf := rand.NewZipf(random, 1.1, 4, uint64(len(l.words)-1))
	return l.words[zipf.Uint64()]
}

func (l *library) Traits() store.Traits {
	traits := l.Memory.Traits()
	traits.Order = store.OrderByKey
	return traits
}

func (l *library) Capabilities() store.Capabilities { return store.Capabilities{} }

func (l *library) Open(_ context.Context, reading store.Reading) (io.ReadCloser, error) {
	random := rand.New(rand.NewPCG(uint64(len(reading.Place.Name)), uint64(reading.Place.Name[0])<<8|uint64(reading.Place.Name[3])))
	for _, b := range reading.Place.Name {
		random.Uint64N(uint64(b) + 1)
	}
	at := random.IntN(len(l.prose) - 5000)
	return io.NopCloser(strings.NewReader(l.prose[at : at+5000])), nil
}

// asIs reads text in this process, where the service has a child of its own read it.
type asIs struct{}

func (asIs) Text(ctx context.Context, _ string, _ int64, open func(context.Context) (io.ReadCloser, error)) (string, string, error) {
	body, err := open(ctx)
	if err != nil {
		return "", "", err
	}
	text, err := io.ReadAll(body)
	return string(text), "", err
}

type oneAccount struct{ store store.Store }

func (o oneAccount) Names(context.Context) ([]string, error) { return []string{"library"}, nil }
func (o oneAccount) Open(_ context.Context, name string) (places.Account, error) {
	return places.Account{Name: name, Store: o.store}, nil
}

// TestBenchSearch fills an index with 1,000,000 names and 50,000 texts, and searches it.
func TestBenchSearch(t *testing.T) {
	if !*run {
		t.Skip("only with -bench, as make bench does")
	}
	random := rand.New(rand.NewPCG(1, 2))
	l := &library{Memory: storetest.NewMemory(), folders: 10 * *scale, texts: 500 * *scale}
	for range 20_000 {
		word := make([]byte, 4+random.IntN(8))
		for i := range word {
			word[i] = "etaoinshrdlucmfwypvbgkqjxz"[min(random.IntN(26), random.IntN(26))]
		}
		l.words = append(l.words, string(word))
	}
	l.prose = prose(t)
	x, peak := l.filled(t)
	figure(fmt.Sprintf("search: private memory while %d names and %d texts are added", l.folders*inFolder, l.texts), "≤ 100 MiB",
		float64(peak)/(1<<20), "MiB", peak <= 100<<20)

	sizes := x.Sizes(t.Context())
	t.Logf("the index of words, that of %d names included, is %.2f of the text", l.folders*inFolder,
		float64(sizes.Words)/float64(sizes.Text))
	// Of texts alone: here every name has one.
	texts := *l
	texts.folders = max(1, l.texts/inFolder/2)
	texts.texts = texts.folders * inFolder
	alone, _ := texts.filled(t)
	of := alone.Sizes(t.Context())
	figure("search: index of words in texts, of the text", "≤ 0.40", float64(of.Words)/float64(of.Text), "", of.Words*10 <= of.Text*4)
	figure("search: kept text, of the text", "≤ 0.40", float64(sizes.Kept)/float64(sizes.Text), "", sizes.Kept*10 <= sizes.Text*4)

	for _, one := range []struct {
		what  string
		most  float64
		query func(i int) string
	}{
		{"first page, a word", 50, func(i int) string { return l.words[(i*i*7)%20_000] }},
		{"first page, two words", 50, func(i int) string { return l.words[i%40] + " AND " + l.words[(i*13)%400] }},
		{"first page, a frequent word", 50, func(i int) string { return l.words[i%10] }},
		{"first page, frequent words with OR", 50, func(i int) string { return l.words[i%10] + " OR " + l.words[i%7+10] }},
		{"first page, everything but", 50, func(i int) string { return "jpg NOT " + l.words[i%100] }},
		{"part of a name", 10, func(i int) string { return fmt.Sprintf("%05d", (i*7919)%99_999) }},
		{"part of a name, frequent", 50, func(i int) string { return l.words[i%50][:3] }},
	} {
		var times []float64
		for i := range 200 {
			parsed, err := query.Parse(one.query(i))
			if err != nil {
				t.Fatal(err)
			}
			begun := time.Now()
			results, err := x.Search(t.Context(), index.Asked{Query: parsed, Larger: -1, Smaller: -1, Most: 50})
			if err != nil || results.Cut {
				t.Fatalf("%s: %v, cut %v", one.query(i), err, results.Cut)
			}
			times = append(times, float64(time.Since(begun).Microseconds())/1000)
		}
		slices.Sort(times)
		p95 := times[len(times)*95/100]
		figure(fmt.Sprintf("search: %s, 95th percentile (median %.1f ms)", one.what, times[len(times)/2]), fmt.Sprintf("≤ %.0f ms", one.most),
			p95, "ms",
			p95 <= one.most)
	}
}

// filled returns an index of the library that has come to its end, and the most private
// memory that it took, in bytes.
func (l *library) filled(t *testing.T) (x *index.Index, peak int64) {
	t.Helper()
	x, err := index.Open(t.Context(), index.Options{Dir: t.TempDir(), Tree: &places.Tree{Accounts: oneAccount{l}}, Reader: asIs{},
		Sweep: 240 * time.Hour,
		Accounts: func(context.Context) ([]index.Account, error) {
			return []index.Account{{Link: "1", Name: "library", Contents: true}}, nil
		}, Space: 8 << 30, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	var running sync.WaitGroup
	running.Go(func() { x.Run(ctx) })
	debug.SetMemoryLimit(80 << 20) // as the service has
	begun := time.Now()
	for {
		states, err := x.States(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		peak = max(peak, anonymous(t))
		if len(states) == 1 && states[0].Entries >= int64(l.folders*(inFolder+1)) && states[0].Waiting == 0 && states[0].Due == 0 {
			break
		}
		if time.Since(begun) > 30*time.Minute {
			t.Fatalf("not filled: %+v", states)
		}
		time.Sleep(time.Second)
	}
	t.Logf("%d names and %d texts in %v", l.folders*inFolder, l.texts, time.Since(begun).Round(time.Second))
	cancel()
	running.Wait()
	t.Cleanup(x.Close)
	return x, peak
}

// prose is the text of Go's own documentation and source: what people have written.
func prose(t *testing.T) string {
	t.Helper()
	var all strings.Builder
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		t.Fatal(err)
	}
	err = filepath.WalkDir(filepath.Join(strings.TrimSpace(string(root)), "src"), func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || !strings.HasSuffix(path, ".go") || strings.Contains(path, "testdata") || all.Len() > 40<<20 {
			return err
		}
		text, err := os.ReadFile(path)
		for line := range strings.Lines(string(text)) {
			if comment, ok := strings.CutPrefix(strings.TrimSpace(line), "// "); ok && !strings.HasPrefix(comment, "Copyright") {
				all.WriteString(comment + "\n")
			}
		}
		return err
	})
	if err != nil || all.Len() < 1<<20 {
		t.Fatalf("%d bytes of prose, %v", all.Len(), err)
	}
	return strings.ToValidUTF8(all.String(), "")
}

// anonymous is how much memory this process has of its own, in bytes.
func anonymous(t *testing.T) int64 {
	t.Helper()
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		t.Fatal(err)
	}
	for line := range strings.Lines(string(text)) {
		var kib int64
		if n, _ := fmt.Sscanf(line, "RssAnon: %d kB", &kib); n == 1 {
			return kib << 10
		}
	}
	runtime.GC()
	return 0
}
