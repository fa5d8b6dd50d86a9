package plaintext

import (
	"strconv"

	"golang.org/x/text/encoding/charmap"
)

// rtf reads Rich Text Format 1.9.
type rtf struct {
	text   []byte
	at     int
	to     *Text
	hidden []bool // of each group that is open
	skip   int    // characters that stand for one that was given by its number
	uc     int
}

// silent are the destinations whose text is not shown.
var silent = map[string]bool{"fonttbl": true, "colortbl": true, "stylesheet": true, "info": true, "pict": true, "object": true,
	"themedata": true, "datastore": true, "listtable": true, "listoverridetable": true, "rsidtbl": true, "generator": true,
	"xmlnstbl": true, "latentstyles": true, "filetbl": true}

func (r *rtf) read() error {
	r.uc = 1
	for r.at < len(r.text) {
		c := r.text[r.at]
		r.at++
		var err error
		switch c {
		case '{':
			hidden := len(r.hidden) > 0 && r.hidden[len(r.hidden)-1]
			if r.hidden = append(r.hidden, hidden); len(r.hidden) > 10_000 {
				return nil
			}
		case '}':
			if len(r.hidden) > 0 {
				r.hidden = r.hidden[:len(r.hidden)-1]
			}
		case '\\':
			err = r.control()
		case '\r', '\n':
		default:
			err = r.say(string(charmap.Windows1252.DecodeByte(c)))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// say adds a character, unless it is hidden or stands for one that was said.
func (r *rtf) say(text string) error {
	if r.skip > 0 {
		r.skip--
		return nil
	}
	if len(r.hidden) > 0 && r.hidden[len(r.hidden)-1] {
		return nil
	}
	return r.to.Add(text)
}

func (r *rtf) hide() {
	if len(r.hidden) > 0 {
		r.hidden[len(r.hidden)-1] = true
	}
}

// control reads what follows a backslash.
func (r *rtf) control() error {
	if r.at >= len(r.text) {
		return nil
	}
	c := r.text[r.at]
	if !isLetter(c) {
		r.at++
		switch c {
		case '*':
			r.hide()
		case '\'':
			if r.at+2 <= len(r.text) {
				code, err := strconv.ParseUint(string(r.text[r.at:r.at+2]), 16, 8)
				r.at += 2
				if err == nil {
					return r.say(string(charmap.Windows1252.DecodeByte(byte(code))))
				}
			}
		case '~', '_', '-':
			return r.say(" ")
		case '\\', '{', '}':
			return r.say(string(rune(c)))
		}
		return nil
	}
	word, number, given := r.word()
	switch {
	case silent[word]:
		r.hide()
	case word == "par" || word == "line" || word == "row" || word == "sect" || word == "page":
		return r.say("\n")
	case word == "tab" || word == "cell":
		return r.say(" ")
	case word == "uc" && given:
		r.uc = max(0, min(number, 10))
	case word == "u" && given:
		if number < 0 {
			number += 1 << 16
		}
		err := r.say(string(rune(number)))
		r.skip = r.uc
		return err
	case word == "bin" && given:
		r.at = min(len(r.text), r.at+max(0, number))
	}
	return nil
}

// word reads a control word and its number.
func (r *rtf) word() (word string, number int, given bool) {
	from := r.at
	for r.at < len(r.text) && isLetter(r.text[r.at]) {
		r.at++
	}
	word = string(r.text[from:r.at])
	from = r.at
	if r.at < len(r.text) && r.text[r.at] == '-' {
		r.at++
	}
	for r.at < len(r.text) && r.text[r.at] >= '0' && r.text[r.at] <= '9' {
		r.at++
	}
	number, err := strconv.Atoi(string(r.text[from:r.at]))
	if r.at < len(r.text) && r.text[r.at] == ' ' {
		r.at++
	}
	return word, number, err == nil
}

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }
