package ftp

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jlaffaye/ftp"
	"golang.org/x/sync/errgroup"

	"deftheron/core/store"
)

// List implements fileserver.Server: by MLSD (RFC 3659, section 7), else by LIST,
// with the time of each file asked for by itself.
func (s *server) List(ctx context.Context, path string) ([]store.Entry, error) {
	var entries []store.Entry
	err := s.pool.do(ctx, func(c *control) (err error) {
		if s.found().machine {
			entries, err = c.listForMachines(path)
		} else {
			entries, err = c.listForPeople(path)
		}
		if code := replyOf(err); code == ftp.StatusFileUnavailable || code == ftp.StatusBadArguments {
			return notFound("folder "+path, err)
		}
		return err
	})
	if err == nil && !s.found().machine {
		entries, err = s.timed(ctx, path, entries)
	}
	return entries, err
}

// timed gives files the times that the server tells of each by itself, to the
// second, asking over as many connections as there may be. What was removed since
// is left out.
func (s *server) timed(ctx context.Context, path string, entries []store.Entry) ([]store.Entry, error) {
	lanes := min(s.pool.allowed(), 1+len(entries)/fewFiles)
	group, ctx := errgroup.WithContext(ctx)
	for lane := range lanes {
		group.Go(func() error {
			return s.pool.do(ctx, func(c *control) error {
				for i := lane; i < len(entries); i += lanes {
					entry := &entries[i]
					if entry.Kind != store.KindFile {
						continue
					}
					precise, err := timeOf(c, strings.TrimSuffix(path, "/")+"/"+entry.Name)
					if store.KindOf(err) == store.ErrNotFound {
						entry.Name = ""
						continue
					}
					if err != nil {
						return err
					}
					if !precise.IsZero() {
						entry.Modified = precise
					}
				}
				return nil
			})
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	return slices.DeleteFunc(entries, func(entry store.Entry) bool { return entry.Name == "" }), nil
}

// fewFiles are those that one more connection is not worth it for.
const fewFiles = 16

func (c *control) listForMachines(path string) ([]store.Entry, error) {
	_, lines, err := c.list(path)
	if err != nil {
		return nil, err
	}
	return parseLines(lines, parseFacts)
}

// list is the library's, with the lines that it was made of.
func (c *control) list(path string) (entries []*ftp.Entry, lines string, err error) {
	c.listing = &strings.Builder{}
	defer func() { c.listing = nil }()
	entries, err = c.ftp.List(path)
	return entries, c.listing.String(), err
}

func (c *control) listForPeople(path string) ([]store.Entry, error) {
	if err := c.ftp.ChangeDir(path); err != nil {
		return nil, err
	}
	told, listed, err := c.list("")
	if err != nil {
		return nil, err
	}
	if lines := countLines(listed); lines != len(told) {
		return nil, store.Errorf(store.ErrRefused,
			"of the %d lines in which the server lists %s, %d could be read; a server with MLSD is needed here", lines, path, len(told))
	}
	entries := make([]store.Entry, 0, len(told))
	for _, one := range told {
		if one.Name == "." || one.Name == ".." {
			continue
		}
		entry := store.Entry{Name: one.Name, Size: int64(one.Size), Modified: one.Time, Kind: store.KindOther}
		switch one.Type {
		case ftp.EntryTypeFolder:
			entry.Kind = store.KindFolder
		case ftp.EntryTypeFile:
			entry.Kind = store.KindFile
		}
		entries = append(entries, entry)
	}
	return entries, nil
}

// countLines counts those that are of an entry.
func countLines(listing string) (n int) {
	for line := range strings.Lines(listing) {
		line = strings.TrimRight(line, "\r\n")
		if line != "" && !strings.HasPrefix(line, "total ") {
			n++
		}
	}
	return n
}

// parseLines parses a listing. A line that cannot be parsed is an error.
func parseLines(listing string, parse func(string) (store.Entry, bool, error)) ([]store.Entry, error) {
	var entries []store.Entry
	for line := range strings.Lines(listing) {
		line = strings.TrimSuffix(strings.TrimSuffix(line, "\n"), "\r")
		if line == "" {
			continue
		}
		entry, itself, err := parse(line)
		if err != nil {
			return nil, store.Errorf(store.ErrRefused, "the server listed %q, which cannot be read: %w", line, err)
		}
		if !itself {
			entries = append(entries, entry)
		}
	}
	return entries, nil
}

// parseFacts reads a line of MLSD: facts, a blank, and the name (RFC 3659, section
// 7.2). itself is true for the folder that is listed and for the one above it.
func parseFacts(line string) (entry store.Entry, itself bool, err error) {
	facts, name, ok := strings.Cut(line, " ")
	if !ok || name == "" {
		return entry, false, fmt.Errorf("there is no name")
	}
	entry = store.Entry{Name: name, Size: -1}
	for fact := range strings.SplitSeq(strings.TrimSuffix(facts, ";"), ";") {
		key, value, ok := strings.Cut(fact, "=")
		if !ok {
			return entry, false, fmt.Errorf("%q is not a fact", fact)
		}
		switch strings.ToLower(key) {
		case "type":
			switch strings.ToLower(value) {
			case "dir":
				entry.Kind = store.KindFolder
			case "file":
				entry.Kind = store.KindFile
			case "cdir", "pdir":
				itself = true
			default: // such as OS.unix=slink
				entry.Kind = store.KindOther
			}
		case "size":
			if entry.Size, err = strconv.ParseInt(value, 10, 64); err != nil || entry.Size < 0 {
				return entry, false, fmt.Errorf("%q is not a size", value)
			}
		case "modify":
			if entry.Modified, err = parseTime(value); err != nil {
				return entry, false, err
			}
		}
	}
	if entry.Kind == "" && !itself {
		return entry, false, fmt.Errorf("it does not say what it is")
	}
	return entry, itself, nil
}

// parseTime reads a time of RFC 3659, section 2.3, to the second, as MLST gives it.
func parseTime(value string) (time.Time, error) {
	seconds, _, _ := strings.Cut(value, ".")
	return time.Parse("20060102150405", seconds)
}
