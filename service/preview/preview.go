// Package preview makes small pictures of files: of pictures, of the first pages of PDF files
// and of stills of films.
//
// Files come from anywhere and may be made to do harm. So each is read by a child process (this
// program again, see Child) that has little memory, little processor time, no network and
// nothing to write to but a pipe. What was made is kept in a folder of bounded size, by the
// account, the place and the revision of the file and by what has read it.
package preview

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sync/singleflight"

	"deftheron/core/store"
)

// Sizes of previews: the pixels of the longer side.
const (
	Small = 256
	Large = 1024
)

const (
	// MostRead is the size in bytes of the largest file that a preview is made of.
	MostRead = 64 << 20
	// mostMade is the size of the largest preview.
	mostMade = 4 << 20
	// mostAtOnce is how many children run at once.
	mostAtOnce = 2
	// patience is how long one may take by the clock.
	patience = 20 * time.Second
)

// reader is what reads a kind of file. Its name is part of what a preview is kept by: when a
// reader changes, it gets another name.
type reader struct {
	name    string
	program string // to be installed; empty for none
	demuxer string // of films
}

var (
	pictures = reader{name: "picture-1"}
	pages    = reader{name: "page-1", program: "pdftoppm"}
	films    = func(demuxer string) reader {
		return reader{name: "still-1-" + demuxer, program: "ffmpeg", demuxer: demuxer}
	}
	readers = map[string]reader{
		".png": pictures, ".jpg": pictures, ".jpeg": pictures, ".gif": pictures, ".webp": pictures, ".bmp": pictures, ".tif": pictures,
		".tiff": pictures, ".pdf": pages,
		".mp4": films("mov"), ".m4v": films("mov"), ".mov": films("mov"), ".mkv": films("matroska"), ".webm": films("matroska"),
		".avi": films("avi"), ".ogv": films("ogg"),
	}
)

// ErrNone says that there is no preview of a file.
var ErrNone = errors.New("there is no preview")

// Key is what a preview is kept by.
type Key struct {
	Account  string // its name
	Link     string // the id of its link, which another account of the same name does not have
	Place    string
	Revision string
	Size     int // of the preview, Small or Large
}

// Maker makes previews and keeps them.
type Maker struct {
	cache   *cache
	program string // this program, which is the child too
	log     *slog.Logger
	turns   chan struct{}
	texts   chan struct{} // turns to read text, which hold up no preview
	making  singleflight.Group
}

// New returns a maker that keeps its previews in a folder of at most so many bytes.
func New(dir string, most int64, log *slog.Logger) (*Maker, error) {
	program, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cache, err := openCache(dir, most)
	return &Maker{cache: cache, program: program, log: log, turns: make(chan struct{}, mostAtOnce),
		texts: make(chan struct{}, 1)}, err
}

// Can reports whether a preview can be made of a file, by its name and its size in bytes.
func Can(name string, size int64) bool {
	reader, ok := readers[strings.ToLower(path.Ext(name))]
	if !ok || size <= 0 || size > MostRead || !sandboxed {
		return false
	}
	return reader.program == "" || installed(reader.program)
}

// Make returns the file that holds the preview of a file, in PNG or JPEG. open reads the file's
// content. The error is ErrNone, with the reason, if no preview can be made.
func (m *Maker) Make(ctx context.Context, key Key, name string, size int64,
	open func(context.Context) (io.ReadCloser, error)) (string, error) {
	if !Can(name, size) {
		return "", fmt.Errorf("%w of this kind or size of file", ErrNone)
	}
	reader := readers[strings.ToLower(path.Ext(name))]
	digest := sha256.Sum256(fmt.Appendf(nil, "%s\x00%s\x00%s\x00%d\x00%s", key.Link, key.Place, key.Revision, key.Size, reader.name))
	id := hex.EncodeToString(digest[:16])
	if at, why, ok := m.cache.get(key.Account, id); ok {
		if why != "" {
			return "", fmt.Errorf("%w: %s", ErrNone, why)
		}
		return at, nil
	}
	for {
		// Of several that ask for one preview, one makes it.
		made := m.making.DoChan(key.Account+"/"+id, func() (any, error) { return m.make(ctx, key, id, reader, open) })
		select {
		case <-ctx.Done():
			return "", ctx.Err()
		case result := <-made:
			if errors.Is(result.Err, errLeft) && ctx.Err() == nil {
				continue // the one that was to make it has left
			}
			at, _ := result.Val.(string)
			return at, result.Err
		}
	}
}

