package jq

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math/big"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"

	"github.com/itchyny/gojq"
)

// budgetVariable hands the budget of an evaluation to our functions.
const budgetVariable = "$__budget"

// budget is the context of one evaluation. gojq asks for Done before each of
// its steps; so asking is counting.
type budget struct {
	context.Context
	cancel context.CancelFunc
	steps  int
	bytes  int
	ended  chan struct{}
	isOver string
}

func newBudget(ctx context.Context) *budget {
	ctx, cancel := context.WithTimeout(ctx, Time)
	return &budget{Context: ctx, cancel: cancel, steps: Steps, bytes: Memory}
}

func (b *budget) close() { b.cancel() }

// over says in words which bound was gone over; empty for none.
func (b *budget) over() string {
	if b.isOver == "" && errors.Is(b.Context.Err(), context.DeadlineExceeded) {
		return fmt.Sprintf("it took longer than %v", Time)
	}
	return b.isOver
}

func (b *budget) end(why string) {
	if b.ended == nil {
		b.isOver, b.ended = why, make(chan struct{})
		close(b.ended)
	}
}

// Done counts a step.
func (b *budget) Done() <-chan struct{} {
	if b.ended != nil {
		return b.ended
	}
	if b.steps--; b.steps < 0 {
		b.end(fmt.Sprintf("it took more than %d steps; it is endless, or asks too much", Steps))
		return b.ended
	}
	if b.steps%64 == 0 {
		return b.Context.Done()
	}
	return nil
}

// Err is asked for when Done is closed.
func (b *budget) Err() error {
	if b.ended != nil {
		return ErrBounds
	}
	return b.Context.Err()
}

// charge takes bytes from the budget and reports whether there were so many.
func (b *budget) charge(n int) bool {
	if n < 0 || n > b.bytes {
		b.end(fmt.Sprintf("it would make more than %d MiB of values", Memory>>20))
		return false
	}
	b.bytes -= n
	return true
}

// sizeOf is about how many bytes a value takes, counted up to limit.
func sizeOf(value any, limit int) int {
	switch v := value.(type) {
	case string:
		return 16 + len(v)
	case []any:
		n := 24
		for _, one := range v {
			if n += 16 + sizeOf(one, limit-n); n > limit {
				break
			}
		}
		return n
	case map[string]any:
		n := 48
		for key, one := range v {
			if n += 32 + len(key) + sizeOf(one, limit-n); n > limit {
				break
			}
		}
		return n
	case *big.Int:
		return 32 + len(v.Bits())*8
	}
	return 16
}

// natives are our functions. Each gets the budget as its first argument.
func natives() []gojq.CompilerOption {
	var options []gojq.CompilerOption
	add := func(name string, args int, run func(b *budget, in any, args []any) any) {
		options = append(options, gojq.WithFunction("_heron_"+name, args+1, args+1, func(in any, given []any) any {
			b, ok := given[0].(*budget)
			if !ok {
				return errors.New("no budget")
			}
			return run(b, in, given[1:])
		}))
	}
	add("charge", 0, func(b *budget, in any, _ []any) any { return charged(b, in, 2) })
	add("charge_wide", 0, func(b *budget, in any, _ []any) any { return charged(b, in, 32) })
	for name, operate := range map[string]func(l, r any) any{"plus": plus, "minus": minus, "times": times, "over": over} {
		add(name, 2, func(b *budget, _ any, args []any) any { return operated(b, name, operate, args[0], args[1]) })
	}
	add("add", 0, addAll)
	add("join", 1, join)
	add("from_entries", 0, fromEntries)
	add("contains", 1, func(b *budget, in any, args []any) any { return contains(in, args[0]) })
	add("index", 1, func(b *budget, in any, args []any) any { return indexOf(in, args[0]) })
	add("test", 2, tested)
	add("match", 2, matching(false, described))
	add("scan", 2, matching(true, scanned))
	add("capture", 2, matching(false, func(re *regexp.Regexp, text string, span []int) any { return named(re, text, span) }))
	add("sub", 2, pieces(false))
	add("gsub", 2, pieces(true))
	for name, convert := range texts {
		add(name, 0, func(b *budget, in any, _ []any) any {
			text, ok := in.(string)
			if !ok {
				return fmt.Errorf("%s needs a string, not %s", name, kindOf(in))
			}
			if !b.charge(8*len(text) + 16) {
				return ErrBounds
			}
			return convert(text)
		})
	}
	return options
}

