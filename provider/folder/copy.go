package folder

import (
	"context"
	"errors"
	"io"

	"golang.org/x/sys/unix"

	"deftheron/core/store"
)

// copyAtOnce is how much is copied between two looks at whether it still should be.
const copyAtOnce = 64 << 20

// Copy is store.Capabilities.Copy: within the kernel, which shares the blocks where the
// file system can.
func (a *account) Copy(ctx context.Context, from store.Ref, revision string, to store.Ref, run string) (store.Entry, error) {
	there, err := a.Stat(ctx, from.As(store.KindFile))
	if err != nil {
		return store.Entry{}, err
	}
	if revision == "" {
		revision = there.Revision
	}
	body, err := a.Open(ctx, store.Reading{Place: from, Revision: revision})
	if err != nil {
		return store.Entry{}, err
	}
	defer body.Close()
	source := body.(*reader)
	written, err := a.arrive(ctx, store.Writing{Place: to, Size: there.Size, Modified: there.Modified, If: store.Absent, Run: run},
		func(arrival *arrival) (store.Hash, error) {
			count, err := copyData(ctx, arrival.file, source.file)
			if err != nil {
				return store.Hash{}, wrap("copy", from.String(), err)
			}
			if err := source.end(); err != io.EOF {
				return store.Hash{}, err
			}
			return store.Hash{}, exactly(count, there.Size)
		})
	return written.Entry, err
}

// copyData copies the content of a file with copy_file_range, and keeps its holes. It
// returns the file's size.
func copyData(ctx context.Context, to, from *file) (size int64, err error) {
	if size, err = from.seek(0, io.SeekEnd); err != nil {
		return 0, err
	}
	if err := to.truncate(size); err != nil {
		return 0, err
	}
	for at := int64(0); at < size; {
		begin, end := at, size
		switch data, err := from.seek(at, unix.SEEK_DATA); {
		case errors.Is(err, unix.ENXIO): // holes alone
			return size, nil
		case err == nil:
			begin = data
			if hole, err := from.seek(data, unix.SEEK_HOLE); err == nil {
				end = hole
			}
		} // where the file system knows no holes all is data
		for _, file := range []*file{from, to} {
			if _, err := file.seek(begin, io.SeekStart); err != nil {
				return 0, err
			}
		}
		for at = begin; at < end; {
			if err := ctx.Err(); err != nil {
				return 0, err
			}
			n, err := copyRange(to, from, min(copyAtOnce, end-at))
			if at += n; err == io.EOF { // it has become shorter
				return at, nil
			}
			if err != nil {
				return 0, err
			}
		}
	}
	return size, nil
}

func exactly(count, size int64) error {
	if size >= 0 && count != size {
		return store.ShortBody(count, size)
	}
	return nil
}
