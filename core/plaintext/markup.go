package plaintext

import (
	"encoding/xml"
	"errors"
	"io"
	"strings"

	"golang.org/x/net/html"
	"golang.org/x/net/html/charset"
)

// inline are the elements of HTML that break no line.
var inline = map[string]bool{"a": true, "b": true, "i": true, "em": true, "strong": true, "span": true, "u": true, "small": true,
	"sub": true, "sup": true, "code": true, "font": true, "abbr": true, "mark": true}

func readHTML(from Source, _ int64, to *Text) error { return htmlText(from, to) }

// htmlText reads what a page shows.
func htmlText(from io.Reader, to *Text) error {
	decoded, err := charset.NewReader(from, "text/html")
	if err != nil {
		if errors.Is(err, io.EOF) {
			return nil
		}
		return err
	}
	tokens := html.NewTokenizer(decoded)
	tokens.SetMaxBuf(4 << 20)
	for hidden := 0; ; {
		switch tokens.Next() {
		case html.ErrorToken:
			if err := tokens.Err(); !errors.Is(err, io.EOF) {
				return err
			}
			return nil
		case html.TextToken:
			if hidden == 0 {
				if err := to.Add(string(tokens.Text())); err != nil {
					return err
				}
			}
		case html.StartTagToken:
			name, _ := tokens.TagName()
			switch tag := string(name); {
			case tag == "script" || tag == "style" || tag == "template":
				hidden++
			case !inline[tag]:
				if err := to.Break(); err != nil {
					return err
				}
			}
		case html.EndTagToken:
			name, _ := tokens.TagName()
			if tag := string(name); (tag == "script" || tag == "style" || tag == "template") && hidden > 0 {
				hidden--
			}
		}
	}
}

func readXML(from Source, _ int64, to *Text) error { return xmlText(from, to, nil) }

// breaks are the elements of office formats after which a line ends, and spaces those that
// stand for one.
var (
	breaks = map[string]bool{"p": true, "h": true, "table-row": true, "row": true, "br": true, "tr": true, "si": true, "list-item": true}
	spaces = map[string]bool{"s": true, "tab": true, "tc": true, "c": true, "table-cell": true, "line-break": true}
)

// xmlText reads the character data of an XML document. within, where it is not nil, are the
// elements whose data counts.
func xmlText(from io.Reader, to *Text, within map[string]bool) error {
	decoder := xml.NewDecoder(from)
	decoder.Strict = false
	decoder.CharsetReader = charset.NewReaderLabel
	inside, depth := 0, 0
	for {
		token, err := decoder.RawToken()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch token := token.(type) {
		case xml.StartElement:
			if depth++; depth > 10_000 {
				return errors.New("the elements of the file are too deep")
			}
			if within[token.Name.Local] {
				inside++
			}
			if spaces[token.Name.Local] {
				err = to.Add(" ")
			}
		case xml.EndElement:
			depth--
			if within[token.Name.Local] {
				inside--
			}
			if breaks[token.Name.Local] {
				err = to.Break()
			}
		case xml.CharData:
			if within == nil || inside > 0 {
				err = to.Add(string(token))
			}
			if err == nil && within == nil {
				err = to.Add(" ")
			}
		}
		if err != nil {
			return err
		}
	}
}

// readRTF reads the text of a Rich Text Format file, without its tables of fonts, colours
// and styles, its pictures and its hidden destinations.
func readRTF(from Source, size int64, to *Text) error {
	all, err := io.ReadAll(io.LimitReader(from, min(size, 32<<20)))
	if err != nil {
		return err
	}
	if !strings.HasPrefix(string(all[:min(len(all), 5)]), `{\rtf`) {
		return errors.New("the file is not RTF")
	}
	return (&rtf{text: all, to: to}).read()
}
