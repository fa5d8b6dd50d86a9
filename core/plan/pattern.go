package plan

import (
	"fmt"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"deftheron/core/remedy"
	"deftheron/core/store"
)

// Patterns are lines of the gitignore syntax: the last one that matches decides, "!"
// takes back, what ends in "/" matches folders, and a slash before the end ties a
// pattern to where keys count from. What is in a folder that matches, matches.
type Patterns struct {
	lines []pattern
	// folders remembers which folders match.
	folders map[store.Path]bool
}

type pattern struct {
	glob       string
	negated    bool
	folderOnly bool
}

// ParsePatterns reads patterns. Empty lines, and those that begin with "#", say
// nothing. The error says which line is malformed, and where.
func ParsePatterns(lines []string) (*Patterns, error) {
	p := &Patterns{folders: map[store.Path]bool{}}
	for i, line := range lines {
		one, ok, err := parsePattern(line)
		if err != nil {
			return nil, fmt.Errorf("the pattern %q (number %d) %w", line, i+1, err)
		}
		if ok {
			p.lines = append(p.lines, one)
		}
	}
	return p, nil
}

func parsePattern(line string) (p pattern, ok bool, err error) {
	text := line
	if !strings.HasSuffix(strings.TrimRight(text, " "), `\`) {
		text = strings.TrimRight(text, " ")
	}
	if text == "" || text[0] == '#' {
		return p, false, nil
	}
	if text[0] == '!' {
		p.negated, text = true, text[1:]
	}
	if len(text) > 1 && strings.HasSuffix(text, "/") {
		p.folderOnly, text = true, text[:len(text)-1]
	}
	tied := strings.Contains(text, "/")
	text = strings.TrimPrefix(text, "/")
	if text == "" {
		return p, false, remedy.Errorf("names nothing; write a name such as *.tmp after it")
	}
	if err := checkGlob(text, len(line)-len(strings.TrimLeft(line, "!/"))); err != nil {
		return p, false, err
	}
	// Braces mean nothing to gitignore, and alternatives to the library.
	p.glob = strings.NewReplacer(`\\`, `\\`, `\{`, `\{`, `\}`, `\}`, "{", `\{`, "}", `\}`).Replace(text)
	if !tied {
		p.glob = "**/" + p.glob
	}
	if !doublestar.ValidatePattern(p.glob) {
		return p, false, remedy.Errorf("is malformed; write it as in a .gitignore file, such as *.tmp or build/")
	}
	return p, true, nil
}

// checkGlob says where a pattern is malformed; columns count from 1.
func checkGlob(text string, before int) error {
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '\\':
			if i+1 == len(text) {
				return remedy.Errorf(`ends in a backslash at column %d; write \\ for one`, before+i+1)
			}
			i++
		case '[':
			end := i + 1
			if end < len(text) && (text[end] == '!' || text[end] == '^') {
				end++
			}
			begun := end
			for ; end < len(text) && (text[end] != ']' || end == begun); end++ {
				if text[end] == '\\' {
					end++
				}
			}
			if end >= len(text) {
				return remedy.Errorf(`has a [ at column %d that is not closed; write \[ for a bracket`, before+i+1)
			}
			i = end
		}
	}
	return nil
}

// Empty reports whether there are no patterns.
func (p *Patterns) Empty() bool { return p == nil || len(p.lines) == 0 }

// Match reports whether an entry, or a folder that it is in, matches.
func (p *Patterns) Match(below store.Path, name string, kind store.Kind) bool {
	if p.Empty() {
		return false
	}
	if p.folder(below) {
		return true
	}
	return p.decide(string(below)+strings.ReplaceAll(name, "/", "\x00"), kind == store.KindFolder)
}

// mostFolders bounds the folders that are remembered.
const mostFolders = 1024

func (p *Patterns) folder(path store.Path) bool {
	if path == "" {
		return false
	}
	if matches, known := p.folders[path]; known {
		return matches
	}
	parent, _ := path.Split()
	matches := p.folder(parent) || p.decide(strings.TrimSuffix(string(path), "/"), true)
	if len(p.folders) >= mostFolders {
		clear(p.folders)
	}
	p.folders[path] = matches
	return matches
}

// decide finds the last pattern that matches.
func (p *Patterns) decide(path string, folder bool) bool {
	for i := len(p.lines) - 1; i >= 0; i-- {
		line := p.lines[i]
		if line.folderOnly && !folder {
			continue
		}
		if doublestar.MatchUnvalidated(line.glob, path) {
			return !line.negated
		}
	}
	return false
}
