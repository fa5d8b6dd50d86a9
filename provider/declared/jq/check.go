package jq

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/itchyny/gojq"

	"deftheron/core/remedy"
)

// cost is what evaluating a function of jq can allocate.
type cost uint8

const (
	free    cost = iota + 1 // next to nothing, or by steps of the interpreter
	linear                  // by the size of its input
	wide                    // by many times the size of its input
	ours                    // a function of this package, which charges by itself
	regular                 // one of those that holds a regular expression against a text
)

// functions are those that an expression may use, by name and number of
// arguments. Whatever is not here is refused.
var functions = map[string]cost{
	"empty/0": free, "error/0": free, "error/1": free, "not/0": free, "length/0": free, "utf8bytelength/0": free, "has/1": free, "in/1": free,
	"map/1": free, "select/1": free, "recurse/0": free, "recurse/1": free, "type/0": free, "values/0": free, "nulls/0": free,
	"strings/0": free,
	"numbers/0": free, "arrays/0": free, "objects/0": free, "booleans/0": free, "scalars/0": free, "iterables/0": free, "isempty/1": free,
	"range/1": free, "range/2": free, "range/3": free, "first/0": free, "first/1": free, "last/0": free, "last/1": free, "limit/2": free,
	"nth/1": free, "any/0": free, "any/1": free, "any/2": free, "all/0": free, "all/1": free, "all/2": free, "true/0": free, "false/0": free,
	"null/0":  free,
	"floor/0": free, "ceil/0": free, "round/0": free, "fabs/0": free, "abs/0": free, "now/0": free, "startswith/1": free, "endswith/1": free,
	"tonumber/0": linear, "toboolean/0": free, "tostring/0": linear, "tojson/0": linear, "ascii_downcase/0": linear, "ascii_upcase/0": linear,
	"ltrimstr/1": linear, "rtrimstr/1": linear, "trimstr/1": linear, "trim/0": linear, "ltrim/0": linear, "rtrim/0": linear,
	"implode/0": linear,
	"keys/0":    linear, "to_entries/0": linear, "reverse/0": linear, "flatten/0": linear, "flatten/1": linear, "sort/0": linear,
	"sort_by/1":  linear,
	"group_by/1": linear, "unique/0": linear, "unique_by/1": linear, "min/0": linear, "max/0": linear, "min_by/1": linear, "max_by/1": linear,
	"gmtime/0": linear, "mktime/0": linear, "strftime/1": linear, "strptime/1": linear, "todate/0": linear, "fromdate/0": linear,
	"fromdateiso8601/0": linear, "todateiso8601/0": linear, "del/1": linear,
	"explode/0": wide, "split/1": wide, "fromjson/0": wide,
	"add/0": ours, "join/1": ours, "contains/1": ours, "index/1": ours,
	"from_entries/0": ours, "hex/0": ours, "unhex/0": ours, "path_escape/0": ours, "basename/0": ours, "dirname/0": ours, "ascii_json/0": ours,
	"with_entries/1": free,
	"test/1":         regular, "test/2": regular, "match/1": regular, "match/2": regular, "capture/1": regular, "capture/2": regular,
	"scan/1": regular, "scan/2": regular, "sub/2": regular, "sub/3": regular, "gsub/2": regular, "gsub/3": regular,
}

// prelude are functions of jq that are written in jq, in the form that can be
// bounded. Each is there where its name is used.
var prelude = map[string]string{
	"map_values": "def map_values(f): with_entries({key: .key, value: (.value | f)});",
	"getpath":    "def getpath(p): reduce p[] as $step (.; if . == null then null else .[$step] end);",
	"inside":     "def inside(whole): . as $part | whole | contains($part);",
	"IN":         "def IN(all): . as $one | any(all; . == $one);",
	"toarray":    `def toarray: if type == "array" then . else [.] end;`,
}

// withPrelude puts the functions that a text uses before it.
func withPrelude(functions, source string) string {
	used := ""
	for _, name := range slices.Sorted(maps.Keys(prelude)) {
		if strings.Contains(source, name) || strings.Contains(functions, name) {
			used += prelude[name] + " "
		}
	}
	return used + functions
}

