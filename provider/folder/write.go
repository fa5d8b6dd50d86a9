package folder

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// buffers are what contents are copied through, one for each write in flight.
var buffers = sync.Pool{New: func() any { b := make([]byte, 256<<10); return &b }}

// flushEvery is after how many bytes the disk is set to work, so that the sync
// at the end of a large file finds little left to do.
const flushEvery = 8 << 20

// Write implements store.Store.
func (a *account) Write(ctx context.Context, writing store.Writing) (store.Written, error) {
	return a.arrive(ctx, writing, func(arrival *arrival) (store.Hash, error) { return arrival.receive(ctx, writing) })
}

// arrive writes a file under a name of ours by receive, and gives it its own.
func (a *account) arrive(ctx context.Context, writing store.Writing,
	receive func(*arrival) (store.Hash, error)) (_ store.Written, err error) {
	local, err := localPath(writing.Place.Folder.Path)
	if err != nil {
		return store.Written{}, err
	}
	if err := nameRules.Check(writing.Place.Folder.Path, writing.Place.Name); err != nil {
		return store.Written{}, err
	}
	dir, err := a.take(local)
	if err != nil {
		return store.Written{}, wrap("open the folder of", writing.Place.String(), err)
	}
	defer func() { a.handles.put(local, dir, err != nil) }()

	arrival := &arrival{dir: dir, place: writing.Place, temporary: arrivingName(writing.Run), keep: writing.Keep}
	if !arrival.keep.IsStart() {
		var kept string
		if kept, err = localPath(writing.Keep.Folder.Path); err != nil {
			return store.Written{}, err
		}
		if arrival.keepDir, err = a.take(kept); err != nil {
			return store.Written{}, wrap("open the folder of", writing.Keep.String(), err)
		}
		defer func() { a.handles.put(kept, arrival.keepDir, err != nil) }()
	}
	if writing.Size < 0 || writing.Size > worthALook || !writing.If.IsAbsent() {
		// Looked at before the content is read, so that nothing is read in vain.
		if err := arrival.check(writing.If); err != nil {
			return store.Written{}, err
		}
	}
	if err := a.room(writing.Size); err != nil {
		return store.Written{}, err
	}
	defer arrival.abandon()
	if arrival.file, err = openAt(dir.fd, arrival.temporary, unix.O_WRONLY|unix.O_CREAT|unix.O_EXCL, 0o666); err != nil {
		return store.Written{}, wrap("write", writing.Place.String(), err)
	}
	verification, err := receive(arrival)
	if err == nil {
		err = arrival.finish(ctx, writing)
	}
	if err != nil {
		return store.Written{}, err
	}
	entry, err := arrival.settle(writing.If)
	if err != nil {
		return store.Written{}, err
	}
	a.touched(local)
	return store.Written{Entry: entry, Verification: verification}, nil
}

// worthALook is the size in bytes above which a write checks whether the name is taken
// before it reads the content.
const worthALook = 64 << 10

func arrivingName(run string) string {
	var random [6]byte
	rand.Read(random[:])
	return store.ArrivingName(run, hex.EncodeToString(random[:]))
}

// room refuses a large file that there is no space for, before it is read.
func (a *account) room(size int64) error {
	const worthAsking = 64 << 20
	var stat unix.Statfs_t
	if size < worthAsking || unix.Statfs(a.real, &stat) != nil {
		return nil
	}
	if free := int64(stat.Bavail) * int64(stat.Bsize); size > free {
		return store.Errorf(store.ErrNoSpace, "%d bytes are needed and %d are free", size, free)
	}
	return nil
}

// arrival is one file on its way into a folder.
type arrival struct {
	dir       *handle // of the folder
	place     store.Ref
	temporary string
	file      *file
	settled   bool
	keep      store.Ref // where what is replaced goes; the start for nowhere
	keepDir   *handle   // of its folder
	// swappedOut is the name of the old content once both have been exchanged.
	swappedOut string
}

func (r *arrival) abandon() {
	if r.file == nil {
		return
	}
	r.file.close()
	if !r.settled {
		_ = unix.Unlinkat(r.dir.fd, r.temporary, 0)
	}
}

