package gateway

import (
	"encoding/xml"
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
)

const (
	xmlType = "application/xml; charset=utf-8"
	xmlHead = `<?xml version="1.0" encoding="utf-8"?>` + "\n"
	dav     = "DAV:"
	// mostXML is how long the body of a request may be in bytes, and deepestXML how deep.
	mostXML, deepestXML = 256 << 10, 32
)

// escape returns a text as the content of an element.
func escape(text string) string {
	var b strings.Builder
	_ = xml.EscapeText(&b, []byte(text))
	return b.String()
}

// element is an element of a request's body.
type element struct {
	name     xml.Name
	children []*element
	// inner is its content as XML, with all namespaces declared in it.
	inner string
	lang  string
}

// child returns the first child of a name in the namespace DAV:, nil if there is none.
func (e *element) child(name string) *element {
	for _, one := range e.children {
		if one.name.Space == dav && one.name.Local == name {
			return one
		}
	}
	return nil
}

var errXML = fail(http.StatusBadRequest, "", "the body is not the XML that was expected; RFC 4918 describes it")

// readXML reads the body of a request; nil if it is empty.
func readXML(w http.ResponseWriter, r *http.Request) (*element, error) {
	decoder := xml.NewDecoder(http.MaxBytesReader(w, r.Body, mostXML))
	var root *element
	for {
		token, err := decoder.Token()
		if err == io.EOF {
			return root, nil
		}
		if err != nil {
			return nil, bodyError(err)
		}
		switch token := token.(type) {
		case xml.StartElement:
			if root != nil {
				return nil, errXML
			}
			if root, err = readElement(decoder, token, "", 0); err != nil {
				return nil, bodyError(err)
			}
		case xml.CharData:
			if strings.TrimSpace(string(token)) != "" {
				return nil, errXML
			}
		case xml.Directive:
			return nil, errXML // a document type declares entities
		}
	}
}

func bodyError(err error) error {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return fail(http.StatusRequestEntityTooLarge, "", "the body is longer than %d bytes", mostXML)
	}
	var refused *refusal
	if errors.As(err, &refused) {
		return err
	}
	return errXML
}

// readElement reads an element whose start was read.
func readElement(decoder *xml.Decoder, start xml.StartElement, lang string, depth int) (*element, error) {
	if depth > deepestXML {
		return nil, errXML
	}
	one := &element{name: start.Name, lang: lang}
	for _, attribute := range start.Attr {
		switch {
		case attribute.Name.Space == "xmlns" && attribute.Value == "":
			return nil, errXML // a prefix cannot stand for no namespace
		case attribute.Name.Local == "lang" && isXML(attribute.Name.Space):
			one.lang = attribute.Value
		}
	}
	var inner strings.Builder
	for {
		token, err := decoder.Token()
		if err != nil {
			return nil, err
		}
		switch token := token.(type) {
		case xml.StartElement:
			child, err := readElement(decoder, token, one.lang, depth+1)
			if err != nil {
				return nil, err
			}
			one.children = append(one.children, child)
			inner.WriteString(child.outer(token.Attr))
		case xml.CharData:
			inner.WriteString(escape(string(token)))
		case xml.EndElement:
			one.inner = inner.String()
			return one, nil
		}
	}
}

// outer is the element as XML that needs nothing declared around it.
func (e *element) outer(attributes []xml.Attr) string {
	var b strings.Builder
	b.WriteString("<" + e.name.Local + ` xmlns="` + escape(e.name.Space) + `"`)
	for i, attribute := range attributes {
		switch {
		case attribute.Name.Space == "xmlns" || attribute.Name.Local == "xmlns":
		case attribute.Name.Space == "":
			b.WriteString(" " + attribute.Name.Local + `="` + escape(attribute.Value) + `"`)
		case isXML(attribute.Name.Space):
			b.WriteString(" xml:" + attribute.Name.Local + `="` + escape(attribute.Value) + `"`)
		default:
			prefix := "a" + strconv.Itoa(i)
			b.WriteString(" xmlns:" + prefix + `="` + escape(attribute.Name.Space) + `" ` + prefix + ":" + attribute.Name.Local + `="` +
				escape(attribute.Value) + `"`)
		}
	}
	b.WriteString(">" + e.inner + "</" + e.name.Local + ">")
	return b.String()
}

// isXML reports whether a namespace is that of the prefix xml, which needs no declaration.
func isXML(space string) bool {
	return space == "xml" || space == "http://www.w3.org/XML/1998/namespace"
}

// property is the element as a property: its name, what it holds and its language.
func (e *element) property() string {
	var attributes []xml.Attr
	if e.lang != "" {
		attributes = []xml.Attr{{Name: xml.Name{Space: "xml", Local: "lang"}, Value: e.lang}}
	}
	return e.outer(attributes)
}
