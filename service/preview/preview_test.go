package preview

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"io"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
)

// probeArgument has this test's program be a child that tries what a child may not do.
const probeArgument = "preview-probe"

func TestMain(m *testing.M) {
	if len(os.Args) > 1 {
		switch os.Args[1] {
		case ChildArgument:
			os.Exit(Child(os.Args[2:]))
		case probeArgument:
			os.Exit(probe(os.Args[2]))
		}
	}
	os.Exit(m.Run())
}

// probe does one thing after it was confined, and returns 0 if that is possible.
func probe(what string) int {
	server, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 2
	}
	if err := confine(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 2
	}
	switch what {
	case "nothing":
		return 0
	case "connect":
		_, err = net.Dial("tcp", server.Addr().String())
	case "listen":
		_, err = net.Listen("tcp", "127.0.0.1:0")
	case "write":
		err = os.WriteFile(filepath.Join(os.TempDir(), "preview-probe"), []byte("x"), 0o600)
	case "memory":
		var held [][]byte
		for range 2 * childMemory >> 20 {
			held = append(held, bytes.Repeat([]byte{1}, 1<<20))
		}
		return len(held) * 0
	case "time":
		for began := time.Now(); time.Since(began) < 30*childSeconds*time.Second; { // of the clock: others may compute too
		}
	}
	if err != nil {
		return 1
	}
	return 0
}

// TestConfined tries in a child what must not be possible there.
func TestConfined(t *testing.T) {
	t.Parallel()
	for what, want := range map[string]bool{"nothing": true, "connect": false, "listen": false, "write": false, "memory": false,
		"time": false} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			said, err := exec.Command(os.Args[0], probeArgument, what).CombinedOutput()
			if (err == nil) != want {
				t.Errorf("%s ended with %v, %.300s; want it to be possible: %v", what, err, said, want)
			}
		})
	}
}

func newMaker(t *testing.T, most int64) *Maker {
	t.Helper()
	m, err := New(t.TempDir(), most, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func of(content []byte) func(context.Context) (io.ReadCloser, error) {
	return func(context.Context) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content)), nil }
}

// drawn is a picture whose left half is red and whose right half is blue.
func drawn(width, height int) image.Image {
	picture := image.NewPaletted(image.Rect(0, 0, width, height), color.Palette{color.RGBA{200, 0, 0, 255}, color.RGBA{0, 0, 200, 255}})
	for y := range height {
		for x := width / 2; x < width; x++ {
			picture.SetColorIndex(x, y, 1)
		}
	}
	return picture
}

func encoded(t *testing.T, encode func(io.Writer) error) []byte {
	t.Helper()
	var out bytes.Buffer
	if err := encode(&out); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// oriented puts an EXIF orientation into a JPEG.
func oriented(picture []byte, orientation byte) []byte {
	exif := append([]byte("Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01\x00"), orientation, 0, 0, 0, 0, 0, 0)
	head := binary.BigEndian.AppendUint16([]byte{0xff, 0xd8, 0xff, 0xe1}, uint16(len(exif)+2))
	return append(append(head, exif...), picture[2:]...)
}

// pdf is a page of 200 x 100 points, the left half of which is red.
func pdf() []byte {
	const content = "1 0 0 rg 0 0 100 100 re f"
	objects := []string{
		"<</Type/Catalog/Pages 2 0 R>>", "<</Type/Pages/Kids[3 0 R]/Count 1>>",
		"<</Type/Page/Parent 2 0 R/MediaBox[0 0 200 100]/Contents 4 0 R/Resources<<>>>>",
		fmt.Sprintf("<</Length %d>>stream\n%s\nendstream", len(content), content),
	}
	var out, table bytes.Buffer
	out.WriteString("%PDF-1.4\n")
	fmt.Fprintf(&table, "xref\n0 %d\n0000000000 65535 f \n", len(objects)+1)
	for i, object := range objects {
		fmt.Fprintf(&table, "%010d 00000 n \n", out.Len())
		fmt.Fprintf(&out, "%d 0 obj%sendobj\n", i+1, object)
	}
	at := out.Len()
	fmt.Fprintf(&out, "%strailer<</Size %d/Root 1 0 R>>\nstartxref\n%d\n%%%%EOF", table.String(), len(objects)+1, at)
	return out.Bytes()
}

func film(t *testing.T) []byte {
	t.Helper()
	at := filepath.Join(t.TempDir(), "film.mp4")
	said, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "testsrc=size=320x180:rate=10:duration=2", "-c:v", "mpeg4",
		at).CombinedOutput()
	if err != nil {
		t.Fatalf("%v, %s", err, said)
	}
	content, err := os.ReadFile(at)
	if err != nil {
		t.Fatal(err)
	}
	return content
}