// receive writes the content to the temporary name.
func (r *arrival) receive(ctx context.Context, writing store.Writing) (store.Hash, error) {
	stream, err := writing.Content.Open(ctx)
	if err != nil {
		return store.Hash{}, err
	}
	defer stream.Close()
	count, err := r.copy(ctx, stream)
	if err == nil {
		err = exactly(count, writing.Size)
	}
	return stream.Sum(), err
}

// finish sets the time of the arrived file, and syncs it.
func (r *arrival) finish(ctx context.Context, writing store.Writing) error {
	if !writing.Modified.IsZero() {
		times := []unix.Timespec{
			unix.NsecToTimespec(time.Now().UnixNano()), unix.NsecToTimespec(writing.Modified.UnixNano()),
		}
		if err := unix.UtimesNanoAt(r.dir.fd, r.temporary, times, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return wrap("set the time of", r.place.String(), err)
		}
	}
	if err := r.dir.volume.sync(ctx, r.file); err != nil {
		return wrap("sync", r.place.String(), err)
	}
	return nil
}

func (r *arrival) copy(ctx context.Context, stream *store.Stream) (count int64, err error) {
	buffer := buffers.Get().(*[]byte)
	defer buffers.Put(buffer)
	var flushed int64
	hole := false // at the end
	for {
		if err := ctx.Err(); err != nil {
			return count, err
		}
		n, err := stream.Read(*buffer)
		if n > 0 {
			if hole = isHole((*buffer)[:n]); hole {
				_, err := r.file.seek(int64(n), io.SeekCurrent)
				if err != nil {
					return count, wrap("write", r.place.String(), err)
				}
			} else if _, err := r.file.Write((*buffer)[:n]); err != nil {
				return count, wrap("write", r.place.String(), err)
			}
			count += int64(n)
		}
		if err == io.EOF {
			if hole {
				err = wrap("write", r.place.String(), r.file.truncate(count))
				return count, err
			}
			return count, nil
		}
		if err != nil {
			return count, err
		}
		if count-flushed >= flushEvery {
			// Advice alone: an error here says nothing about the data.
			_ = unix.SyncFileRange(r.file.fd, flushed, count-flushed, unix.SYNC_FILE_RANGE_WRITE)
			flushed = count
		}
	}
}

// zeros is what nothing needs to be written of.
var zeros [64 << 10]byte

// isHole reports whether a long run of bytes is all zero: a sparse file stays sparse.
func isHole(p []byte) bool {
	const least = 16 << 10
	if len(p) < least || p[0] != 0 || p[len(p)-1] != 0 || p[len(p)/2] != 0 {
		return false
	}
	for ; len(p) > 0; p = p[min(len(p), len(zeros)):] {
		if part := p[:min(len(p), len(zeros))]; !bytes.Equal(part, zeros[:len(part)]) {
			return false
		}
	}
	return true
}

// check looks whether the condition holds now.
func (r *arrival) check(condition store.Condition) error {
	_, err := r.expected(condition)
	return err
}

// expected returns the present entry, if the condition holds.
func (r *arrival) expected(condition store.Condition) (store.Entry, error) {
	entry, err := entryAt(r.dir.fd, r.place.Name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return entry, wrap("look at", r.place.String(), err)
	}
	there := err == nil
	if there && entry.Kind == store.KindFolder {
		return entry, store.Errorf(store.ErrExists, "a folder is at %s", r.place)
	}
	if there && condition.IsAbsent() {
		return entry, store.Errorf(store.ErrExists, "%s already exists", r.place)
	}
	if revision, ok := condition.Expect(); ok && (!there || !store.SameRevision(entry.Revision, revision)) {
		return entry, store.Errorf(store.ErrChanged, "%s changed in the meantime", r.place)
	}
	return entry, nil
}