// Functions returns the names of the functions that an expression may use,
// sorted.
func Functions() []string {
	names := map[string]bool{}
	for name := range functions {
		name, _, _ = strings.Cut(name, "/")
		names[name] = true
	}
	for name := range prelude {
		names[name] = true
	}
	return slices.Sorted(maps.Keys(names))
}

var formats = map[string]bool{"@text": true, "@json": true, "@uri": true, "@urid": true, "@base64": true, "@base64d": true, "@html": true}

// checker refuses what cannot be bounded, and replaces what allocates.
type checker struct {
	own  map[string]bool // functions that are defined, as name/arguments
	args []string        // names of arguments of the definitions around
}

func (c *checker) define(def *gojq.FuncDef) (err error) {
	name := fmt.Sprint(def.Name, "/", len(def.Args))
	if strings.HasPrefix(def.Name, "_") {
		return fmt.Errorf("the function %s cannot be called so: names that begin with _ are taken", def.Name)
	}
	if functions[name] != 0 {
		return remedy.Errorf("the function %s already exists; give yours another name", def.Name)
	}
	before := len(c.args)
	for _, arg := range def.Args {
		c.args = append(c.args, strings.TrimPrefix(arg, "$"))
	}
	def.Body, err = c.query(def.Body) // it does not know itself: no recursion
	c.args = c.args[:before]
	c.own[name] = true
	return err
}

// callOf returns a call of one of our functions, with the budget.
func callOf(name string, args ...*gojq.Query) *gojq.Query {
	args = append([]*gojq.Query{{Term: &gojq.Term{Type: gojq.TermTypeFunc, Func: &gojq.Func{Name: budgetVariable}}}}, args...)
	return &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFunc, Func: &gojq.Func{Name: "_heron_" + name, Args: args}}}
}

func pipe(left, right *gojq.Query) *gojq.Query {
	return &gojq.Query{Left: left, Op: gojq.OpPipe, Right: right}
}

func inParentheses(q *gojq.Query) *gojq.Term {
	return &gojq.Term{Type: gojq.TermTypeQuery, Query: q}
}

var operators = map[gojq.Operator]string{gojq.OpAdd: "plus", gojq.OpMul: "times", gojq.OpSub: "minus", gojq.OpDiv: "over"}

func (c *checker) query(q *gojq.Query) (*gojq.Query, error) {
	if q == nil {
		return nil, nil
	}
	if len(q.Imports) > 0 || q.Meta != nil {
		return nil, fmt.Errorf("modules cannot be used: there are no files")
	}
	before := make(map[string]bool, len(c.own))
	maps.Copy(before, c.own)
	defer func() { c.own = before }()
	for _, def := range q.FuncDefs {
		if err := c.define(def); err != nil {
			return nil, err
		}
	}
	var err error
	if q.Left, err = c.query(q.Left); err != nil {
		return nil, err
	}
	if q.Right, err = c.query(q.Right); err != nil {
		return nil, err
	}
	for _, pattern := range q.Patterns {
		if err := c.pattern(pattern); err != nil {
			return nil, err
		}
	}
	switch q.Op {
	case gojq.OpAssign, gojq.OpModify, gojq.OpUpdateAdd, gojq.OpUpdateSub, gojq.OpUpdateMul, gojq.OpUpdateDiv, gojq.OpUpdateMod,
		gojq.OpUpdateAlt:
		return nil, remedy.Errorf("%s cannot be used; build the object that is wanted: . + {name: value}", q.Op)
	}
	if name, ok := operators[q.Op]; ok {
		call := callOf(name, q.Left, q.Right)
		call.FuncDefs = q.FuncDefs
		return call, nil
	}
	if q.Term != nil {
		replaced, err := c.term(q.Term)
		if err != nil {
			return nil, err
		}
		q.Term = replaced
	}
	return q, nil
}

func (c *checker) pattern(p *gojq.Pattern) error {
	if p == nil {
		return nil
	}
	if strings.HasPrefix(p.Name, "$__") {
		return fmt.Errorf("the variable %s cannot be called so", p.Name)
	}
	for _, one := range p.Array {
		if err := c.pattern(one); err != nil {
			return err
		}
	}
	for _, one := range p.Object {
		if one.KeyQuery != nil || one.KeyString != nil {
			return fmt.Errorf("computed keys in a pattern cannot be used")
		}
		if err := c.pattern(one.Val); err != nil {
			return err
		}
	}
	return nil
}

