package declared_test

import (
	"fmt"
	"io"
	"maps"
	"os"
	"strings"
	"sync"
	"testing"

	"golang.org/x/sync/errgroup"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/declared"
)

// TestRequestsAFile counts what it takes to write and to read small files in a folder
// that is known, as deep as it may be, in a drive by ids and in one by paths.
func TestRequestsAFile(t *testing.T) {
	for _, c := range []struct {
		name string
		open func() (store.Store, func() map[string]int)
		most float64 // requests for a file that is written
	}{
		{"by id", func() (store.Store, func() map[string]int) {
			drive, s := openSedge(t)
			return s, drive.Control.Requests
		}, 1.3},
		{"by path", func() (store.Store, func() map[string]int) {
			drive, s := openAlder(t)
			return s, drive.Control.Requests
		}, 1.2},
	} {
		t.Run(c.name, func(t *testing.T) {
			s, requests := c.open()
			count := func() (n int) {
				for _, some := range requests() {
					n += some
				}
				return n
			}
			place := store.At("one", "two", "three", "four", "x")
			var path store.Path
			for _, name := range place.Folder.Path.Names() {
				path = path.Child(name)
				if _, err := s.MakeFolder(t.Context(), path.Ref()); err != nil {
					t.Fatal(err)
				}
			}
			const files, lanes = 400, 8
			each := func(do func(i int) error) float64 {
				t.Helper()
				before := count()
				was := requests()
				var group errgroup.Group
				group.SetLimit(lanes)
				for i := range files {
					group.Go(func() error { return do(i) })
				}
				if err := group.Wait(); err != nil {
					t.Fatal(err)
				}
				sum := map[string]int{}
				for route, n := range requests() {
					if n -= was[route]; n > 0 {
						sum[route] = n
					}
				}
				t.Logf("%v", maps.Collect(maps.All(sum)))
				return float64(count()-before) / files
			}
			entries := make([]store.Written, files)
			at := func(i int) store.Ref { return store.Folder{Path: path}.Ref(fmt.Sprint("file ", i)) }
			wrote := each(func(i int) (err error) {
				content := fmt.Sprint("content ", i)
				entries[i], err = s.Write(t.Context(), store.Writing{Place: at(i), Size: int64(len(content)), If: store.Absent, Run: "r",
					Content: storetest.Text(content)})
				return err
			})
			read := each(func(i int) error {
				ref := at(i)
				ref.ID = entries[i].ID
				body, err := s.Open(t.Context(), store.Reading{Place: ref, Revision: entries[i].Revision})
				if err != nil {
					return err
				}
				defer body.Close()
				text, err := io.ReadAll(body)
				if err == nil && string(text) != fmt.Sprint("content ", i) {
					err = fmt.Errorf("file %d holds %q", i, text)
				}
				return err
			})
			absent := each(func(i int) error {
				_, err := s.Stat(t.Context(), store.Folder{Path: path}.Ref(fmt.Sprint("nothing ", i)))
				if store.KindOf(err) != store.ErrNotFound {
					return fmt.Errorf("%v", err)
				}
				return nil
			})
			t.Logf("%.2f requests to write a file, %.2f to read it, %.2f to find that one is not there", wrote, read, absent)
			if wrote > c.most || read > 2 || absent > 1 {
				t.Errorf("%.2f requests to write a file, %.2f to read it, %.2f to find that one is not there; want %v, 2 and 1", wrote, read, absent,
					c.most)
			}
		})
	}
}

// writeMany writes so many small files into a folder, as the lanes of a run do: a file that
// only waits gives its lane away, up to idle of them.
func writeMany(t *testing.T, s store.Store, place store.Folder, files, lanes, idle int) {
	t.Helper()
	free := make(chan struct{}, lanes)
	write := func(i int) error {
		free <- struct{}{}
		var once sync.Once
		release := func() { once.Do(func() { <-free }) }
		defer release()
		content := fmt.Sprint("content ", i)
		_, err := s.Write(store.WithIdle(t.Context(), release), store.Writing{
			Place: place.Ref(fmt.Sprint("file ", i)), Size: int64(len(content)), If: store.Absent, Run: "r", Content: storetest.Text(content),
		})
		return err
	}
	var group errgroup.Group
	group.SetLimit(lanes + idle)
	for i := range files {
		group.Go(func() error { return write(i) })
	}
	if err := group.Wait(); err != nil {
		t.Fatal(err)
	}
}

// TestRequestsInLargeFolder counts what it takes a run to write small files in a folder of
// many pages, where a file that only waits for the look at its name gives its turn away.
func TestRequestsInLargeFolder(t *testing.T) {
	const (
		files, lanes, idle = 1000, 8, 500
		page               = "page: 25"
		most, never        = 1.2, 2.0
	)
	text, err := os.ReadFile("definitions/sedge.yaml")
	if err != nil {
		t.Fatal(err)
	}
	small := strings.Replace(string(text), "page: 1000", page, 1)
	if small == string(text) {
		t.Fatal("the definition has no such page")
	}
	definition, err := declared.Load("sedge.yaml", []byte(small))
	if err != nil {
		t.Fatal(err)
	}
	drive, address := sedge(t)
	secrets := granted(t, "code", drive.Consents, "own", "own-secret", "surveys@fenmere.example", "items.read", "items.write")
	s, err := declared.New(definition).Open(t.Context(), opening(t, address, secrets, nil))
	if err != nil {
		t.Fatal(err)
	}
	// How many names one listing answers depends on what else this machine does: it is
	// the best of three that is promised.
	each, place := most+1, store.Folder{}
	for try := 0; try < 3 && each > most; try++ {
		place = store.At(fmt.Sprint("large ", try), "x").Folder
		if _, err := s.MakeFolder(t.Context(), place.Path.Ref()); err != nil {
			t.Fatal(err)
		}
		drive.Control.Forget()
		writeMany(t, s, place, files, lanes, idle)
		count := 0
		for _, n := range drive.Control.Requests() {
			count += n
		}
		each = float64(count) / files
		t.Logf("%.2f requests a file, of %d in a folder of %d pages", each, files, files/25)
		if each > never {
			t.Errorf("%.2f requests a file; however busy the machine is, want at most %v", each, never)
		}
	}
	if each > most {
		t.Errorf("%.2f requests a file, of %d in a folder of %d pages; want at most %v", each, files, files/25, most)
	}

	// What somebody else made in the meantime is found nevertheless.
	if _, err := s.Write(store.WithIdle(t.Context(), func() {}), store.Writing{
		Place: place.Ref("file 7"), Size: 5, If: store.Absent, Run: "r", Content: storetest.Text("other"),
	}); store.KindOf(err) != store.ErrExists {
		t.Errorf("a file that is there was written again: %v", err)
	}
	seen := 0
	for entry, err := range s.List(t.Context(), store.Folder{Path: place.Path}) {
		if err != nil {
			t.Fatal(err)
		}
		if entry.Name == "file 7" {
			seen++
		}
	}
	if seen != 1 {
		t.Errorf("file 7 is there %d times", seen)
	}
}
