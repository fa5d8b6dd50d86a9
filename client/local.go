package client

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"deftheron/contract"
)

// atOnce is how many files are fetched or sent at once.
const atOnce = 4

// Progress counts what was fetched or sent so far. It may be read at any time.
type Progress struct {
	Files, Bytes atomic.Int64
}

// Refused is an entry that cannot be fetched or sent, and why.
type Refused struct {
	Name string
	Why  string
}

// Survey is what fetching or sending would come to, found out before anything is
// changed.
type Survey struct {
	Files, Folders, Bytes int64
	// Replaces is how many files are there already.
	Replaces int64
	// Skipped is how many entries hold no content: links, sockets, devices.
	Skipped int64
	// Refused are the first hundred entries that cannot be kept where they are to
	// go; Refusals is how many there are.
	Refused  []Refused
	Refusals int64
}

func (s *Survey) refuse(name, format string, args ...any) {
	if s.Refusals++; len(s.Refused) < 100 {
		s.Refused = append(s.Refused, Refused{name, fmt.Sprintf(format, args...)})
	}
}

// Get fetches one entry of the tree, with all that is in it, to a folder of this
// machine. Nothing is written outside of Root.
type Get struct {
	Client *Client
	Entry  contract.Entry
	Root   *os.Root
	// Name that it is to have in Root.
	Name string
	// Formats are those that documents are exported as, each in what it has
	// of them; the default of each unless given.
	Formats []string
	// Replace lets files that are there be replaced.
	Replace  bool
	Progress *Progress
}

// checkLocal says why the local disk cannot hold a name, "" where it can.
func checkLocal(name string) string {
	switch {
	case name == "":
		return "a local disk holds no entry with an empty name"
	case name == "." || name == "..":
		return fmt.Sprintf("%q is a step and no name on a local disk", name)
	case strings.Contains(name, "/"):
		return "a local disk holds no name with a slash"
	case strings.IndexByte(name, 0) >= 0:
		return "a local disk holds no name with a NUL byte"
	case len(name) > 255:
		return fmt.Sprintf("the name has %d bytes, and a local disk holds 255 at most", len(name))
	}
	return ""
}

// each calls do for the entry and everything in it, folders first. local is its path
// here. For a name that cannot be stored it calls refused, and skips the entry's
// content.
func (g Get) each(ctx context.Context, do func(entry contract.Entry, local string) error, refused func(contract.Entry, string)) error {
	if why := checkLocal(g.Name); why != "" {
		refused(g.Entry, why)
		return nil
	}
	for _, one := range g.asFiles(g.Entry) {
		name := g.Name
		if g.Entry.Kind == "document" && len(one.Exports) > 0 && g.Name == g.Entry.Name {
			name = one.Name
		}
		if err := g.walk(ctx, one, name, do, refused); err != nil {
			return err
		}
	}
	return nil
}

func (g Get) walk(ctx context.Context, entry contract.Entry, local string, do func(contract.Entry, string) error,
	refused func(contract.Entry, string)) error {
	if err := do(entry, local); err != nil || entry.Kind != "folder" {
		return err
	}
	taken := map[string]bool{}
	for child, err := range g.Client.Entries(ctx, &Listing{Address: entry.Address, Fresh: true}) {
		if err != nil {
			return err
		}
		if why := checkLocal(child.Name); why != "" {
			refused(child, why)
			continue
		}
		for _, one := range g.asFiles(child) {
			name := one.Name
			if taken[name] { // of two that have one name
				name = besideTwin(one)
			}
			taken[name] = true
			if err := g.walk(ctx, one, path.Join(local, name), do, refused); err != nil {
				return err
			}
		}
	}
	return nil
}

func besideTwin(entry contract.Entry) string {
	extension := path.Ext(entry.Name)
	if entry.Kind == "folder" {
		extension = ""
	}
	return strings.TrimSuffix(entry.Name, extension) + " (" + entry.ID + ")" + extension
}

// asFiles returns the files to fetch for an entry: a document in each of the wanted
// formats that it has, otherwise in its default format; any other entry as it is.
func (g Get) asFiles(entry contract.Entry) []contract.Entry {
	if entry.Kind != "document" || len(entry.Exports) == 0 {
		return []contract.Entry{entry}
	}
	var all []contract.Entry
	for _, format := range entry.Exports {
		if slices.Contains(g.Formats, format) {
			all = append(all, exportOf(entry, format))
		}
	}
	if len(all) == 0 {
		all = []contract.Entry{exportOf(entry, entry.Exports[0])}
	}
	return all
}

