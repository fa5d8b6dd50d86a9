package plaintext_test

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"deftheron/core/plaintext"
)

// packed is an archive of parts.
func packed(t testing.TB, parts ...string) string {
	t.Helper()
	var b bytes.Buffer
	archive := zip.NewWriter(&b)
	for i := 0; i < len(parts); i += 2 {
		w, err := archive.Create(parts[i])
		if err == nil {
			_, err = io.WriteString(w, parts[i+1])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := archive.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

func extract(name, content string, most int) (string, error) {
	var out bytes.Buffer
	err := plaintext.Extract(name, strings.NewReader(content), int64(len(content)), &out, most)
	return out.String(), err
}

// onePage is a PDF file with one page of text.
func onePage(text string) string {
	var b strings.Builder
	offsets := []int{}
	object := func(body string) {
		offsets = append(offsets, b.Len())
		fmt.Fprintf(&b, "%d 0 obj\n%s\nendobj\n", len(offsets), body)
	}
	b.WriteString("%PDF-1.4\n")
	object("<< /Type /Catalog /Pages 2 0 R >>")
	object("<< /Type /Pages /Kids [3 0 R] /Count 1 >>")
	object("<< /Type /Page /Parent 2 0 R /MediaBox [0 0 300 300] /Contents 4 0 R /Resources << /Font << /F1 5 0 R >> >> >>")
	stream := "BT /F1 12 Tf 20 200 Td (" + text + ") Tj ET"
	object(fmt.Sprintf("<< /Length %d >>\nstream\n%s\nendstream", len(stream), stream))
	object("<< /Type /Font /Subtype /Type1 /BaseFont /Helvetica /Encoding /WinAnsiEncoding >>")
	at := b.Len()
	fmt.Fprintf(&b, "xref\n0 %d\n0000000000 65535 f \n", len(offsets)+1)
	for _, offset := range offsets {
		fmt.Fprintf(&b, "%010d 00000 n \n", offset)
	}
	fmt.Fprintf(&b, "trailer << /Size %d /Root 1 0 R >>\nstartxref\n%d\n%%%%EOF\n", len(offsets)+1, at)
	return b.String()
}

// TestExtract reads a document of each kind.
func TestExtract(t *testing.T) {
	document := packed(t, "mimetype", "application/vnd.oasis.opendocument.text", "meta.xml",
		"<m xmlns:dc='d'><dc:title>Weir report</dc:title><dc:creator>nobody</dc:creator></m>", "content.xml",
		"<o><office:automatic-styles>hidden</office:automatic-styles><office:body><text:p>Fish<text:s/>pass</text:p><text:p>built &amp; "+
			"open</text:p></office:body></o>")
	sheet := packed(t, "xl/sharedStrings.xml", "<sst><si><t>River</t></si><si><t>Tolle</t></si></sst>", "xl/worksheets/sheet1.xml",
		"<w><c t='s'><v>0</v></c><c t='inlineStr'><is><t>inline</t></is></c></w>")
	slides := packed(t, "ppt/slides/slide10.xml", "<a:t>tenth</a:t>", "ppt/slides/slide2.xml", "<a:p><a:t>second</a:t></a:p>")
	message := "From: office@tolland.example\r\nSubject: =?utf-8?q?Permit_f=C3=BCr_Wehr?=\r\nMIME-Version: 1.0\r\n" +
		"Content-Type: multipart/mixed; boundary=x\r\n\r\n--x\r\nContent-Type: text/html; charset=iso-8859-1\r\n" +
		"Content-Transfer-Encoding: quoted-printable\r\n\r\n<p>R=EDo</p><script>no</script>\r\n--x\r\nContent-Disposition: attachment; " +
		"filename=plan.pdf\r\nContent-Type: application/pdf\r\n\r\nbinary\r\n--x--\r\n"
	for _, c := range []struct{ name, content, want string }{
		{"a.txt", "  one\r\n\r\ntwo\tthree ", "one\ntwo three"},
		{"a.txt", "caf\xe9", "café"},
		{"a.csv", "\xff\xfea\x00;\x00\xe9\x00", "a;é"},
		{"a.json", `{"river": "Tolle"}`, `{"river": "Tolle"}`},
		{"a.html", "<html><head><style>x{}</style></head><body><h1>Weir</h1><p>a <b>b</b>c&eacute;</p><script>no</script></body>", "Weir\na bcé"},
		{"a.xml", "<a><b>one</b><c>two</c></a>", "one two"},
		{"a.rtf", `{\rtf1\ansi{\fonttbl{\f0 Arial;}}\f0 Caf\'e9 \u233?\par Next{\*\hidden no} {\b line}}`, "Café é\nNext line"},
		{"a.odt", document, "Weir report\nFish pass\nbuilt & open"},
		{"a.xlsx", sheet, "River\nTolle\ninline"},
		{"a.pptx", slides, "second\ntenth"},
		{"a.eml", message, "Permit für Wehr\noffice@tolland.example\nRío\nplan.pdf"},
		{"a.pdf", onePage("Fish pass at the weir"), "Fish pass at the weir"},
	} {
		got, err := extract(c.name, c.content, 1<<20)
		if err != nil || strings.TrimSpace(got) != c.want {
			t.Errorf("%s: %q, %v; want %q", c.name, got, err, c.want)
		}
	}
}

// TestBounds reads files that are made to do harm, damaged or locked: each ends with a
// reason, and none is long.
func TestBounds(t *testing.T) {
	body := "<office:body><text:p>" + strings.Repeat("a ", 1<<20) + "</text:p></office:body>"
	bomb := packed(t, "content.xml", body)
	if got, err := extract("a.odt", bomb, 1000); err != nil || len(got) != 1000 {
		t.Errorf("a long document comes to %d bytes, %v", len(got), err)
	}
	if got, err := extract("a.txt", strings.Repeat("é", 1000), 101); err != nil || got != strings.Repeat("é", 50) {
		t.Errorf("cut inside a character: %q, %v", got, err)
	}
	if _, err := extract("a.odt", packed(t, "content.xml", strings.Repeat("<a>", 20_000)), 1000); err == nil {
		t.Error("elements without end are read")
	}
	for name, c := range map[string]struct {
		content string
		want    error
	}{
		"a.docx":     {"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1 with a password", plaintext.ErrEncrypted},
		"a.odt":      {packed(t, "META-INF/manifest.xml", "<m:encryption-data/>", "content.xml", "\x01\x02"), plaintext.ErrEncrypted},
		"empty.txt":  {"  \n", plaintext.ErrNoText},
		"x.docx":     {"PK\x03\x04 cut off", nil},
		"x.xlsx":     {packed(t, "other.xml", "<a/>"), nil},
		"x.txt":      {"\x00\x01\x02 binary", nil},
		"x.rtf":      {"not RTF", nil},
		"x.eml":      {"\x00", nil},
		"x.pdf":      {"%PDF-1.4\nnothing", nil},
		"x.unknown":  {"text", nil},
		"cut.pdf":    {onePage("x")[:200], nil},
		"broken.odt": {packed(t, "content.xml", "<a"), nil},
	} {
		if got, err := extract(name, c.content, 1000); err == nil || c.want != nil && !errors.Is(err, c.want) {
			t.Errorf("%s: %q, %v; want %v", name, got, err, c.want)
		}
	}
}

// FuzzExtract reads anything as anything: it ends, and is not longer than asked for.
func FuzzExtract(f *testing.F) {
	f.Add("a.rtf", `{\rtf1 \u-10?{\bin5 abc}\'4`)
	f.Add("a.eml", "Content-Type: multipart/x; boundary=y\n\n--y\n\n--y--")
	f.Add("a.pdf", onePage("x"))
	f.Add("a.docx", packed(f, "word/document.xml", "<w:t>x</w:t>"))
	f.Fuzz(func(t *testing.T, name, content string) {
		if got, err := extract(name, content, 100); err == nil && len(got) > 100 {
			t.Errorf("%d bytes", len(got))
		}
	})
}
