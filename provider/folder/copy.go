package folder

import (
	"context"
	"io"

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
	written, err := a.arrive(store.Writing{Place: to, Size: there.Size, Modified: there.Modified, If: store.Absent, Run: run}, func(arrival *arrival) (store.Hash, error) {
		var count int64
		for err := error(nil); err != io.EOF; {
			if err := ctx.Err(); err != nil {
				return store.Hash{}, err
			}
			var n int64
			n, err = io.CopyN(arrival.file, source.file, copyAtOnce) // by copy_file_range
			if count += n; err != nil && err != io.EOF {
				return store.Hash{}, wrap("copy", from.String(), err)
			}
		}
		if now, err := source.look(); err != nil || !store.SameRevision(now.Revision, revision) {
			return store.Hash{}, store.Errorf(store.ErrChanged, "%s changed meanwhile", from)
		}
		return store.Hash{}, exactly(count, there.Size)
	})
	return written.Entry, err
}

func exactly(count, size int64) error {
	if size >= 0 && count != size {
		return store.ShortBody(count, size)
	}
	return nil
}
