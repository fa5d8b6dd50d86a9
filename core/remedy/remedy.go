// Package remedy has errors that say what is wrong and what to do about it, and keep the
// two apart: what others said, as a server did, is never taken for advice of ours.
package remedy

import (
	"errors"
	"fmt"
	"strings"
)

// Error is an error with a remedy.
type Error struct {
	words  string
	remedy string
	cause  error
}

// Error implements error: what is wrong, and after a semicolon what to do.
func (e *Error) Error() string { return e.words }

// Unwrap returns what a %w of the format stood for.
func (e *Error) Unwrap() error { return e.cause }

const separator = "; "

// Errorf returns an error of a format "what is wrong; what to do". Only what follows the last
// semicolon of the format itself is the remedy, whatever the arguments hold. A %w is kept.
func Errorf(format string, args ...any) error {
	formatted := fmt.Errorf(format, args...)
	at := strings.LastIndex(format, separator)
	if at < 0 {
		return formatted
	}
	const mark = "\x00remedy\x00"
	marked := strings.ReplaceAll(format[:at]+mark+format[at:], "%w", "%v")
	parts := strings.Split(fmt.Sprintf(marked, args...), mark)
	if len(parts) != 2 { // an argument has the mark: nothing is advice then
		return formatted
	}
	return &Error{words: formatted.Error(), remedy: strings.TrimPrefix(parts[1], separator), cause: formatted}
}

// Of parts an error into what is wrong and what to do. remedy is empty where the error, or
// the last of those that it wraps, has none.
func Of(err error) (wrong, remedy string) {
	text := err.Error()
	if remedy = find(err, text); remedy != "" {
		return strings.TrimSuffix(text, separator+remedy), remedy
	}
	return text, ""
}

// find returns the remedy that ends a text, of an error or one that it wraps.
func find(err error, text string) string {
	if one, ok := err.(*Error); ok && strings.HasSuffix(text, separator+one.remedy) {
		return one.remedy
	}
	switch wrapping := err.(type) {
	case interface{ Unwrap() error }:
		if inner := wrapping.Unwrap(); inner != nil {
			return find(inner, text)
		}
	case interface{ Unwrap() []error }:
		for _, inner := range wrapping.Unwrap() {
			if inner == nil {
				continue
			}
			if remedy := find(inner, text); remedy != "" {
				return remedy
			}
		}
	}
	return ""
}

// New returns an error of the words given, which are "what is wrong; what to do".
func New(words string) error {
	at := strings.LastIndex(words, separator)
	if at < 0 {
		return errors.New(words)
	}
	return &Error{words: words, remedy: words[at+len(separator):]}
}
