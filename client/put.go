package client

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

	"deftheron/contract"
)

// Put sends a file or a folder of this machine, with all that is in it, to a
// folder of the tree. Nothing outside of Root is read: links are left out.
type Put struct {
	Client *Client
	Root   *os.Root
	// Name of the file or folder in Root, and of what becomes of it.
	Name string
	// To is the address of the folder that it goes to, whether that is there or
	// not.
	To string
	// Replace lets files that are there be replaced.
	Replace  bool
	Progress *Progress

	// there holds the entries found at the target, by path below To.
	there map[string]contract.Entry
}

// each calls do for the file or folder and all that is in it, folders first, by
// path.
func (p *Put) each(do func(local string, info fs.FileInfo) error) error {
	return fs.WalkDir(p.Root.FS(), p.Name, func(local string, entry fs.DirEntry, err error) error {
		if err != nil {
			return fmt.Errorf("%s cannot be read: %w", local, bare(err))
		}
		info, err := entry.Info()
		if errors.Is(err, fs.ErrNotExist) {
			return nil // removed since it was listed
		}
		if err != nil {
			return fmt.Errorf("%s cannot be read: %w", local, bare(err))
		}
		return do(local, info)
	})
}

// Survey looks at both sides before anything is sent.
func (p *Put) Survey(ctx context.Context, survey *Survey) error {
	p.there = map[string]contract.Entry{}
	missing := map[string]bool{} // folders that are not at the target, with what is in them
	return p.each(func(local string, info fs.FileInfo) error {
		if !utf8.ValidString(path.Base(local)) {
			survey.refuse(fmt.Sprintf("%q", local), "the name is not UTF-8; rename the file")
			if info.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if !info.IsDir() && !info.Mode().IsRegular() {
			survey.Skipped++
			return nil
		}
		there, ok, err := p.lookUp(ctx, local, missing)
		if err != nil {
			return err
		}
		if info.IsDir() {
			survey.Folders++
			missing[local] = !ok
		} else {
			survey.Files++
			survey.Bytes += info.Size()
		}
		switch {
		case ok && (there.Kind == "folder") != info.IsDir():
			survey.refuse(local, "%s is a %s", there.Address, there.Kind)
		case ok && !info.IsDir():
			survey.Replaces++
		}
		return nil
	})
}

// lookUp finds the entry at the target for a local path. An existing folder is listed
// once.
func (p *Put) lookUp(ctx context.Context, local string, missing map[string]bool) (contract.Entry, bool, error) {
	parent := path.Dir(local)
	if local == p.Name {
		if err := p.list(ctx, p.To, ""); err != nil {
			return contract.Entry{}, false, err
		}
	} else if missing[parent] {
		return contract.Entry{}, false, nil
	}
	entry, ok := p.there[local]
	if ok && entry.Kind == "folder" {
		return entry, true, p.list(ctx, entry.Address, local)
	}
	return entry, ok, nil
}

func (p *Put) list(ctx context.Context, address, local string) error {
	for entry, err := range p.Client.Entries(ctx, &Listing{Address: address, Fresh: true}) {
		var problem *contract.Problem
		if errors.As(err, &problem) && problem.Status == 404 && local == "" && problem.Cause == "not-found" {
			return p.account(ctx, err)
		}
		if err != nil {
			return err
		}
		if entry.Address == address { // the listing of a file is the file itself
			return &contract.Problem{Status: 409, Detail: address + " is a file.", Remedy: "Name the folder that it is to go to."}
		}
		p.there[path.Join(local, entry.Name)] = entry
	}
	return nil
}

// account is content with a folder that is missing, and not with an account that
// is.
func (p *Put) account(ctx context.Context, missing error) error {
	accounts, err := p.Client.Accounts(ctx)
	if err != nil {
		return err
	}
	for _, account := range accounts {
		if p.To == account.Address || len(p.To) > len(account.Address) && p.To[:len(account.Address)+1] == account.Address+"/" {
			return nil
		}
	}
	return missing
}

// Do sends, after Survey.
func (p *Put) Do(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(atOnce)
	err := p.each(func(local string, info fs.FileInfo) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case !utf8.ValidString(path.Base(local)):
			if info.IsDir() {
				return fs.SkipDir
			}
		case info.IsDir():
			if there, ok := p.there[local]; ok && there.Kind == "folder" {
				return nil
			}
			_, err := p.Client.MakeFolder(ctx, contract.NewFolder{Address: p.To, Names: steps(local), Parents: true})
			return err
		case info.Mode().IsRegular():
			group.Go(func() error { return p.file(ctx, local, info) })
		}
		return nil
	})
	return errors.Join(group.Wait(), ignoreCancelled(err))
}

// steps are the names of a path.
func steps(local string) (names []string) {
	for local != "." && local != "" {
		names = append([]string{path.Base(local)}, names...)
		local = path.Dir(local)
	}
	return names
}

func (p *Put) file(ctx context.Context, local string, info fs.FileInfo) error {
	file, err := p.Root.Open(local)
	if err != nil {
		return fmt.Errorf("%s cannot be read: %w", local, bare(err))
	}
	defer file.Close()
	upload := Upload{Address: p.To, Names: steps(local), Size: info.Size(), Modified: info.ModTime(), Body: counting{file, p.Progress}}
	if there, ok := p.there[local]; ok && p.Replace {
		upload.Replace = there.Revision
	}
	if _, err := p.Client.Write(ctx, upload); err != nil {
		return err
	}
	p.Progress.Files.Add(1)
	return nil
}