func exportOf(document contract.Entry, format string) contract.Entry {
	document.Kind, document.Size, document.Exports = "file", -1, []string{format}
	if !strings.HasSuffix(strings.ToLower(document.Name), "."+format) {
		document.Name += "." + format
	}
	return document
}

// Survey looks at everything before anything is written.
func (g Get) Survey(ctx context.Context, survey *Survey) error {
	return g.each(ctx, func(entry contract.Entry, local string) error {
		there, err := g.Root.Lstat(local)
		switch {
		case err != nil && !errors.Is(err, fs.ErrNotExist):
			survey.refuse(entry.Address, "%v", bare(err))
		case err == nil && there.IsDir() != (entry.Kind == "folder"):
			survey.refuse(entry.Address, "%s is a %s", local, map[bool]string{true: "folder", false: "file"}[there.IsDir()])
		case err == nil && entry.Kind != "folder":
			survey.Replaces++
		}
		switch entry.Kind {
		case "folder":
			survey.Folders++
		case "file":
			survey.Files++
			survey.Bytes += max(0, entry.Size)
		default:
			survey.Skipped++
		}
		return nil
	}, func(entry contract.Entry, why string) { survey.refuse(entry.Address, "%s", why) })
}

// Do fetches. Each file gets its name once it is whole.
func (g Get) Do(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	err := g.each(ctx, func(entry contract.Entry, local string) error {
		switch entry.Kind {
		case "folder":
			if err := g.Root.Mkdir(local, 0o777); err != nil && !errors.Is(err, fs.ErrExist) {
				return fmt.Errorf("the folder %s cannot be made: %w", local, bare(err))
			}
		case "file":
			group.Go(func() error { return g.file(ctx, entry, local) })
		}
		return ctx.Err()
	}, func(contract.Entry, string) {})
	return errors.Join(group.Wait(), ignoreCancelled(err))
}

// ignoreCancelled leaves out the error of a walk that ended since a file failed.
func ignoreCancelled(err error) error {
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

func (g Get) content(ctx context.Context, entry contract.Entry) (*Content, error) {
	if entry.Document != "" {
		return g.Client.Export(ctx, entry.Address, entry.Exports[0])
	}
	return g.Client.Read(ctx, entry.Address, 0)
}

func (g Get) file(ctx context.Context, entry contract.Entry, local string) (err error) {
	content, err := g.content(ctx, entry)
	if err != nil {
		return err
	}
	defer content.Close()
	var random [8]byte
	rand.Read(random[:])
	temporary := path.Join(path.Dir(local), ".heron-arriving-get-"+hex.EncodeToString(random[:]))
	file, err := g.Root.OpenFile(temporary, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o666)
	if err != nil {
		return fmt.Errorf("%s cannot be written: %w", local, bare(err))
	}
	defer func() {
		file.Close()
		if err != nil {
			_ = g.Root.Remove(temporary) // what went wrong before is what is told
		}
	}()
	n, err := io.Copy(file, counting{content, g.Progress})
	if err == nil && content.Size >= 0 && n != content.Size {
		err = io.ErrUnexpectedEOF
	}
	if err != nil {
		return fmt.Errorf("%s broke off after %d bytes: %w", entry.Address, n, bare(err))
	}
	if err := errors.Join(file.Sync(), file.Close()); err != nil {
		return fmt.Errorf("%s cannot be made safe: %w", local, bare(err))
	}
	if entry.Modified != nil {
		if err := g.Root.Chtimes(temporary, time.Now(), *entry.Modified); err != nil {
			return fmt.Errorf("the time of %s cannot be set: %w", local, bare(err))
		}
	}
	if err := g.settle(temporary, local); err != nil {
		return err
	}
	g.Progress.Files.Add(1)
	return nil
}

// settle gives a file its name. It replaces an existing file only if that was agreed.
func (g Get) settle(temporary, local string) error {
	if g.Replace {
		return bare(g.Root.Rename(temporary, local))
	}
	err := g.Root.Link(temporary, local)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s came to be there meanwhile, and is left as it is", local)
	}
	if err != nil { // a disk that knows no links
		if _, there := g.Root.Lstat(local); !errors.Is(there, fs.ErrNotExist) {
			return fmt.Errorf("%s came to be there meanwhile, and is left as it is", local)
		}
		return bare(g.Root.Rename(temporary, local))
	}
	return bare(g.Root.Remove(temporary))
}

type counting struct {
	io.Reader
	progress *Progress
}

func (c counting) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.progress.Bytes.Add(int64(n))
	return n, err
}

// bare takes the path that the system adds off an error.
func bare(err error) error {
	var path *fs.PathError
	var link *os.LinkError
	switch {
	case errors.As(err, &path):
		return path.Err
	case errors.As(err, &link):
		return link.Err
	}
	return err
}
