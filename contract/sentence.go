package contract

import (
	"unicode"
	"unicode/utf8"
)

// Capital begins a text with a capital letter, where it begins with a letter.
func Capital(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	if first == utf8.RuneError {
		return text
	}
	return string(unicode.ToUpper(first)) + text[size:]
}
