package plaintext

import (
	"errors"
	"fmt"
	"strings"

	"github.com/ledongthuc/pdf"
)

// readPDF reads the text of a PDF file page by page. Ligatures and odd encodings come out
// better of pdftotext, which is taken where it is installed.
func readPDF(from Source, size int64, to *Text) (err error) {
	defer func() {
		if failed := recover(); failed != nil { // the library does so at damaged files
			err = fmt.Errorf("the file is damaged: %v", failed)
		}
	}()
	file, err := pdf.NewReader(from, size)
	switch {
	case errors.Is(err, pdf.ErrInvalidPassword), err != nil && strings.Contains(err.Error(), "encrypt"):
		return ErrEncrypted
	case err != nil:
		return fmt.Errorf("the file is damaged: %w", err)
	}
	fonts := map[string]*pdf.Font{}
	for i := range file.NumPage() {
		page := file.Page(i + 1)
		if page.V.IsNull() {
			continue
		}
		for _, name := range page.Fonts() {
			if _, known := fonts[name]; !known {
				font := page.Font(name)
				fonts[name] = &font
			}
		}
		text, err := page.GetPlainText(fonts)
		if err != nil {
			return fmt.Errorf("page %d is damaged: %w", i+1, err)
		}
		if err := to.Add(text + "\n"); err != nil {
			return err
		}
	}
	return nil
}
