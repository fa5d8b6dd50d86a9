// Package annotation checks what people note about files without touching them: tags and
// comments. It also answers which locks forbid a change.
package annotation

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"deftheron/core/remedy"
)

const (
	// LongestTag is how many characters a tag may have.
	LongestTag = 50
	// LongestComment is how many bytes a comment may have.
	LongestComment = 4000
	// MostTags is how many tags an entry may have.
	MostTags = 50
	// MostComments is how many comments an entry may have.
	MostComments = 1000
)

// Tag returns a tag as it is kept: composed (Unicode NFC), with single spaces.
func Tag(text string) (string, error) {
	tag := strings.Join(strings.Fields(norm.NFC.String(text)), " ")
	switch {
	case tag == "":
		return "", remedy.Errorf("a tag is empty; give it at least one letter or digit")
	case !utf8.ValidString(tag):
		return "", remedy.Errorf("the tag %q is not valid UTF-8; write it again", tag)
	case utf8.RuneCountInString(tag) > LongestTag:
		return "", remedy.Errorf("the tag %q is longer than %d characters; shorten it", tag, LongestTag)
	}
	for _, r := range tag {
		if !unicode.IsLetter(r) && !unicode.IsDigit(r) && !unicode.IsMark(r) && !strings.ContainsRune(" -_.+#&", r) {
			return "", remedy.Errorf("the tag %q holds %q; use letters, digits, spaces and - _ . + # &", tag, r)
		}
	}
	return tag, nil
}

// Fold returns what two tags have in common that differ only in letter case.
func Fold(tag string) string { return cases.Fold().String(tag) }

// Comment returns a comment as it is kept: lines end in a line feed, and no white space
// surrounds it.
func Comment(text string) (string, error) {
	comment := strings.TrimSpace(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(text))
	switch {
	case comment == "":
		return "", remedy.Errorf("the comment is empty; give its text")
	case !utf8.ValidString(comment):
		return "", remedy.Errorf("the comment is not valid UTF-8; write it again")
	case len(comment) > LongestComment:
		return "", remedy.Errorf("the comment has %d bytes, and at most %d are kept; shorten it", len(comment), LongestComment)
	}
	for _, r := range comment {
		if unicode.IsControl(r) && r != '\n' && r != '\t' {
			return "", remedy.Errorf("the comment holds the control character %U; remove it", r)
		}
	}
	return comment, nil
}
