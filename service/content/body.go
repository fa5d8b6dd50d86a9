package content

import (
	"io"

	"deftheron/core/store"
)

// Body is the body of a request. If it ends early, the error says that the sender broke off.
type Body struct{ io.ReadCloser }

// Read implements io.Reader.
func (b Body) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if err != nil && err != io.EOF {
		err = store.Errorf(store.ErrTryAgain, "the upload broke off (%v); send it again", err)
	}
	return n, err
}
