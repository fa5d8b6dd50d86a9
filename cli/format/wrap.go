package format

import (
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
)

// Text makes what others have said safe to print, as [Plain] does, and keeps its lines.
func Text(said string) string {
	lines := strings.Split(strings.TrimRight(said, "\n"), "\n")
	for i, line := range lines {
		lines[i] = Plain(strings.TrimSuffix(line, "\r"))
	}
	return strings.Join(lines, "\n")
}

// Wrap breaks lines between words, so that each has at most width columns; lines after a
// break are indented by so many blanks. A longer word gets a line of its own. With a width
// of 0 no line is broken. Colour codes take no column.
func Wrap(said string, width, indent int) string {
	if width <= indent+20 {
		return said
	}
	var b strings.Builder
	for i, line := range strings.Split(said, "\n") {
		if i > 0 {
			b.WriteByte('\n')
		}
		column, held := 0, false // whether the line holds a word
		for n, word := range strings.Split(line, " ") {
			size := text.StringWidthWithoutEscSequences(word)
			switch {
			case n == 0:
			case column+1+size > width && held && size > 0:
				b.WriteString("\n" + strings.Repeat(" ", indent))
				column, held = indent, false
			default:
				b.WriteByte(' ')
				column++
			}
			b.WriteString(word)
			column, held = column+size, held || size > 0
		}
	}
	return b.String()
}
