package drive

import (
	"context"
	"sync"
	"syscall"
	"time"

	"github.com/hanwen/go-fuse/v2/fs"
	"github.com/hanwen/go-fuse/v2/fuse"

	"deftheron/client"
)

// node is a file or folder of the mount.
type node struct {
	fs.Inode
	m *mounted

	mu    sync.Mutex
	entry client.DriveEntry
	// staged is the content that is being written; nil if none is.
	staged *staged
	// listing is what the folder held when it was listed, by name; nil if it is not remembered.
	listing  map[string]client.DriveEntry
	listedAt time.Time
	epoch    int
}

var (
	_ fs.NodeLookuper  = (*node)(nil)
	_ fs.NodeReaddirer = (*node)(nil)
	_ fs.NodeGetattrer = (*node)(nil)
	_ fs.NodeSetattrer = (*node)(nil)
	_ fs.NodeOpener    = (*node)(nil)
	_ fs.NodeCreater   = (*node)(nil)
	_ fs.NodeMkdirer   = (*node)(nil)
	_ fs.NodeUnlinker  = (*node)(nil)
	_ fs.NodeRmdirer   = (*node)(nil)
	_ fs.NodeRenamer   = (*node)(nil)
	_ fs.NodeStatfser  = (*node)(nil)
)

// path is that of the node on the drive.
func (n *node) path() string { return n.m.path(n.Path(nil)) }

// below is the path of something in a folder.
func (n *node) below(name string) string {
	at := n.Path(nil)
	if at != "" {
		at += "/"
	}
	return n.m.path(at + name)
}

// mode is the kind of an entry as the system has it.
func mode(entry client.DriveEntry) uint32 {
	if entry.Folder {
		return fuse.S_IFDIR
	}
	return fuse.S_IFREG
}

// fill writes what is known of an entry. n.mu is held.
func (n *node) fill(out *fuse.Attr) {
	writable := uint32(0o200)
	if n.m.ReadOnly {
		writable = 0
	}
	out.Mode, out.Nlink, out.Blksize = mode(n.entry)|0o444|writable, 1, 1<<20
	if n.entry.Folder {
		out.Mode |= 0o111
	}
	modified := n.entry.Modified
	if n.staged != nil {
		out.Size = uint64(n.staged.size())
		modified = n.staged.modified
	} else if n.entry.Size > 0 {
		out.Size = uint64(n.entry.Size)
	}
	if modified.Unix() <= 0 {
		modified = n.m.started // the provider does not tell
	}
	out.Blocks = (out.Size + 511) / 512
	out.SetTimes(&modified, &modified, &modified)
	out.Owner = fuse.Owner{Uid: uint32(syscall.Getuid()), Gid: uint32(syscall.Getgid())}
}

// list returns what is in the folder, and remembers it for a short time.
func (n *node) list(ctx context.Context) (map[string]client.DriveEntry, error) {
	entries, err := n.m.drive.List(ctx, n.path())
	if err != nil {
		return nil, err
	}
	byName := make(map[string]client.DriveEntry, len(entries))
	for _, one := range entries {
		byName[one.Name] = one
	}
	epoch, ok := n.m.remember(len(byName))
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.listing = nil; ok {
		n.listing, n.listedAt, n.epoch = byName, time.Now(), epoch
	}
	return byName, nil
}

// forget forgets what was listed.
func (n *node) forget() {
	n.mu.Lock()
	n.listing = nil
	n.mu.Unlock()
}

// known answers from the listing; sure is false if there is none that is young enough.
func (n *node) known(name string) (entry client.DriveEntry, there, sure bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.listing == nil || time.Since(n.listedAt) > listedFor || n.epoch != n.m.now() {
		n.listing = nil
		return entry, false, false
	}
	entry, there = n.listing[name]
	return entry, there, true
}

// Lookup implements fs.NodeLookuper.
func (n *node) Lookup(ctx context.Context, name string, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	if child := n.GetChild(name); child != nil {
		if one := child.Operations().(*node); one.isStaged() {
			one.mu.Lock()
			one.fill(&out.Attr)
			one.mu.Unlock()
			return child, fs.OK
		}
	}
	entry, there, sure := n.known(name)
	if !sure {
		var err error
		if entry, err = n.m.drive.Stat(ctx, n.below(name)); err != nil {
			return nil, n.m.errno("look", n.below(name), err)
		}
	} else if !there {
		return nil, syscall.ENOENT
	}
	return n.child(ctx, name, entry, out), fs.OK
}

// child returns the inode of an entry of the folder.
func (n *node) child(ctx context.Context, name string, entry client.DriveEntry, out *fuse.EntryOut) *fs.Inode {
	child := n.GetChild(name)
	if child == nil || child.Mode() != mode(entry) {
		child = n.NewInode(ctx, &node{m: n.m, entry: entry}, fs.StableAttr{Mode: mode(entry)})
	}
	one := child.Operations().(*node)
	one.mu.Lock()
	defer one.mu.Unlock()
	one.entry = entry
	one.fill(&out.Attr)
	return child
}

