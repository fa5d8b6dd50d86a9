// Package query reads what somebody looks for: words, "phrases", AND, OR, NOT, parentheses
// and a * at the end of the beginning of a word. [Parse] reads it, [Query.Match] writes it for
// a full-text index (FTS5 of SQLite), and [Excerpt] shows where a text has it.
package query

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"deftheron/core/remedy"
)

// The bounds of a query.
const (
	Longest   = 1000 // bytes
	MostTerms = 50
	deepest   = 20
)

// Query is one that was read.
type Query struct {
	root  node
	terms []term // those that are looked for, in order
	plain bool   // it is terms alone, which are all looked for
}

// IsZero reports whether nothing is looked for.
func (q Query) IsZero() bool { return len(q.terms) == 0 }

// node is a term, or several nodes with an operator between them.
type node struct {
	operator string // AND, OR or NOT; empty of a term
	nodes    []node
	term     term
}

type term struct {
	text   string
	prefix bool
}

// Parse reads a query. Its errors name the place by the count of characters, from 1.
func Parse(text string) (Query, error) {
	if len(text) > Longest {
		return Query{}, remedy.Errorf("the query has %d bytes; it may have %d", len(text), Longest)
	}
	if !utf8.ValidString(text) {
		return Query{}, remedy.Errorf("the query is not UTF-8; write it again")
	}
	p := &parser{plain: true}
	if err := p.split(text); err != nil {
		return Query{}, err
	}
	if len(p.tokens) == 0 {
		return Query{}, remedy.Errorf("the query is empty; give a word to look for")
	}
	root, err := p.or(0)
	if err != nil {
		return Query{}, err
	}
	if p.at < len(p.tokens) {
		return Query{}, p.wrong("%s closes nothing; remove it", p.tokens[p.at].shown())
	}
	if len(p.terms) > MostTerms {
		return Query{}, remedy.Errorf("the query has %d words; it may have %d", len(p.terms), MostTerms)
	}
	q := Query{root: root, plain: p.plain}
	q.terms = root.wanted(nil)
	return q, nil
}

// token is a term, an operator or a parenthesis.
type token struct {
	kind string // "term", "AND", "OR", "NOT", "(" or ")"
	term term
	at   int // characters before it
}

func (t token) shown() string {
	if t.kind == "term" {
		return fmt.Sprintf("%q", t.term.text)
	}
	return t.kind
}

type parser struct {
	tokens []token
	terms  []term
	at     int
	plain  bool
}

// split splits a text into tokens.
func (p *parser) split(text string) error {
	runes := []rune(text)
	for i := 0; i < len(runes); {
		switch r := runes[i]; {
		case unicode.IsSpace(r):
			i++
		case r == '(' || r == ')':
			p.tokens = append(p.tokens, token{kind: string(r), at: i})
			i++
		case r == '"' || r == '“' || r == '”':
			end := i + 1
			for end < len(runes) && runes[end] != '"' && runes[end] != '”' && runes[end] != '“' {
				end++
			}
			if end == len(runes) {
				return remedy.Errorf("the quotation mark at character %d is not closed; add another at the end of the phrase", i+1)
			}
			p.add(strings.TrimSpace(string(runes[i+1:end])), i)
			i = end + 1
		default:
			end := i
			for end < len(runes) && !unicode.IsSpace(runes[end]) && !strings.ContainsRune(`()"“”`, runes[end]) {
				end++
			}
			word := string(runes[i:end])
			if word == "AND" || word == "OR" || word == "NOT" {
				p.tokens = append(p.tokens, token{kind: word, at: i})
			} else {
				p.add(word, i)
			}
			i = end
		}
	}
	return nil
}

// add adds a term, if there is anything in it.
func (p *parser) add(text string, at int) {
	cut, prefix := strings.CutSuffix(text, "*")
	cut = strings.TrimRight(cut, "*")
	if cut == "" {
		return
	}
	p.tokens = append(p.tokens, token{kind: "term", term: term{cut, prefix}, at: at})
}

func (p *parser) wrong(format string, args ...any) error {
	place := 0
	if p.at < len(p.tokens) {
		place = p.tokens[p.at].at
	} else if len(p.tokens) > 0 {
		place = p.tokens[len(p.tokens)-1].at
	}
	return remedy.Errorf("the query is wrong at character %d: "+format, append([]any{place + 1}, args...)...)
}