// errLeft says that the one that asked for a preview left before it was its turn.
var errLeft = errors.New("nobody waits for the preview")

// make makes a preview when it is its turn. What nobody waits for by then is not made; what was
// begun is, also if the one that asked for it leaves.
func (m *Maker) make(ctx context.Context, key Key, id string, reader reader,
	open func(context.Context) (io.ReadCloser, error)) (string, error) {
	select {
	case m.turns <- struct{}{}:
	case <-ctx.Done():
		return "", errLeft
	}
	defer func() { <-m.turns }()
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*patience)
	defer cancel()
	content, err := m.fetch(ctx, open)
	if err != nil {
		return "", err
	}
	defer content.Close()
	picture, why := m.run(ctx, reader.name, fmt.Sprint(key.Size), content, mostMade)
	if why == "" && !isPicture(picture) {
		why = "the reader returned no picture"
	}
	if why != "" {
		m.log.InfoContext(ctx, "no preview could be made", "account", key.Account, "place", key.Place, "reader", reader.name, "why", why)
		if err := m.cache.putFailure(key.Account, id, why); err != nil {
			return "", err
		}
		return "", fmt.Errorf("%w: %s", ErrNone, why)
	}
	return m.cache.put(key.Account, id, picture)
}

// fetch brings the content of a file to this machine, in a file that has no name.
func (m *Maker) fetch(ctx context.Context, open func(context.Context) (io.ReadCloser, error)) (*os.File, error) {
	body, err := open(ctx)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	file, err := os.CreateTemp(m.cache.dir, "read-*")
	if err != nil {
		return nil, err
	}
	n, err := io.Copy(file, io.LimitReader(body, MostRead+1))
	if err == nil && n > MostRead {
		err = store.Errorf(store.ErrTooLarge, "the file is larger than it was said to be")
	}
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err = errors.Join(err, os.Remove(file.Name())); err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

// run has a child read a file and returns what it writes, up to most bytes; why says in words
// why it could not.
func (m *Maker) run(ctx context.Context, reader, argument string, content *os.File, most int) (made []byte, why string) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	for _, isolated := range []bool{true, false} {
		command := exec.CommandContext(ctx, m.program, ChildArgument, reader, argument)
		command.Stdin, command.Dir = content, "/"
		command.Env = []string{"PATH=" + os.Getenv("PATH"), "GOMAXPROCS=1", "GOTRACEBACK=none"}
		var out, said bytes.Buffer
		command.Stdout, command.Stderr = &bounded{Buffer: &out, most: most}, &bounded{Buffer: &said, most: 2000}
		command.WaitDelay = time.Second
		isolate(command, isolated)
		if err := command.Start(); err != nil {
			if isolated { // this system lets nobody make namespaces; the child has other bounds
				continue
			}
			return nil, "the reader could not be started: " + err.Error()
		}
		err := command.Wait()
		switch {
		case ctx.Err() != nil:
			return nil, "the file takes too long to read"
		case err != nil:
			return nil, reasonOf(said.String(), err)
		}
		return out.Bytes(), ""
	}
	return nil, "the reader could not be started"
}

// reasonOf is the last line that a child has said, or how it ended.
func reasonOf(said string, err error) string {
	lines := strings.FieldsFunc(said, func(r rune) bool { return r == '\n' })
	for _, line := range lines {
		if strings.Contains(line, "out of memory") || strings.Contains(line, "cannot allocate") {
			return "the file needs too much memory to read"
		}
	}
	if len(lines) > 0 {
		return strings.ToValidUTF8(strings.TrimSpace(lines[len(lines)-1]), "\ufffd")
	}
	return "the reader ended with " + err.Error()
}

func isPicture(data []byte) bool {
	return bytes.HasPrefix(data, []byte("\x89PNG\r\n\x1a\n")) || bytes.HasPrefix(data, []byte("\xff\xd8\xff"))
}

// bounded takes so many bytes, and refuses more.
type bounded struct {
	*bytes.Buffer
	most int
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.Len()+len(p) > b.most {
		return 0, io.ErrShortWrite
	}
	return b.Buffer.Write(p)
}

// Forget removes the previews of an account.
func (m *Maker) Forget(account string) error { return m.cache.forget(account) }

// installed reports whether a program is, as it was when it was first asked for.
func installed(program string) bool {
	found, ok := programs.Load(program)
	if !ok {
		at, err := exec.LookPath(program)
		found, _ = programs.LoadOrStore(program, err == nil && filepath.IsAbs(at))
	}
	return found.(bool)
}
