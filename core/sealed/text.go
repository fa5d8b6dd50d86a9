package sealed

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"filippo.io/age"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// text is a small content.
type text []byte

// Open implements store.Content.
func (t text) Open(context.Context) (*store.Stream, error) {
	return store.NewStream(io.NopCloser(bytes.NewReader(t)), store.CRC64NVME, nil), nil
}

// put writes a small file of the place.
func (p *Place) put(ctx context.Context, at store.Ref, condition store.Condition, content []byte) error {
	_, err := p.base.Write(ctx, store.Writing{Place: at, Size: int64(len(content)), If: condition, Run: ownRun, Content: text(content)})
	return err
}

// ownRun marks what of a segment or of the place's own files is on its way.
const ownRun = "sealed"

// get reads a small file of the place.
func (p *Place) get(ctx context.Context, at store.Ref) ([]byte, error) {
	return retry.Read(ctx, func() ([]byte, error) {
		body, err := p.base.Open(ctx, store.Reading{Place: at})
		if err != nil {
			return nil, err
		}
		defer body.Close()
		return io.ReadAll(io.LimitReader(body, 1<<20))
	})
}

func sealText(keys Keys, text []byte) ([]byte, error) {
	var recipients []age.Recipient
	for _, recipient := range keys.recipients {
		one, err := age.ParseX25519Recipient(recipient)
		if err != nil {
			return nil, err
		}
		recipients = append(recipients, one)
	}
	var sealed bytes.Buffer
	writer, err := age.Encrypt(&sealed, recipients...)
	if err != nil {
		return nil, err
	}
	if _, err := writer.Write(text); err != nil {
		return nil, err
	}
	if err := writer.Close(); err != nil {
		return nil, err
	}
	return sealed.Bytes(), nil
}

func openText(keys Keys, sealed []byte) ([]byte, error) {
	reader, err := age.Decrypt(bytes.NewReader(sealed), keys.identities...)
	var none *age.NoIdentityMatchError
	if errors.As(err, &none) {
		return nil, fmt.Errorf("%w: it is sealed to other keys", ErrKey)
	}
	if err != nil {
		return nil, err
	}
	return io.ReadAll(reader)
}

// scratchFile returns the file that segments are kept in.
func (p *Place) scratchFile() (*scratch, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	var err error
	if p.scratch == nil {
		p.scratch, err = newScratch()
	}
	return p.scratch, err
}
