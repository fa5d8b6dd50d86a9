package contract

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// ModifiedHeader is a header of a PUT to the network drive that says when the content was last
// changed, as RFC 3339 has it.
const ModifiedHeader = "Heron-Modified"

// Capital begins a text with a capital letter, where it begins with a letter.
func Capital(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	if first == utf8.RuneError {
		return text
	}
	return string(unicode.ToUpper(first)) + text[size:]
}

// Sentence returns a text as a sentence: with a capital first, and a full stop at its end.
func Sentence(text string) string {
	text = Capital(strings.TrimSpace(text))
	if text == "" {
		return text
	}
	if !strings.ContainsAny(text[len(text)-1:], ".!?") {
		text += "."
	}
	return text
}