// all replaces queries in place.
func (c *checker) all(queries ...**gojq.Query) error {
	for _, q := range queries {
		replaced, err := c.query(*q)
		if err != nil {
			return err
		}
		*q = replaced
	}
	return nil
}

func (c *checker) term(t *gojq.Term) (*gojq.Term, error) {
	if err := c.index(t.Index); err != nil {
		return nil, err
	}
	for _, suffix := range t.SuffixList {
		if err := c.index(suffix.Index); err != nil {
			return nil, err
		}
	}
	var err error
	switch t.Type {
	case gojq.TermTypeFunc:
		return c.call(t)
	case gojq.TermTypeObject:
		for _, pair := range t.Object.KeyVals {
			if err := c.all(&pair.KeyQuery, &pair.Val); err != nil {
				return nil, err
			}
			if pair.KeyString != nil {
				key, err := c.text(pair.KeyString, "")
				if err != nil {
					return nil, err
				}
				if key != nil {
					pair.KeyString, pair.KeyQuery = nil, key
				}
			} else if strings.HasPrefix(pair.Key, "$") {
				if err := c.variable(pair.Key); err != nil {
					return nil, err
				}
			}
		}
	case gojq.TermTypeArray:
		err = c.all(&t.Array.Query)
	case gojq.TermTypeUnary:
		t.Unary.Term, err = c.term(t.Unary.Term)
	case gojq.TermTypeFormat, gojq.TermTypeString:
		return c.formatted(t)
	case gojq.TermTypeIf:
		err = c.all(&t.If.Cond, &t.If.Then, &t.If.Else)
		for _, one := range t.If.Elif {
			if err == nil {
				err = c.all(&one.Cond, &one.Then)
			}
		}
	case gojq.TermTypeTry:
		err = c.all(&t.Try.Body, &t.Try.Catch)
	case gojq.TermTypeReduce:
		err = c.all(&t.Reduce.Query, &t.Reduce.Start, &t.Reduce.Update)
		for _, pattern := range t.Reduce.Patterns {
			if err == nil {
				err = c.pattern(pattern)
			}
		}
	case gojq.TermTypeForeach:
		err = c.all(&t.Foreach.Query, &t.Foreach.Start, &t.Foreach.Update, &t.Foreach.Extract)
		for _, pattern := range t.Foreach.Patterns {
			if err == nil {
				err = c.pattern(pattern)
			}
		}
	case gojq.TermTypeLabel:
		err = c.all(&t.Label.Body)
	case gojq.TermTypeQuery:
		err = c.all(&t.Query)
	}
	return t, err
}

func (c *checker) index(index *gojq.Index) error {
	if index == nil {
		return nil
	}
	if index.Str != nil && len(index.Str.Queries) > 0 {
		key, err := c.text(index.Str, "")
		if err != nil {
			return err
		}
		index.Str, index.Start = nil, key
		return nil
	}
	return c.all(&index.Start, &index.End)
}

func (c *checker) variable(name string) error {
	if name == "$ENV" || strings.HasPrefix(name, "$__") {
		return fmt.Errorf("%s cannot be used: an expression sees what it is given and nothing else", name)
	}
	return nil
}

// call checks a function call, and charges for it.
func (c *checker) call(t *gojq.Term) (*gojq.Term, error) {
	f := t.Func
	if strings.HasPrefix(f.Name, "$") {
		return t, c.variable(f.Name)
	}
	for i := range f.Args {
		if err := c.all(&f.Args[i]); err != nil {
			return nil, err
		}
	}
	name := fmt.Sprint(f.Name, "/", len(f.Args))
	if c.own[name] || len(f.Args) == 0 && slices.Contains(c.args, f.Name) {
		return t, nil
	}
	suffixes := t.SuffixList
	replaced := func(q *gojq.Query) *gojq.Term {
		term := inParentheses(q)
		term.SuffixList = suffixes
		return term
	}
	bare := &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFunc, Func: f}}
	switch functions[name] {
	case free:
		if name == "with_entries/1" {
			call := func(name string, args ...*gojq.Query) *gojq.Query {
				return &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFunc, Func: &gojq.Func{Name: name, Args: args}}}
			}
			return replaced(pipe(callOf("charge"), pipe(call("to_entries"), pipe(call("map", f.Args[0]), callOf("from_entries"))))), nil
		}
		return t, nil
	case linear:
		return replaced(pipe(callOf("charge"), bare)), nil
	case wide:
		return replaced(pipe(callOf("charge_wide"), bare)), nil
	case ours:
		return replaced(callOf(f.Name, f.Args...)), nil
	case regular:
		return replaced(regularCall(f)), nil
	}
	return nil, remedy.Errorf("the function %s cannot be used here, or with %d arguments; there are %s", f.Name, len(f.Args),
		strings.Join(Functions(), ", "))
}