// TestMake makes a preview of each kind of file, and looks at what it shows.
func TestMake(t *testing.T) {
	t.Parallel()
	m := newMaker(t, 64<<20)
	photo := encoded(t, func(w io.Writer) error { return jpeg.Encode(w, drawn(1200, 600), nil) })
	webp, err := base64.StdEncoding.DecodeString("UklGRiIAAABXRUJQVlA4IBYAAAAwAQCdASoBAAEADsD+JaQAA3AAAAAA")
	if err != nil {
		t.Fatal(err)
	}
	for name, one := range map[string]struct {
		content       []byte
		width, height int
	}{
		"a.png":      {encoded(t, func(w io.Writer) error { return png.Encode(w, drawn(1000, 500)) }), 256, 128},
		"small.PNG":  {encoded(t, func(w io.Writer) error { return png.Encode(w, drawn(40, 30)) }), 40, 30},
		"a.jpg":      {photo, 256, 128},
		"turned.jpg": {oriented(photo, 6), 128, 256},
		"a.gif":      {encoded(t, func(w io.Writer) error { return gif.Encode(w, drawn(512, 512), nil) }), 256, 256},
		"a.webp":     {webp, 1, 1},
		"a.pdf":      {pdf(), 256, 128},
		"a.mp4":      {film(t), 256, 144},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			at, err := m.Make(t.Context(), Key{"desk", "id", name, "1", Small}, name, int64(len(one.content)), of(one.content))
			if err != nil {
				t.Fatal(err)
			}
			file, err := os.Open(at)
			if err != nil {
				t.Fatal(err)
			}
			defer file.Close()
			picture, _, err := image.Decode(file)
			if err != nil {
				t.Fatal(err)
			}
			if size := picture.Bounds().Size(); size.X != one.width || size.Y != one.height {
				t.Errorf("the preview has %v, want %d x %d", size, one.width, one.height)
			}
			if name == "turned.jpg" { // the left half, red, is on top
				if red, _, blue, _ := picture.At(64, 10).RGBA(); red < blue {
					t.Errorf("on top is %v", picture.At(64, 10))
				}
			} else if red, _, blue, _ := picture.At(5, 5).RGBA(); name == "a.pdf" && red <= blue {
				t.Errorf("at the left is %v", picture.At(5, 5))
			}
		})
	}
}

// huge is the head of a PNG that says that it has so many pixels.
func huge(width, height uint32) []byte {
	chunk := append([]byte("IHDR"), binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, width), height)...)
	chunk = append(chunk, 8, 6, 0, 0, 0)
	out := append([]byte("\x89PNG\r\n\x1a\n"), 0, 0, 0, 13)
	out = append(out, chunk...)
	return append(binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(chunk)), make([]byte, 100)...)
}

// TestMakeOfBadFiles gives what is damaged or made to do harm: there is no preview, the reason
// is said, and the file is not read again.
func TestMakeOfBadFiles(t *testing.T) {
	t.Parallel()
	m := newMaker(t, 64<<20)
	whole := encoded(t, func(w io.Writer) error { return png.Encode(w, drawn(600, 600)) })
	secret := filepath.Join(t.TempDir(), "secret.mp4")
	if err := os.WriteFile(secret, film(t), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, one := range map[string]struct {
		content []byte
		says    string
	}{
		"damaged.png":    {whole[:len(whole)-200], "damaged"},
		"text.jpg":       {[]byte("no picture at all"), "not a picture"},
		"huge.png":       {huge(200_000, 200_000), "pixels"},
		"flat.png":       {huge(1<<31-1, 1), "pixels"},
		"damaged.pdf":    {[]byte("%PDF-1.7 nothing"), ""},
		"playlist.mp4":   {[]byte("#EXTM3U\n#EXT-X-TARGETDURATION:10\n#EXTINF:10,\nfile://" + secret + "\n"), ""},
		"references.avi": {[]byte("ffconcat version 1.0\nfile " + secret + "\n"), ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var reads atomic.Int32
			open := func(ctx context.Context) (io.ReadCloser, error) { reads.Add(1); return of(one.content)(ctx) }
			for range 2 {
				_, err := m.Make(t.Context(), Key{"desk", "id", name, "1", Small}, name, int64(len(one.content)), open)
				if !errors.Is(err, ErrNone) || !strings.Contains(err.Error(), one.says) {
					t.Errorf("it says %v; want %q", err, one.says)
				}
			}
			if reads.Load() != 1 {
				t.Errorf("it was read %d times", reads.Load())
			}
		})
	}
	for name, size := range map[string]int64{"a.txt": 10, "a": 10, "none.png": 0, "large.png": MostRead + 1, "unknown.png": -1} {
		if Can(name, size) {
			t.Errorf("a preview of %s of %d bytes is said to be possible", name, size)
		}
	}
	broken := errors.New("the account is away")
	away := func(context.Context) (io.ReadCloser, error) { return nil, broken }
	for range 2 { // what does not lie with the file is tried again
		if _, err := m.Make(t.Context(), Key{"desk", "id", "away.png", "1", Small}, "away.png", 10, away); !errors.Is(err, broken) {
			t.Errorf("an account that is away: %v", err)
		}
	}
}