func (p *parser) next(kind string) bool {
	if p.at < len(p.tokens) && p.tokens[p.at].kind == kind {
		p.at++
		return true
	}
	return false
}

func (p *parser) or(depth int) (node, error) {
	if depth > deepest {
		return node{}, p.wrong("parentheses are more than %d deep; remove some", deepest)
	}
	return p.series("OR", func() bool { return p.next("OR") }, func() (node, error) { return p.and(depth) })
}

func (p *parser) and(depth int) (node, error) {
	more := func() bool {
		if p.next("AND") {
			return true
		}
		return p.at < len(p.tokens) && (p.tokens[p.at].kind == "term" || p.tokens[p.at].kind == "(")
	}
	return p.series("AND", more, func() (node, error) { return p.not(depth) })
}

func (p *parser) not(depth int) (node, error) {
	return p.series("NOT", func() bool { return p.next("NOT") }, func() (node, error) { return p.primary(depth) })
}

// series reads nodes with an operator between them.
func (p *parser) series(operator string, more func() bool, read func() (node, error)) (node, error) {
	first, err := read()
	if err != nil {
		return node{}, err
	}
	all := []node{first}
	for more() {
		one, err := read()
		if err != nil {
			return node{}, err
		}
		all = append(all, one)
		p.plain = p.plain && operator == "AND"
	}
	if len(all) == 1 {
		return first, nil
	}
	return node{operator: operator, nodes: all}, nil
}

func (p *parser) primary(depth int) (node, error) {
	if p.at == len(p.tokens) {
		return node{}, p.wrong("a word is missing after %s; add it, or remove %s", p.tokens[p.at-1].shown(), p.tokens[p.at-1].shown())
	}
	switch one := p.tokens[p.at]; one.kind {
	case "term":
		p.at++
		p.terms = append(p.terms, one.term)
		return node{term: one.term}, nil
	case "(":
		p.at++
		inner, err := p.or(depth + 1)
		if err != nil {
			return node{}, err
		}
		if !p.next(")") {
			return node{}, p.wrong("a parenthesis is not closed; add )")
		}
		return inner, nil
	case "NOT":
		return node{}, p.wrong("a word is missing before NOT; NOT leaves out of what is found")
	case ")":
		return node{}, p.wrong(") closes nothing; remove it")
	default:
		return node{}, p.wrong("a word is missing before %s; to look for the word itself, write %q", one.kind, strings.ToLower(one.kind))
	}
}

// wanted returns the terms that are looked for, without those after NOT.
func (n node) wanted(all []term) []term {
	switch n.operator {
	case "":
		return append(all, n.term)
	case "NOT":
		return n.nodes[0].wanted(all)
	}
	for _, one := range n.nodes {
		all = one.wanted(all)
	}
	return all
}

// Match returns the query for an index of words; empty if none of it is a word.
func (q Query) Match() string { return q.root.match() }

func (n node) match() string {
	if n.operator == "" {
		if !strings.ContainsFunc(n.term.text, isWord) {
			return ""
		}
		quoted := `"` + strings.ReplaceAll(strings.ReplaceAll(n.term.text, `"`, `""`), "\x00", " ") + `"`
		if n.term.prefix {
			quoted += "*"
		}
		return quoted
	}
	var parts []string
	for i, one := range n.nodes {
		part := one.match()
		if part == "" && i == 0 && n.operator == "NOT" {
			return ""
		}
		if part != "" {
			parts = append(parts, part)
		}
	}
	if len(parts) < 2 {
		return strings.Join(parts, "")
	}
	return "(" + strings.Join(parts, " "+n.operator+" ") + ")"
}

func isWord(r rune) bool {
	return unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.Is(unicode.Co, r)
}

// Parts returns the query for an index of three characters each, by which any part of a name
// is found; ok is false if it has operators, or a term that is shorter.
func (q Query) Parts() (match string, ok bool) {
	if !q.plain {
		return "", false
	}
	var parts []string
	for _, one := range q.terms {
		if utf8.RuneCountInString(one.text) < 3 {
			return "", false
		}
		parts = append(parts, `"`+strings.ReplaceAll(strings.ReplaceAll(one.text, `"`, `""`), "\x00", " ")+`"`)
	}
	return strings.Join(parts, " AND "), len(parts) > 0
}

// Terms returns the terms that are looked for.
func (q Query) Terms() []string {
	texts := make([]string, 0, len(q.terms))
	for _, one := range q.terms {
		texts = append(texts, one.text)
	}
	return texts
}