// regularCall is a call of test, match, scan, capture, sub or gsub.
func regularCall(f *gojq.Func) *gojq.Query {
	args := f.Args
	replacing := f.Name == "sub" || f.Name == "gsub"
	var with *gojq.Query
	if replacing {
		with, args = args[1], append(slices.Clip(args[:1]), args[2:]...)
	}
	if len(args) == 1 {
		args = append(slices.Clip(args), quoted(""))
	}
	call := callOf(f.Name, args...)
	switch {
	case replacing:
		// [.[] | if type == "object" then with else . end] | join("")
		identity := &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeIdentity}}
		each := &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeIdentity, SuffixList: []*gojq.Suffix{{Iter: true}}}}
		isMatch := &gojq.Query{
			Left: &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFunc, Func: &gojq.Func{Name: "type"}}}, Op: gojq.OpEq, Right: quoted("object"),
		}
		replace := &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeIf, If: &gojq.If{Cond: isMatch, Then: with, Else: identity}}}
		array := &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeArray, Array: &gojq.Array{Query: pipe(each, replace)}}}
		return pipe(call, pipe(array, callOf("join", quoted(""))))
	case f.Name == "test":
		return call
	}
	all := inParentheses(call) // each match by itself
	all.SuffixList = []*gojq.Suffix{{Iter: true}}
	return &gojq.Query{Term: all}
}

// quoted is a text as a query.
func quoted(s string) *gojq.Query {
	return &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeString, Str: &gojq.String{Str: s}}}
}

// formatted checks a string or a format, and charges for what it builds.
func (c *checker) formatted(t *gojq.Term) (*gojq.Term, error) {
	if t.Format != "" && !formats[t.Format] {
		return nil, remedy.Errorf("the format %s cannot be used; there are %s", t.Format, strings.Join(slices.Sorted(maps.Keys(formats)), ", "))
	}
	if t.Str == nil { // a format alone
		term := inParentheses(pipe(callOf("charge"), &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFormat, Format: t.Format}}))
		term.SuffixList = t.SuffixList
		return term, nil
	}
	text, err := c.text(t.Str, t.Format)
	if text == nil || err != nil {
		return t, err
	}
	term := inParentheses(text)
	term.SuffixList = t.SuffixList
	return term, nil
}

// text turns a string with expressions in it into a call that joins its parts;
// nil where there are none.
func (c *checker) text(s *gojq.String, format string) (*gojq.Query, error) {
	if len(s.Queries) == 0 {
		return nil, nil
	}
	if format == "" {
		format = "@text"
	}
	var list *gojq.Query
	for _, part := range s.Queries {
		literal := part.Term != nil && part.Term.Str != nil && len(part.Term.Str.Queries) == 0 && part.Term.Format == ""
		part, err := c.query(part)
		if err != nil {
			return nil, err
		}
		if !literal {
			shown := &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeFormat, Format: format}}
			part = &gojq.Query{Term: inParentheses(pipe(part, pipe(callOf("charge"), shown)))}
		}
		if list == nil {
			list = part
		} else {
			list = &gojq.Query{Left: list, Op: gojq.OpComma, Right: part}
		}
	}
	array := &gojq.Query{Term: &gojq.Term{Type: gojq.TermTypeArray, Array: &gojq.Array{Query: list}}}
	return &gojq.Query{Term: inParentheses(pipe(array, callOf("add")))}, nil
}
