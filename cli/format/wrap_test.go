package format_test

import (
	"strings"
	"testing"

	"deftheron/cli/format"
)

func TestWrap(t *testing.T) {
	for _, c := range []struct {
		said          string
		width, indent int
		want          string
	}{
		{"one two three four five six seven", 0, 2, "one two three four five six seven"},
		{"  why  one two three four five six seven", 30, 7, "  why  one two three four five\n       six seven"},
		{"a word-that-is-longer-than-the-line-is-wide stays", 24, 2, "a\n  word-that-is-longer-than-the-line-is-wide\n  stays"},
		{"\x1b[38;2;1;2;3mcoloured words\x1b[0m take no column at all", 32, 0, "\x1b[38;2;1;2;3mcoloured words\x1b[0m take no column at\nall"},
		{"日本語 の 名前 が 二つ の 列 を 使う と 思う", 24, 0, "日本語 の 名前 が 二つ\nの 列 を 使う と 思う"},
		{"two lines\nof a text that goes on and on", 24, 2, "two lines\nof a text that goes on\n  and on"},
	} {
		got := format.Wrap(c.said, c.width, c.indent)
		if got != c.want {
			t.Errorf("%q in %d columns is %q, want %q", c.said, c.width, got, c.want)
		}
		if strings.Join(strings.Fields(got), " ") != strings.Join(strings.Fields(c.said), " ") {
			t.Errorf("%q has lost words: %q", c.said, got)
		}
	}
}

func TestText(t *testing.T) {
	got := format.Text("no\x1b[2Jt good\r\nsecond\u202e line\x07\n")
	if got != `no\u001b[2Jt good`+"\n"+`second\u202e line\u0007` {
		t.Errorf("%q", got)
	}
}
