package declared

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
)

// The parts of a trial that only definitions have.

func put(t storetest.T, s store.Store, place store.Ref, data string) store.Written {
	t.Helper()
	written, err := s.Write(t.Context(), store.Writing{Place: place, Size: int64(len(data)), Run: "trial", Content: storetest.Text(data)})
	if err != nil {
		t.Fatalf("write %s: %v", place, err)
	}
	return written
}

// pagesPart lists more entries than a page has.
func pagesPart(t storetest.T, s store.Store) {
	const count = 8
	for i := range count {
		put(t, s, store.At(fmt.Sprintf("file %d.txt", i)), fmt.Sprint(i))
	}
	seen := map[string]int{}
	for entry, err := range s.List(t.Context(), store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		seen[entry.Name]++
	}
	for i := range count {
		if name := fmt.Sprintf("file %d.txt", i); seen[name] != 1 {
			t.Errorf("%q was listed %d times", name, seen[name])
		}
	}
	if len(seen) != count {
		t.Errorf("%d entries were listed, of %d", len(seen), count)
	}
}

// largestTried bounds the files that a trial sends, in bytes.
const largestTried = 128 << 20

// uploadPart writes and replaces a file by one of the ways, at its least size
// and a little more than two pieces.
func uploadPart(t storetest.T, s store.Store, way int) {
	a := s.(*account)
	upload := &a.definition.Uploads[way]
	size := int64(upload.Above) + 1
	if upload.Pieces != nil {
		size = max(size, 2*upload.Pieces.fit(cmp.Or(int64(upload.Pieces.Size), 8<<20), size)+17)
	}
	if upload.UpTo > 0 {
		size = min(size, int64(upload.UpTo))
	}
	if size > largestTried {
		t.Skipf("a file of %d bytes would be needed; at most %d are sent", size, int64(largestTried))
	}
	if a.uploadFor(size) != upload {
		t.Skipf("no size leads to it that another way does not take")
	}
	line := "a line of a file that goes by this way, number "
	data := strings.Repeat(line, int(size)/len(line)+1)[:size]
	place := store.At("way.bin")
	written := put(t, s, place, data)
	check(t, s, place, data)
	other := strings.ToUpper(data)
	replaced, err := s.Write(t.Context(), store.Writing{Place: place, Size: size, If: store.AtRevision(written.Revision), Run: "trial",
		Content: storetest.Text(other)})
	if err != nil {
		t.Fatalf("replacing: %v", err)
	}
	if replaced.Revision == written.Revision && size > 0 {
		t.Error("the revision stayed the same over a change of content")
	}
	check(t, s, place, other)
	conditionsOfWay(t, a, upload, place, other, written.Revision)
	for _, hash := range a.definition.Hashes {
		entry, err := s.Stat(t.Context(), place)
		if err != nil {
			t.Fatal(err)
		}
		sum := hash.kind().New()
		sum.Write([]byte(other))
		if got := entry.Hashes.Get(hash.kind()); got != store.HashOf(hash.kind(), sum.Sum(nil)) {
			t.Errorf("the hash %s is reported as %q, and is %q", hash.kind(), got.Hex, store.HashOf(hash.kind(), sum.Sum(nil)).Hex)
		}
	}
}

// conditionsOfWay sends files by a way that claims conditions, past our own looks: with a
// revision that is gone, and to a name that is taken. The service has to refuse both.
func conditionsOfWay(t storetest.T, a *account, upload *Upload, place store.Ref, holds, stale string) {
	t.Helper()
	data := strings.Repeat("0123456789", len(holds)/10+1)[:len(holds)]
	for claim, condition := range map[string]store.Condition{"absent": store.Absent, "revision": store.AtRevision(stale)} {
		if !slices.Contains(upload.Conditions, claim) {
			continue
		}
		writing := store.Writing{Place: place, Size: int64(len(data)), If: condition, Run: "trial", Content: storetest.Text(data)}
		w, err := a.beginWriting(t.Context(), upload, writing)
		if err == nil {
			_, err = w.run(t.Context())
		} else if revision, replaces := condition.Expect(); replaces && store.KindOf(err) == store.ErrChanged {
			err = sendUnlooked(t, a, upload, writing, revision)
		}
		if kind := store.KindOf(err); kind != store.ErrExists && kind != store.ErrChanged {
			t.Errorf("the condition %q is claimed and not kept: the service answered with %v; "+
				"leave it out of conditions, so that it is looked before the last request", claim, err)
		}
		check(t, a, place, holds)
	}
}