func charged(b *budget, in any, times int) any {
	if !b.charge(sizeOf(in, b.bytes+1) * times) {
		return ErrBounds
	}
	return in
}

// texts are functions of a string.
var texts = map[string]func(string) any{
	// hex: base64 (either alphabet, padded or not) to hexadecimal.
	"hex": func(text string) any {
		text = strings.TrimRight(strings.NewReplacer("-", "+", "_", "/").Replace(text), "=")
		raw, err := base64.RawStdEncoding.DecodeString(text)
		if err != nil {
			return fmt.Errorf("hex: %q is not base64", text)
		}
		return hex.EncodeToString(raw)
	},
	// unhex: hexadecimal to base64.
	"unhex": func(text string) any {
		raw, err := hex.DecodeString(text)
		if err != nil {
			return fmt.Errorf("unhex: %q is not hexadecimal", text)
		}
		return base64.StdEncoding.EncodeToString(raw)
	},
	// path_escape: each step of a path percent-encoded, the slashes kept.
	"path_escape": func(text string) any {
		steps := strings.Split(text, "/")
		for i, step := range steps {
			steps[i] = url.PathEscape(step)
		}
		return strings.Join(steps, "/")
	},
	"basename": func(text string) any { return text[strings.LastIndexByte(text, '/')+1:] },
	"dirname": func(text string) any {
		return text[:max(0, strings.LastIndexByte(text, '/'))]
	},
	// ascii_json: a JSON text in ASCII alone, as headers need it.
	"ascii_json": func(text string) any {
		var b strings.Builder
		for _, r := range text {
			switch {
			case r < 0x7f:
				b.WriteRune(r)
			case r > 0xffff:
				high, low := utf16.EncodeRune(r)
				fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
			default:
				fmt.Fprintf(&b, `\u%04x`, r)
			}
		}
		return b.String()
	},
}

// operated charges for what an operator makes of its operands, and makes it.
func operated(b *budget, name string, operate func(l, r any) any, left, right any) any {
	size := sizeOf(left, b.bytes+1) + sizeOf(right, b.bytes+1)
	if name == "times" {
		if text, n, ok := repeated(left, right); ok {
			size = int(min(float64(Memory)*2, max(0, n)*float64(len(text)))) + 16
		}
	}
	if name == "over" {
		size *= 16
	}
	if !b.charge(size) {
		return ErrBounds
	}
	return operate(left, right)
}

func repeated(left, right any) (string, float64, bool) {
	if text, ok := left.(string); ok {
		n, ok := number(right)
		return text, n, ok
	}
	if text, ok := right.(string); ok {
		n, ok := number(left)
		return text, n, ok
	}
	return "", 0, false
}

func number(value any) (float64, bool) {
	switch n := value.(type) {
	case int:
		return float64(n), true
	case float64:
		return n, true
	case *big.Int:
		f, _ := new(big.Float).SetInt(n).Float64()
		return f, true
	case json.Number:
		f, err := n.Float64()
		return f, err == nil
	}
	return 0, false
}

// arithmetic runs gojq's own operator on two numbers.
func arithmetic(operator string, left, right any) any {
	results := arithmetics()[operator].Run(nil, left, right)
	value, _ := results.Next()
	return value
}

var arithmetics = sync.OnceValue(func() map[string]*gojq.Code {
	codes := map[string]*gojq.Code{}
	for _, operator := range []string{"+", "-", "*", "/"} {
		query, err := gojq.Parse("$l " + operator + " $r")
		if err == nil {
			codes[operator], err = gojq.Compile(query, gojq.WithVariables([]string{"$l", "$r"}))
		}
		if err != nil {
			panic(err)
		}
	}
	return codes
})

func plus(left, right any) any { return arithmetic("+", left, right) }

func minus(left, right any) any {
	if list, ok := left.([]any); ok && len(list) > 10_000 {
		return errors.New("an array of more than 10000 cannot be subtracted from")
	}
	return arithmetic("-", left, right)
}

