package declared_test

import (
	"fmt"
	"io"
	"maps"
	"testing"

	"golang.org/x/sync/errgroup"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
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
				entries[i], err = s.Write(t.Context(), store.Writing{Place: at(i), Size: int64(len(content)), If: store.Absent, Run: "r", Content: storetest.Text(content)})
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
				t.Errorf("%.2f requests to write a file, %.2f to read it, %.2f to find that one is not there; want %v, 2 and 1", wrote, read, absent, c.most)
			}
		})
	}
}