// settle gives the file its name, if the condition holds.
func (r *arrival) settle(condition store.Condition) (store.Entry, error) {
	var err error
	_, atRevision := condition.Expect()
	switch {
	case condition.IsAbsent():
		err = r.create()
	case atRevision:
		err = r.exchange(condition)
	case !r.keep.IsStart():
		err = store.Errorf(store.ErrUnsupported, "what is replaced at %s is kept at a known revision alone", r.place)
	default:
		if err = r.check(condition); err == nil {
			err = unix.Renameat(r.dir.fd, r.temporary, r.dir.fd, r.place.Name)
		}
	}
	if condition.IsAbsent() && errors.Is(err, fs.ErrExist) {
		if there := r.check(condition); there != nil { // it tells what
			err = there
		}
	}
	if err != nil {
		return store.Entry{}, wrap("put in place", r.place.String(), err)
	}
	r.settled = true
	stat, err := r.file.stat()
	if err != nil {
		return store.Entry{}, wrap("look at", r.place.String(), err)
	}
	entry := entryOf(r.place.Name, &stat)
	entry.Revision = store.SettledRevision(entry.Revision)
	return entry, nil
}

func (r *arrival) create() error {
	err := unix.Renameat2(r.dir.fd, r.temporary, r.dir.fd, r.place.Name, unix.RENAME_NOREPLACE)
	if !unsupported(err) {
		return err
	}
	if err := unix.Linkat(r.dir.fd, r.temporary, r.dir.fd, r.place.Name, 0); err != nil {
		return err
	}
	return unix.Unlinkat(r.dir.fd, r.temporary, 0)
}

// exchange swaps the two names, and back again if what came out is not what
// the condition expects. The old content goes last: away, or to where it is kept.
func (r *arrival) exchange(condition store.Condition) error {
	before, err := r.expected(condition)
	if err != nil {
		return err
	}
	linked, err := r.link()
	if err != nil {
		return err
	}
	if err = r.swap(before, linked); err != nil && linked {
		_ = unix.Unlinkat(r.keepDir.fd, r.keep.Name, 0)
	}
	switch {
	case err != nil || r.swappedOut == "":
		return err
	case !r.keep.IsStart() && !linked:
		return unix.Renameat2(r.dir.fd, r.swappedOut, r.keepDir.fd, r.keep.Name, unix.RENAME_NOREPLACE)
	}
	return unix.Unlinkat(r.dir.fd, r.swappedOut, 0)
}

// link gives the file that is about to be replaced a second name in history, if the file
// system can, so that it exists at every moment.
func (r *arrival) link() (linked bool, err error) {
	if r.keep.IsStart() {
		return false, nil
	}
	err = unix.Linkat(r.dir.fd, r.place.Name, r.keepDir.fd, r.keep.Name, 0)
	switch {
	case err == nil:
		return true, nil
	case unsupported(err), errors.Is(err, unix.EPERM), errors.Is(err, unix.EXDEV), errors.Is(err, unix.EMLINK):
		return false, nil
	case errors.Is(err, fs.ErrExist):
		return false, store.Errorf(store.ErrExists, "%s already exists", r.keep)
	}
	return false, wrap("keep the old content of", r.place.String(), err)
}

// swap exchanges the two names, and leaves the old content under the name swappedOut, unless
// the file system can only replace it.
func (r *arrival) swap(before store.Entry, linked bool) error {
	swap := func() error {
		return unix.Renameat2(r.dir.fd, r.temporary, r.dir.fd, r.place.Name, unix.RENAME_EXCHANGE)
	}
	err := swap()
	if unsupported(err) {
		if !r.keep.IsStart() && !linked {
			if err := unix.Renameat(r.dir.fd, r.place.Name, r.keepDir.fd, r.keep.Name); err != nil {
				return err
			}
		}
		return unix.Renameat(r.dir.fd, r.temporary, r.dir.fd, r.place.Name)
	}
	if errors.Is(err, fs.ErrNotExist) {
		return store.Errorf(store.ErrChanged, "%s was removed meanwhile", r.place)
	}
	if err != nil {
		return err
	}
	came, err := entryAt(r.dir.fd, r.temporary)
	if err != nil || !sameContent(before, came) {
		if back := swap(); back != nil {
			r.settled = true // keep both: what came out stays under the temporary name
			return back
		}
		return store.Errorf(store.ErrChanged, "%s changed in the meantime", r.place)
	}
	r.swappedOut = r.temporary
	return nil
}

func unsupported(err error) bool {
	return errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) || errors.Is(err, unix.EOPNOTSUPP)
}

// keeps is store.Capabilities.Keeps: the replaced file is identified by its revision.
func keeps(writing store.Writing) bool {
	_, atRevision := writing.If.Expect()
	return atRevision
}