func times(left, right any) any { return arithmetic("*", left, right) }

func over(left, right any) any { return arithmetic("/", left, right) }

func addAll(b *budget, in any, _ []any) any {
	list, ok := in.([]any)
	if !ok {
		return fmt.Errorf("add needs an array, not %s", kindOf(in))
	}
	if len(list) > 0 {
		if _, ok := list[0].(string); ok {
			return join(b, in, []any{""})
		}
	}
	var sum any
	for _, one := range list {
		if sum = operated(b, "plus", plus, sum, one); isError(sum) {
			return sum
		}
	}
	return sum
}

func isError(value any) bool {
	_, ok := value.(error)
	return ok
}

func join(b *budget, in any, args []any) any {
	list, ok := in.([]any)
	between, text := args[0].(string)
	if !ok || !text {
		return fmt.Errorf("join needs an array and a string, not %s and %s", kindOf(in), kindOf(args[0]))
	}
	var out strings.Builder
	for i, one := range list {
		piece := ""
		switch v := one.(type) {
		case string:
			piece = v
		case nil:
		case bool, int, float64, *big.Int, json.Number:
			piece = fmt.Sprint(v)
		default:
			return fmt.Errorf("join: %s cannot be joined", kindOf(one))
		}
		if !b.charge(2 * (len(piece) + len(between))) {
			return ErrBounds
		}
		if i > 0 {
			out.WriteString(between)
		}
		out.WriteString(piece)
	}
	return out.String()
}

func fromEntries(b *budget, in any, _ []any) any {
	list, ok := in.([]any)
	if !ok {
		return fmt.Errorf("from_entries needs an array, not %s", kindOf(in))
	}
	if !b.charge(sizeOf(in, b.bytes+1)) {
		return ErrBounds
	}
	object := make(map[string]any, len(list))
	for _, one := range list {
		pair, _ := one.(map[string]any)
		key, ok := pair["key"]
		if !ok {
			key = pair["name"]
		}
		name, ok := key.(string)
		if !ok {
			return fmt.Errorf("from_entries: a key is %s, not a string", kindOf(key))
		}
		object[name] = pair["value"]
	}
	return object
}

// mostCompared is how many values one contains compares.
const mostCompared = 1_000_000

// contains is jq's: a string by its parts, an array by its elements and an
// object by its values, each by what they contain.
func contains(in, wanted any) any {
	if kindOf(in) != kindOf(wanted) {
		return fmt.Errorf("contains works on two of one kind, not on %s and %s", kindOf(in), kindOf(wanted))
	}
	left := mostCompared
	is := holds(in, wanted, &left)
	if left < 0 {
		return fmt.Errorf("contains compares at most %d values", mostCompared)
	}
	return is
}

func holds(in, wanted any, left *int) bool {
	if *left--; *left < 0 {
		return false
	}
	switch whole := in.(type) {
	case string:
		part, ok := wanted.(string)
		return ok && strings.Contains(whole, part)
	case []any:
		parts, ok := wanted.([]any)
		return ok && !slices.ContainsFunc(parts, func(part any) bool {
			return !slices.ContainsFunc(whole, func(one any) bool { return holds(one, part, left) })
		})
	case map[string]any:
		parts, ok := wanted.(map[string]any)
		for name, part := range parts {
			one, has := whole[name]
			ok = ok && has && holds(one, part, left)
		}
		return ok
	}
	return gojq.Compare(in, wanted) == 0
}

func indexOf(in, wanted any) any {
	switch whole := in.(type) {
	case string:
		if part, ok := wanted.(string); ok {
			if at := strings.Index(whole, part); at >= 0 && part != "" {
				return utf8.RuneCountInString(whole[:at])
			}
			return nil
		}
	case []any:
		if _, list := wanted.([]any); !list {
			if at := slices.IndexFunc(whole, func(one any) bool { return gojq.Compare(one, wanted) == 0 }); at >= 0 {
				return at
			}
			return nil
		}
	}
	return fmt.Errorf("index works on two strings, or on an array and an element, not on %s and %s", kindOf(in), kindOf(wanted))
}
