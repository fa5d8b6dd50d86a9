package standin

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"fmt"
	"html"
	"strings"
	"time"
)

// The formats that documents can be exported as, by their kind.
var exports = map[string]map[string]string{
	"text":   {"odt": "application/vnd.oasis.opendocument.text", "pdf": "application/pdf", "html": "text/html", "txt": "text/plain"},
	"sheet":  {"ods": "application/vnd.oasis.opendocument.spreadsheet", "pdf": "application/pdf", "html": "text/html", "csv": "text/csv"},
	"slides": {"odp": "application/vnd.oasis.opendocument.presentation", "pdf": "application/pdf", "html": "text/html"},
}

// exportDocument makes a file of a document: its lines, and of a sheet the cells
// between tabs.
func exportDocument(kind, title, text, format string) ([]byte, string, error) {
	media, ok := exports[kind][format]
	if !ok {
		return nil, "", fmt.Errorf("a %s is not exported as %q", kind, format)
	}
	lines := strings.Split(text, "\n")
	switch format {
	case "txt":
		return []byte(title + "\n\n" + text + "\n"), media, nil
	case "csv":
		return []byte(strings.ReplaceAll(text, "\t", ",") + "\n"), media, nil
	case "html":
		return []byte(htmlOf(kind, title, lines)), media, nil
	case "pdf":
		return PDF(title, lines), media, nil
	}
	data, err := openDocument(kind, media, title, lines)
	return data, media, err
}

func htmlOf(kind, title string, lines []string) string {
	var b strings.Builder
	fmt.Fprintf(&b, "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>%[1]s</title><h1>%[1]s</h1>\n", html.EscapeString(title))
	if kind == "sheet" {
		b.WriteString("<table>\n")
	}
	for _, line := range lines {
		if kind != "sheet" {
			fmt.Fprintf(&b, "<p>%s</p>\n", html.EscapeString(line))
			continue
		}
		b.WriteString("<tr>")
		for _, cell := range strings.Split(line, "\t") {
			fmt.Fprintf(&b, "<td>%s</td>", html.EscapeString(cell))
		}
		b.WriteString("</tr>\n")
	}
	if kind == "sheet" {
		b.WriteString("</table>\n")
	}
	return b.String() + "</html>\n"
}

// PDF makes a PDF of one page of text (ISO 32000).
func PDF(title string, lines []string) []byte {
	plain := func(text string) string {
		var b strings.Builder
		for _, r := range strings.ReplaceAll(text, "\t", "    ") {
			switch {
			case r == '\\' || r == '(' || r == ')':
				b.WriteByte('\\')
				b.WriteRune(r)
			case r >= ' ' && r <= '~':
				b.WriteRune(r)
			case r >= 0xa0 && r <= 0xff: // WinAnsiEncoding has Latin-1 there
				fmt.Fprintf(&b, "\\%03o", r)
			default:
				b.WriteByte('?')
			}
		}
		return b.String()
	}
	var page strings.Builder
	fmt.Fprintf(&page, "BT /F1 18 Tf 60 780 Td (%s) Tj /F1 11 Tf 0 -32 Td", plain(title))
	for _, line := range lines[:min(len(lines), 48)] {
		fmt.Fprintf(&page, " (%s) Tj 0 -15 Td", plain(line))
	}
	page.WriteString(" ET")
	objects := []string{
		"<< /Type /Catalog /Pages 2 0 R >>", "<< /Type /Pages /Kids [3 0 R] /Count 1 >>",
		"<< /Type /Page /Parent 2 0 R /MediaBox [0 0 595 842] /Contents 4 0 R /Resources << /Font << /F1 5 0 R >> >> >>",
		fmt.Sprintf("<< /Length %d >>\nstream\n%s\nendstream", page.Len(), page.String()),
		"<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica /Encoding /WinAnsiEncoding >>",
	}
	var b bytes.Buffer
	b.WriteString("%PDF-1.4\n")
	offsets := make([]int, len(objects))
	for i, object := range objects {
		offsets[i] = b.Len()
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", i+1, object)
	}
	begin := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(objects)+1)
	for _, offset := range offsets {
		fmt.Fprintf(&b, "%010d 00000 n \n", offset)
	}
	fmt.Fprintf(&b, "trailer\n<< /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(objects)+1, begin)
	return b.Bytes()
}

const odfSpaces = `xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" ` +
	`xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:draw="urn:oasis:names:tc:opendocument:xmlns:drawing:1.0" ` +
	`xmlns:svg="urn:oasis:names:tc:opendocument:xmlns:svg-compatible:1.0" office:version="1.3"`

// openDocument makes a file in OpenDocument format (ISO/IEC 26300).
func openDocument(kind, media, title string, lines []string) ([]byte, error) {
	escaped := func(text string) string {
		var b bytes.Buffer
		_ = xml.EscapeText(&b, []byte(text))
		return b.String()
	}
	var body strings.Builder
	switch kind {
	case "sheet":
		fmt.Fprintf(&body, `<office:spreadsheet><table:table table:name="%s">`, escaped(title))
		for _, line := range lines {
			body.WriteString("<table:table-row>")
			for _, cell := range strings.Split(line, "\t") {
				fmt.Fprintf(&body, `<table:table-cell office:value-type="string"><text:p>%s</text:p></table:table-cell>`, escaped(cell))
			}
			body.WriteString("</table:table-row>")
		}
		body.WriteString("</table:table></office:spreadsheet>")
	case "slides":
		body.WriteString("<office:presentation>")
		for i, line := range lines {
			fmt.Fprintf(&body, `<draw:page draw:name="%d"><draw:frame svg:x="2cm" svg:y="3cm" svg:width="20cm" svg:height="5cm"><draw:text-box><text:p>%s</text:p></draw:text-box></draw:frame></draw:page>`, i+1, escaped(line))
		}
		body.WriteString("</office:presentation>")
	default:
		fmt.Fprintf(&body, `<office:text><text:h text:outline-level="1">%s</text:h>`, escaped(title))
		for _, line := range lines {
			fmt.Fprintf(&body, "<text:p>%s</text:p>", escaped(line))
		}
		body.WriteString("</office:text>")
	}
	content := `<?xml version="1.0" encoding="UTF-8"?><office:document-content ` + odfSpaces + `><office:body>` + body.String() +
		`</office:body></office:document-content>`
	manifest := `<?xml version="1.0" encoding="UTF-8"?><manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" manifest:version="1.3">` +
		`<manifest:file-entry manifest:full-path="/" manifest:media-type="` + media +
		`"/><manifest:file-entry manifest:full-path="content.xml" manifest:media-type="text/xml"/></manifest:manifest>`
	var b bytes.Buffer
	archive := zip.NewWriter(&b)
	for _, file := range []struct {
		name, data string
		method     uint16
	}{{"mimetype", media, zip.Store}, {"META-INF/manifest.xml", manifest, zip.Deflate}, {"content.xml", content, zip.Deflate}} {
		w, err := archive.CreateHeader(&zip.FileHeader{Name: file.name, Method: file.method,
			Modified: time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)})
		if err != nil {
			return nil, err
		}
		if _, err := w.Write([]byte(file.data)); err != nil {
			return nil, err
		}
	}
	err := archive.Close()
	return b.Bytes(), err
}
