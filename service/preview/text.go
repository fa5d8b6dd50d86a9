package preview

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"
	"unicode/utf8"

	"deftheron/core/plaintext"
	"deftheron/core/store"
)

// textReader is the reader of a child that reads text.
const textReader = "text"

// mostText is how many bytes of text are read of a file.
const mostText = 1 << 20

// Text returns the text of a file, of which the name's ending says the kind. size is in
// bytes; less than 0 is unknown. why says in words why there is none; the error is that of
// open, or of this machine.
func (m *Maker) Text(ctx context.Context, name string, size int64, open func(context.Context) (io.ReadCloser, error)) (text, why string,
	err error) {
	switch {
	case !sandboxed:
		return "", "files are read on Linux alone, where that can be done safely", nil
	case size > MostRead:
		return "", fmt.Sprintf("the file is larger than %d MiB", MostRead>>20), nil
	}
	select {
	case m.texts <- struct{}{}:
	case <-ctx.Done():
		return "", "", ctx.Err()
	}
	defer func() { <-m.texts }()
	content, err := m.fetch(ctx, open)
	if err != nil {
		if store.KindOf(err) == store.ErrTooLarge {
			return "", fmt.Sprintf("the file is larger than %d MiB", MostRead>>20), nil
		}
		return "", "", err
	}
	defer content.Close()
	// A program that takes the child's place is not told how much is wanted.
	made, why := m.run(ctx, textReader, strings.ToLower(path.Ext(name)), content, 8*mostText)
	if ctx.Err() != nil {
		return "", "", ctx.Err()
	}
	if why != "" {
		return "", why, nil
	}
	if len(made) > mostText {
		made = made[:mostText]
		for len(made) > 0 && !utf8.Valid(made[max(0, len(made)-utf8.UTFMax):]) {
			made = made[:len(made)-1]
		}
	}
	text = strings.ToValidUTF8(string(made), "")
	if strings.TrimSpace(text) == "" {
		return "", plaintext.ErrNoText.Error(), nil
	}
	return text, "", nil
}

// textChild writes the text of the file at its standard input.
func textChild(ending string) error {
	if err := confine(); err != nil {
		return fmt.Errorf("this process could not be confined: %w", err)
	}
	if ending == ".pdf" && installed("pdftotext") {
		return become([]string{"pdftotext", "-q", "-enc", "UTF-8", "-l", "500", "/proc/self/fd/0", "-"})
	}
	info, err := os.Stdin.Stat()
	if err != nil {
		return err
	}
	out := bufio.NewWriterSize(os.Stdout, 64<<10)
	err = plaintext.Extract("file"+ending, os.Stdin, info.Size(), out, mostText)
	return errors.Join(err, out.Flush())
}