// TestMakeOnce has many ask for one preview at once.
func TestMakeOnce(t *testing.T) {
	t.Parallel()
	m := newMaker(t, 64<<20)
	content := encoded(t, func(w io.Writer) error { return png.Encode(w, drawn(300, 300)) })
	var reads atomic.Int32
	var waits sync.WaitGroup
	for range 20 {
		waits.Go(func() {
			_, err := m.Make(t.Context(), Key{"desk", "id", "a.png", "1", Small}, "a.png", int64(len(content)),
				func(ctx context.Context) (io.ReadCloser, error) {
					reads.Add(1)
					time.Sleep(50 * time.Millisecond)
					return of(content)(ctx)
				})
			if err != nil {
				t.Error(err)
			}
		})
	}
	waits.Wait()
	if reads.Load() != 1 {
		t.Errorf("the file was read %d times", reads.Load())
	}
	for _, key := range []Key{{"desk", "id", "a.png", "2", Small}, {"desk", "other", "a.png", "1", Small},
		{"desk", "id", "a.png", "1", Large}} {
		if _, err := m.Make(t.Context(), key, "a.png", int64(len(content)), of([]byte("changed"))); !errors.Is(err, ErrNone) {
			t.Errorf("%+v has the preview of another: %v", key, err)
		}
	}
}

// TestMakeForNobody has those that asked leave before their turn: only what somebody waits for
// is read.
func TestMakeForNobody(t *testing.T) {
	t.Parallel()
	m := newMaker(t, 64<<20)
	content := encoded(t, func(w io.Writer) error { return png.Encode(w, drawn(300, 300)) })
	for range mostAtOnce {
		m.turns <- struct{}{} // as if others were made
	}
	var reads atomic.Int32
	ask := func(ctx context.Context, name string) error {
		_, err := m.Make(ctx, Key{"desk", "id", name, "1", Small}, name, int64(len(content)), func(ctx context.Context) (io.ReadCloser, error) {
			reads.Add(1)
			return of(content)(ctx)
		})
		return err
	}
	leaving, leave := context.WithCancel(t.Context())
	var left, stays sync.WaitGroup
	for i := range 50 {
		left.Go(func() {
			if err := ask(leaving, fmt.Sprintf("%d.png", i)); !errors.Is(err, context.Canceled) {
				t.Errorf("one that left got %v", err)
			}
		})
	}
	time.Sleep(50 * time.Millisecond)
	stays.Go(func() { // asks for one that another, who leaves, was to make
		if err := ask(t.Context(), "7.png"); err != nil {
			t.Errorf("one that stayed got %v", err)
		}
	})
	time.Sleep(50 * time.Millisecond)
	leave()
	left.Wait()
	for range mostAtOnce {
		<-m.turns
	}
	stays.Wait()
	if reads.Load() != 1 {
		t.Errorf("%d files were read, want the one that somebody waits for", reads.Load())
	}
}

// TestCache fills a cache over its size: what was used last stays.
func TestCache(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	const most = 1 << 20
	c, err := openCache(dir, most)
	if err != nil {
		t.Fatal(err)
	}
	put := func(account string, n int) string {
		t.Helper()
		at, err := c.put(account, fmt.Sprintf("%06d", n), bytes.Repeat([]byte{1}, 10_000))
		if err != nil {
			t.Fatal(err)
		}
		old := time.Now().Add(-48*time.Hour + time.Duration(n)*time.Minute)
		if err := os.Chtimes(at, old, old); err != nil {
			t.Fatal(err)
		}
		return at
	}
	for n := range 60 {
		put("desk", n)
	}
	if _, _, ok := c.get("desk", "000003"); !ok { // used: it is not the oldest any more
		t.Fatal("what was kept is gone")
	}
	for n := range 60 {
		put("archive", 60+n)
	}
	total := func() (sum int64) {
		files, err := c.files()
		if err != nil {
			t.Fatal(err)
		}
		for _, file := range files {
			sum += file.takes
		}
		return sum
	}
	if sum := total(); sum > most || sum < most/2 || sum != c.held {
		t.Errorf("the cache holds %d bytes and counts %d, want at most %d", sum, c.held, most)
	}
	for id, want := range map[string]bool{"000003": true, "000004": false} {
		if _, _, ok := c.get("desk", id); ok != want {
			t.Errorf("%s is kept: %v, want %v", id, ok, want)
		}
	}
	if err := c.forget("archive"); err != nil {
		t.Fatal(err)
	}
	if _, _, ok := c.get("archive", "000119"); ok {
		t.Error("a preview of an account that was unlinked is still there")
	}
	if err := os.WriteFile(filepath.Join(dir, "read-left"), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	again, err := openCache(dir, most)
	if err != nil || again.held != total() {
		t.Errorf("opened again it counts %d bytes of %d, %v", again.held, total(), err)
	}
	if _, err := os.Stat(filepath.Join(dir, "read-left")); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("what a crash left behind: %v", err)
	}
}
