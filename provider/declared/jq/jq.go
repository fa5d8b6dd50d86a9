// Package jq evaluates the expressions of a provider definition: a subset of jq that
// is checked when it is compiled, and bounded in time and memory.
//
// [Compile] parses an expression with gojq and refuses functions that reach outside
// of it (environment, files, more input) or cannot be bounded. Functions that allocate
// are replaced by ones that charge a budget. [Expr.Run] then evaluates the expression
// within [Steps] steps, [Memory] bytes and [Time], whichever ends first. Expressions
// that only follow names, such as .owner.name, are looked up without an interpreter:
// most of a listing's mapping is of that kind.
package jq

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/itchyny/gojq"
)

// The bounds of one evaluation.
const (
	// Steps of the interpreter.
	Steps = 500_000
	// Memory is how many bytes of values may be made, those given up included.
	Memory = 32 << 20
	// Time that an evaluation may take.
	Time = 2 * time.Second
	// Longest expression, in bytes.
	Longest = 16 << 10
)

// ErrBounds is the error of an evaluation that exceeds one of its bounds.
var ErrBounds = errors.New("over its bounds")

// Variables that every expression may use beside its input.
var Variables = []string{"$in", "$headers", "$status"}

// Input is what an expression is evaluated on.
type Input struct {
	// Value is ".": what encoding/json decodes, with json.Number.
	Value any
	// In, Headers and Status are the variables.
	In      any
	Headers any
	Status  int
}

// Expr is a compiled expression. It may be used by many goroutines at once.
type Expr struct {
	source string
	path   []string // of an expression that only follows names
	each   bool     // and then takes each of an array: .items[]
	code   *gojq.Code
}

// String returns the expression as it was written.
func (e *Expr) String() string { return e.source }

// Compile compiles an expression. functions are definitions ("def …;") that it
// may use. The error says what is wrong, and where in the expression.
func Compile(source, functions string) (*Expr, error) {
	if len(source)+len(functions) > Longest {
		return nil, fmt.Errorf("it is longer than %d bytes", Longest)
	}
	query, err := parse(source)
	if err != nil {
		return nil, err
	}
	e := &Expr{source: source}
	if path, each, ok := namesOf(query); ok {
		e.path, e.each = path, each
		return e, nil
	}
	defs, err := parseFunctions(withPrelude(functions, source))
	if err != nil {
		return nil, fmt.Errorf("in the functions: %w", err)
	}
	c := &checker{own: map[string]bool{}}
	for _, def := range defs {
		if err := c.define(def); err != nil {
			return nil, fmt.Errorf("in the functions: %w", err)
		}
	}
	if query, err = c.query(query); err != nil {
		return nil, err
	}
	query.FuncDefs = append(append([]*gojq.FuncDef(nil), defs...), query.FuncDefs...)
	options := append(natives(), gojq.WithVariables(append([]string{budgetVariable}, Variables...)))
	if e.code, err = gojq.Compile(query, options...); err != nil {
		return nil, err
	}
	return e, nil
}

// CheckFunctions compiles definitions by themselves.
func CheckFunctions(functions string) error {
	if strings.TrimSpace(functions) == "" {
		return nil
	}
	_, err := Compile("1 + 1", functions)
	return err
}

func parse(source string) (*gojq.Query, error) {
	query, err := gojq.Parse(source)
	if err == nil {
		return query, nil
	}
	var at *gojq.ParseError
	if errors.As(err, &at) {
		before := source[:min(at.Offset, len(source))]
		line := strings.Count(before, "\n")
		return nil, fmt.Errorf("%w (after %q)", &SyntaxError{Line: line, err: err}, lastOf(before[strings.LastIndexByte(before, '\n')+1:], 24))
	}
	return nil, err
}

// SyntaxError is an expression that is not jq.
type SyntaxError struct {
	// Line of the expression, from 0.
	Line int
	err  error
}

func (e *SyntaxError) Error() string { return e.err.Error() }

func lastOf(text string, n int) string { return text[max(0, len(text)-n):] }

func parseFunctions(functions string) ([]*gojq.FuncDef, error) {
	if strings.TrimSpace(functions) == "" {
		return nil, nil
	}
	query, err := parse(functions + "\n.")
	if err != nil {
		return nil, err
	}
	return query.FuncDefs, nil
}

// namesOf recognises .a.b, ."a b" and .a[].
func namesOf(q *gojq.Query) (names []string, each, ok bool) {
	if len(q.FuncDefs) > 0 || q.Term == nil || q.Op != 0 || q.Meta != nil || len(q.Imports) > 0 {
		return nil, false, false
	}
	names = []string{}
	switch q.Term.Type {
	case gojq.TermTypeIdentity:
	case gojq.TermTypeIndex:
		name, is := indexName(q.Term.Index)
		if !is {
			return nil, false, false
		}
		names = append(names, name)
	default:
		return nil, false, false
	}
	for i, suffix := range q.Term.SuffixList {
		name, is := indexName(suffix.Index)
		switch {
		case is && !suffix.Optional:
			names = append(names, name)
		case suffix.Iter && i == len(q.Term.SuffixList)-1:
			each = true
		default:
			return nil, false, false
		}
	}
	return names, each, true
}

func indexName(index *gojq.Index) (string, bool) {
	switch {
	case index == nil || index.IsSlice || index.Start != nil:
		return "", false
	case index.Str != nil:
		return index.Str.Str, len(index.Str.Queries) == 0
	}
	return index.Name, index.Name != ""
}

// Run evaluates the expression and returns its first result: nil where it has
// none or is null.
func (e *Expr) Run(ctx context.Context, in Input) (any, error) {
	var first any
	err := e.Each(ctx, in, func(value any) bool {
		first = value
		return false
	})
	return first, err
}

// Each evaluates the expression and calls yield with each result, until it
// returns false.
func (e *Expr) Each(ctx context.Context, in Input, yield func(any) bool) error {
	if e.code == nil {
		return e.follow(in.Value, yield)
	}
	budget := newBudget(ctx)
	defer budget.close()
	results := e.code.RunWithContext(budget, in.Value, budget, in.In, in.Headers, in.Status)
	for {
		value, more := results.Next()
		if !more {
			return nil
		}
		if err, is := value.(error); is {
			return e.failed(ctx, budget, err)
		}
		if !yield(value) {
			return nil
		}
	}
}

func (e *Expr) failed(ctx context.Context, budget *budget, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if over := budget.over(); over != "" {
		return fmt.Errorf("jq: %s: %s: %w", e.brief(), over, ErrBounds)
	}
	return fmt.Errorf("jq: %s: %w", e.brief(), err)
}

func (e *Expr) brief() string {
	text := strings.Join(strings.Fields(e.source), " ")
	if len(text) > 60 {
		text = text[:57] + "…"
	}
	return text
}

func (e *Expr) follow(value any, yield func(any) bool) error {
	for _, name := range e.path {
		switch object := value.(type) {
		case map[string]any:
			value = object[name]
		case nil:
		default:
			return fmt.Errorf("jq: %s: there is no %q in %s", e.brief(), name, kindOf(value))
		}
	}
	if !e.each {
		yield(value)
		return nil
	}
	switch list := value.(type) {
	case []any:
		for _, one := range list {
			if !yield(one) {
				break
			}
		}
		return nil
	case map[string]any:
		for _, one := range list {
			if !yield(one) {
				break
			}
		}
		return nil
	}
	return fmt.Errorf("jq: %s: %s holds no list", e.brief(), kindOf(value))
}

func kindOf(value any) string {
	if value == nil {
		return "null"
	}
	return gojq.TypeOf(value)
}