// sendUnlooked writes with a revision that is gone, where the writer would have looked
// by itself.
func sendUnlooked(t storetest.T, a *account, upload *Upload, writing store.Writing, revision string) error {
	t.Helper()
	there, err := a.look(t.Context(), a.occupied(writing.Place))
	if err != nil {
		return err
	}
	writing.If = store.AtRevision(there.Revision)
	w, err := a.beginWriting(t.Context(), upload, writing)
	if err != nil {
		return err
	}
	w.in["if"] = map[string]any{"absent": false, "revision": revision, "any": false}
	w.in["revision"] = revision
	_, err = w.run(t.Context())
	return err
}

func check(t storetest.T, s store.Store, place store.Ref, want string) {
	t.Helper()
	body, err := s.Open(t.Context(), store.Reading{Place: place})
	if err != nil {
		t.Fatal(err)
	}
	defer body.Close()
	got, err := io.ReadAll(body)
	if err != nil || string(got) != want {
		t.Errorf("%d bytes came back of %d, or other ones; %v", len(got), len(want), err)
	}
}

// goOnPart sends the first piece of a file, asks how far the upload got, and
// gives it up.
func goOnPart(t storetest.T, s store.Store) {
	a := s.(*account)
	for i := range a.definition.Uploads {
		upload := &a.definition.Uploads[i]
		w := &writer{a: a, upload: upload}
		if upload.Pieces == nil || w.askOperation() == nil || upload.Pieces.Order == "any" {
			continue
		}
		size := max(int64(upload.Above)+1, 2*upload.Pieces.fit(cmp.Or(int64(upload.Pieces.Size), 8<<20), 1))
		if size > largestTried || upload.UpTo > 0 && size > int64(upload.UpTo) {
			continue
		}
		content := storetest.Text(strings.Repeat("x", int(size)))
		w, err := a.beginWriting(t.Context(), upload, store.Writing{Place: store.At("half.bin"), Size: size, Run: "trial", Content: content})
		if err != nil {
			t.Fatal(err)
		}
		w.begun = true
		if _, err := a.do(t.Context(), "beginning an upload", upload.Begin, w.in, doing{}); err != nil {
			t.Fatal(err)
		}
		defer w.giveUp(context.WithoutCancel(t.Context()))
		piece, err := w.partSize(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		p := &pieces{writer: w, send: w.sendOperation(), size: piece}
		defer p.close()
		if err := p.open(t.Context()); err != nil {
			t.Fatal(err)
		}
		if err := p.piece(t.Context(), piece); err != nil {
			t.Fatal(err)
		}
		if err := p.goOn(t.Context()); err != nil {
			t.Fatal(err)
		}
		if p.offset != piece {
			t.Errorf("%d bytes were sent, and the service says that %d have arrived", piece, p.offset)
		}
		return
	}
	t.Skip("no way of writing describes how to ask how far it got")
}

// batchPart removes several files at the same time.
func batchPart(t storetest.T, s store.Store) {
	a := s.(*account)
	if a.definition.Remove.Batch == nil {
		t.Skip("remove.batch is not described")
	}
	const count = 5
	errs := make(chan error, count)
	for i := range count {
		put(t, s, store.At(fmt.Sprint("file ", i)), "x")
	}
	for i := range count {
		go func() {
			_, err := s.Remove(t.Context(), store.At(fmt.Sprint("file ", i)), "")
			errs <- err
		}()
	}
	for range count {
		if err := <-errs; err != nil {
			t.Error(err)
		}
	}
	for entry, err := range s.List(t.Context(), store.Folder{}) {
		if err != nil {
			t.Fatal(err)
		}
		t.Errorf("%q is still there", entry.Name)
	}
}