// Readdir implements fs.NodeReaddirer.
func (n *node) Readdir(ctx context.Context) (fs.DirStream, syscall.Errno) {
	entries, err := n.list(ctx)
	if err != nil {
		return nil, n.m.errno("list", n.path(), err)
	}
	listed := make([]fuse.DirEntry, 0, len(entries))
	for name, entry := range entries {
		listed = append(listed, fuse.DirEntry{Name: name, Mode: mode(entry)})
	}
	for name, child := range n.Children() { // files that are being made
		if one, ok := child.Operations().(*node); ok && one.isStaged() {
			if _, there := entries[name]; !there {
				listed = append(listed, fuse.DirEntry{Name: name, Mode: fuse.S_IFREG})
			}
		}
	}
	return fs.NewListDirStream(listed), fs.OK
}

// Getattr implements fs.NodeGetattrer.
func (n *node) Getattr(ctx context.Context, _ fs.FileHandle, out *fuse.AttrOut) syscall.Errno {
	if !n.IsRoot() && !n.isStaged() {
		name, parent := n.Parent()
		entry, there, sure := client.DriveEntry{}, false, false
		if parent != nil {
			entry, there, sure = parent.Operations().(*node).known(name)
		}
		if !sure || !there {
			var err error
			if entry, err = n.m.drive.Stat(ctx, n.path()); err != nil {
				return n.m.errno("look", n.path(), err)
			}
		}
		n.mu.Lock()
		if entry.Folder == n.entry.Folder {
			n.entry = entry
		}
		n.mu.Unlock()
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	n.fill(&out.Attr)
	return fs.OK
}

// Mkdir implements fs.NodeMkdirer.
func (n *node) Mkdir(ctx context.Context, name string, _ uint32, out *fuse.EntryOut) (*fs.Inode, syscall.Errno) {
	defer n.forget()
	if err := n.m.drive.MakeFolder(context.WithoutCancel(ctx), n.below(name)); err != nil {
		return nil, n.m.errno("make a folder", n.below(name), err)
	}
	return n.child(ctx, name, client.DriveEntry{Name: name, Folder: true, Modified: time.Now()}, out), fs.OK
}

// Unlink implements fs.NodeUnlinker.
func (n *node) Unlink(ctx context.Context, name string) syscall.Errno {
	defer n.forget()
	if child := n.GetChild(name); child != nil && child.Operations().(*node).dropNew() {
		return fs.OK // it was not on the drive yet
	}
	err := n.m.drive.Remove(context.WithoutCancel(ctx), n.below(name))
	return n.m.errno("delete", n.below(name), err)
}

// Rmdir implements fs.NodeRmdirer.
func (n *node) Rmdir(ctx context.Context, name string) syscall.Errno {
	entries, err := n.m.drive.List(ctx, n.below(name))
	if err != nil {
		return n.m.errno("list", n.below(name), err)
	}
	if len(entries) > 0 {
		return syscall.ENOTEMPTY
	}
	defer n.forget()
	err = n.m.drive.Remove(context.WithoutCancel(ctx), n.below(name)) // refused if something came in meanwhile
	return n.m.errno("delete", n.below(name), err)
}

// Rename implements fs.NodeRenamer.
func (n *node) Rename(ctx context.Context, name string, to fs.InodeEmbedder, newName string, flags uint32) syscall.Errno {
	target := to.(*node)
	if flags&fs.RENAME_EXCHANGE != 0 {
		return syscall.EINVAL
	}
	const noReplace = 1
	if flags&noReplace != 0 {
		if _, err := n.m.drive.Stat(ctx, target.below(newName)); err == nil {
			return syscall.EEXIST
		}
	}
	child := n.GetChild(name)
	if child != nil {
		if failed := child.Operations().(*node).save(ctx); failed != fs.OK {
			return failed
		}
	}
	defer n.forget()
	defer target.forget()
	from, goal := n.below(name), target.below(newName)
	if err := n.m.drive.Move(context.WithoutCancel(ctx), from, goal); err != nil {
		return n.m.errno("rename", from, err)
	}
	if child != nil && !child.IsDir() {
		one := child.Operations().(*node)
		if entry, err := n.m.drive.Stat(context.WithoutCancel(ctx), goal); err == nil {
			one.moved(entry)
		}
	}
	return fs.OK
}

// Statfs implements fs.NodeStatfser.
func (n *node) Statfs(ctx context.Context, out *fuse.StatfsOut) syscall.Errno {
	used, free, err := n.m.drive.Space(ctx, n.path())
	if err != nil {
		return n.m.errno("space", n.path(), err)
	}
	const block = 4096
	out.Bsize, out.Frsize, out.NameLen = block, block, 255
	if free < 0 { // the provider does not tell
		free = 1 << 50
	}
	out.Bfree, out.Bavail = uint64(free)/block, uint64(free)/block
	out.Blocks = out.Bfree + uint64(max(0, used))/block
	return fs.OK
}
