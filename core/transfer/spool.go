package transfer

import (
	"bytes"
	"context"
	"io"
	"os"

	"deftheron/core/compare"
	"deftheron/core/store"
)

// heldSize is up to which size content of unknown size is held in memory.
const heldSize = 1 << 20

// spooled is content whose size was unknown until all of it was read, such as the
// export of a document. It is kept in memory if it is small, otherwise in a file without
// a name.
type spooled struct {
	size int64
	data []byte
	file *os.File
}

// spool reads the item's content to its end.
func (a *attempt) spool(ctx context.Context) (*spooled, error) {
	body, err := a.route.Source.Store.Open(ctx, store.Reading{Place: a.source(), Revision: a.item.Source.Revision})
	if err != nil {
		return nil, compare.NewSourceError(err)
	}
	defer body.Close()
	source := a.read(ctx, a.paying(ctx, body))
	s := &spooled{}
	if s.data, err = io.ReadAll(io.LimitReader(source, heldSize)); err != nil {
		return nil, err
	}
	s.size = int64(len(s.data))
	if s.size == heldSize {
		if err := s.spill(source, a.Scratch); err != nil {
			s.close()
			return nil, err
		}
	}
	a.progress.resize(a.item, s.size)
	a.item.Size = s.size
	return s, nil
}

// spill continues in a file, which is removed when it is closed.
func (s *spooled) spill(source io.Reader, dir string) error {
	file, err := os.CreateTemp(dir, "spool-*")
	if err != nil {
		return store.Errorf(store.ErrTryAgain, "there is no room for what has to be kept meanwhile: %w", err)
	}
	s.file = file
	if err := os.Remove(file.Name()); err != nil {
		return err
	}
	n, err := io.Copy(file, io.MultiReader(bytes.NewReader(s.data), source))
	s.size, s.data = n, nil
	return err
}

// open reads it from the start.
func (s *spooled) open() io.ReadCloser {
	if s.file == nil {
		return io.NopCloser(bytes.NewReader(s.data))
	}
	return io.NopCloser(io.NewSectionReader(s.file, 0, s.size))
}

func (s *spooled) close() {
	if s.file != nil {
		s.file.Close()
	}
}
