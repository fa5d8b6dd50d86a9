package plaintext

import (
	"encoding/base64"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net/mail"
	"net/textproto"
	"strings"

	"golang.org/x/net/html/charset"
)

// deepestMail is how deep the parts of a message may lie in one another, and mostMailParts
// how many there may be.
const (
	deepestMail   = 10
	mostMailParts = 1000
)

// readMail reads a message (RFC 5322, MIME): its subject, who wrote it to whom, its text and
// the names of what is attached.
func readMail(from Source, _ int64, to *Text) error {
	message, err := mail.ReadMessage(from)
	if err != nil {
		return fmt.Errorf("the file is not a message: %w", err)
	}
	words := &mime.WordDecoder{CharsetReader: charset.NewReaderLabel}
	for _, name := range []string{"Subject", "From", "To", "Cc", "Date"} {
		value := message.Header.Get(name)
		if decoded, err := words.DecodeHeader(value); err == nil {
			value = decoded
		}
		if err := to.Add(value + "\n"); err != nil {
			return err
		}
	}
	parts := 0
	return mailPart(textproto.MIMEHeader(message.Header), message.Body, to, 0, &parts)
}

func mailPart(header textproto.MIMEHeader, body io.Reader, to *Text, depth int, parts *int) error {
	if *parts++; depth > deepestMail || *parts > mostMailParts {
		return nil
	}
	kind, parameters, err := mime.ParseMediaType(header.Get("Content-Type"))
	if err != nil {
		kind, parameters = "text/plain", nil
	}
	_, disposition, _ := mime.ParseMediaType(header.Get("Content-Disposition"))
	if name := disposition["filename"]; name != "" {
		if err := to.Add(name + "\n"); err != nil {
			return err
		}
	}
	if strings.HasPrefix(kind, "multipart/") {
		reader := multipart.NewReader(body, parameters["boundary"])
		for {
			part, err := reader.NextRawPart()
			if err != nil {
				return nil //nolint:nilerr // what is cut off is read as far as it goes
			}
			if err := mailPart(part.Header, part, to, depth+1, parts); err != nil {
				return err
			}
		}
	}
	switch strings.ToLower(header.Get("Content-Transfer-Encoding")) {
	case "base64":
		body = base64.NewDecoder(base64.StdEncoding, body)
	case "quoted-printable":
		body = quotedprintable.NewReader(body)
	}
	switch kind {
	case "text/plain":
		if decoded, err := charset.NewReaderLabel(orUTF8(parameters["charset"]), body); err == nil {
			body = decoded
		}
		text, _ := io.ReadAll(io.LimitReader(body, 8<<20)) // as far as it can be read
		return to.Add(string(text) + "\n")
	case "text/html":
		if err := htmlText(io.LimitReader(body, 8<<20), to); err != nil {
			return err
		}
		return to.Break()
	case "message/rfc822":
		inner, err := mail.ReadMessage(body)
		if err != nil {
			return nil //nolint:nilerr // a damaged attachment is left out
		}
		if err := to.Add(inner.Header.Get("Subject") + "\n"); err != nil {
			return err
		}
		return mailPart(textproto.MIMEHeader(inner.Header), inner.Body, to, depth+1, parts)
	}
	return nil
}

func orUTF8(label string) string {
	if label == "" {
		return "utf-8"
	}
	return label
}
