package query

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/unicode/norm"
)

// Found is an excerpt of a text, in pieces: every second one, from the second on, is a term
// that was looked for.
type Found []string

// Excerpt returns about width characters of a text around the first of the terms that it
// has; nil if it has none. Letter case and accents do not count.
func Excerpt(text string, terms []string, width int) Found {
	folded, at := fold(text)
	wanted := make([]string, 0, len(terms))
	for _, one := range terms {
		if of, _ := fold(one); strings.TrimSpace(of) != "" {
			wanted = append(wanted, of)
		}
	}
	first := -1
	for _, one := range wanted {
		if i := strings.Index(folded, one); i >= 0 && (first < 0 || i < first) {
			first = i
		}
	}
	if first < 0 {
		return nil
	}
	begin, end := window(text, at[first], width)
	return mark(text, folded, at, wanted, begin, end)
}

// window returns where an excerpt around a byte begins and ends, at words.
func window(text string, around, width int) (begin, end int) {
	begin, end = max(0, around-width/3), min(len(text), around+width*2/3)
	if begin > 0 {
		if i := strings.IndexFunc(text[begin:around], unicode.IsSpace); i >= 0 {
			begin += i + 1
		}
	}
	for begin > 0 && begin < len(text) && !utf8.RuneStart(text[begin]) {
		begin--
	}
	if end < len(text) {
		if i := strings.LastIndexFunc(text[around:end], unicode.IsSpace); i > 0 {
			end = around + i
		}
	}
	for end < len(text) && !utf8.RuneStart(text[end]) {
		end++
	}
	return begin, end
}

// mark splits an excerpt at the terms.
func mark(text, folded string, at []int, wanted []string, begin, end int) Found {
	found, from := Found{}, begin
	for i := 0; i < len(folded) && at[i] < end; {
		if at[i] < from {
			i++
			continue
		}
		length := 0
		for _, one := range wanted {
			if strings.HasPrefix(folded[i:], one) {
				length = max(length, len(one))
			}
		}
		if length == 0 {
			i++
			continue
		}
		to := min(end, at[i+length])
		found = append(found, tidy(text[from:at[i]]), tidy(text[at[i]:to]))
		from, i = to, i+length
	}
	return append(found, tidy(text[from:max(from, end)]))
}

// tidy makes one line of a text.
func tidy(text string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) || unicode.IsControl(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(text, ""))
}

// fold returns a text in lower case without accents. at says for each of its bytes, and for
// its end, which byte of the text it comes from.
func fold(text string) (folded string, at []int) {
	var b strings.Builder
	b.Grow(len(text))
	at = make([]int, 0, len(text)+1)
	for i, r := range text {
		if r < utf8.RuneSelf {
			if 'A' <= r && r <= 'Z' {
				r += 'a' - 'A'
			}
			b.WriteByte(byte(r))
			at = append(at, i)
			continue
		}
		for _, part := range norm.NFD.String(string(r)) {
			if unicode.Is(unicode.Mn, part) {
				continue
			}
			n, _ := b.WriteRune(unicode.ToLower(part))
			for range n {
				at = append(at, i)
			}
		}
	}
	return b.String(), append(at, len(text))
}
