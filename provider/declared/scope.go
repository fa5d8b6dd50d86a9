package declared

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"maps"
	"math/big"
	"net/http"
	"strconv"
	"strings"
	"time"

	"deftheron/core/store"
	"deftheron/provider/declared/jq"
	"deftheron/provider/declared/uritemplate"
)

// scope is what expressions and addresses of a request see: "." and $in. It
// holds what JSON holds: nil, bool, int, float64, string, []any, map[string]any.
type scope map[string]any

// with returns the scope with more in it.
func (s scope) with(more scope) scope {
	all := make(scope, len(s)+len(more))
	maps.Copy(all, s)
	maps.Copy(all, more)
	return all
}

// keep adds the values that a step keeps.
func (s scope) keep(values map[string]any) {
	if len(values) == 0 {
		return
	}
	kept, _ := s["kept"].(map[string]any)
	kept = maps.Clone(kept)
	if kept == nil {
		kept = map[string]any{}
	}
	maps.Copy(kept, values)
	s["kept"] = kept
}

// at follows a dotted name, as in the variables of an address.
func (s scope) at(name string) any {
	var value any = map[string]any(s)
	for _, step := range strings.Split(name, ".") {
		object, ok := value.(map[string]any)
		if !ok {
			return nil
		}
		value = object[step]
	}
	return value
}

// expand fills in an address. A variable that is null or missing is undefined,
// as RFC 6570 has it.
func (t Template) expand(in scope, more map[string]any) string {
	return t.Expand(func(name string) any {
		value, ok := more[name]
		if !ok {
			value = in.at(name)
		}
		switch v := value.(type) {
		case nil:
			return nil
		case []any:
			list := make([]string, len(v))
			for i, one := range v {
				list[i] = textOf(one)
			}
			return list
		}
		return textOf(value)
	})
}

// given reports whether there is a template.
func (t Template) given() bool { return t.Template != nil }

// textOf is a value as text: of a number its digits, of null nothing.
func textOf(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case string:
		return v
	case json.Number:
		return v.String()
	case bool:
		return strconv.FormatBool(v)
	case int:
		return strconv.Itoa(v)
	case float64:
		if v == float64(int64(v)) {
			return strconv.FormatInt(int64(v), 10)
		}
		return strconv.FormatFloat(v, 'g', -1, 64)
	case *big.Int:
		return v.String()
	}
	text, _ := json.Marshal(value)
	return string(text)
}

// intOf is a value as a whole number; ok is false where it is none.
func intOf(value any) (int64, bool) {
	switch v := value.(type) {
	case int:
		return int64(v), true
	case float64:
		return int64(v), true
	case json.Number, string:
		text := textOf(v)
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n, true
		}
		f, err := strconv.ParseFloat(text, 64)
		return int64(f), err == nil
	}
	return 0, false
}

// truth is whether a value counts as true, as in jq.
func truth(value any) bool { return value != nil && value != false }

// timeOf reads a time: RFC 3339, an HTTP date, or a number since 1970 in
// seconds, milliseconds or microseconds, told apart by its size.
func timeOf(value any) (time.Time, error) {
	if text, ok := value.(string); ok {
		for _, layout := range []string{time.RFC3339Nano, "2006-01-02T15:04:05Z0700", "2006-01-02T15:04:05", "2006-01-02 15:04:05",
			time.RFC1123Z} {
			if at, err := time.Parse(layout, text); err == nil {
				return at, nil
			}
		}
		if at, err := http.ParseTime(text); err == nil {
			return at, nil
		}
		if _, err := strconv.ParseFloat(text, 64); err != nil {
			return time.Time{}, fmt.Errorf("%q is not a time", text)
		}
		value = json.Number(text)
	}
	if value == nil {
		return time.Time{}, nil
	}
	text := textOf(value)
	whole, fraction, _ := strings.Cut(text, ".")
	n, err := strconv.ParseInt(whole, 10, 64)
	if err != nil {
		return time.Time{}, fmt.Errorf("%s is not a time", text)
	}
	switch {
	case n > 1e14 || n < -1e14:
		return time.UnixMicro(n), nil
	case n > 1e11 || n < -1e11:
		return time.UnixMilli(n), nil
	}
	nanos, _ := strconv.ParseInt((fraction + "000000000")[:9], 10, 64)
	return time.Unix(n, nanos), nil
}

// fixed is what every request of an account sees.
func (a *account) fixed() scope {
	return scope{"option": a.options, "area": a.area, "member": a.member, "account": a.facts, "limit": a.definition.page(), "key": rand.Text()}
}

// placed adds where an entry is.
func (a *account) placed(in scope, folder store.Folder, parentID, name string) scope {
	parents := append(a.start.Names(), folder.Path.Names()...)
	names := append(append([]string(nil), parents...), name)
	in["parent"] = map[string]any{"id": idValue(parentID), "path": pathOf(parents), "escaped_path": escapedPath(parents),
		"names": anyList(parents)}
	in["name"], in["path"], in["names"], in["escaped_path"] = name, pathOf(names), anyList(names), escapedPath(names)
	return in
}

// ofFolder is what requests about a folder see.
func (a *account) ofFolder(folder store.Folder, id string) scope {
	names := append(a.start.Names(), folder.Path.Names()...)
	in := a.fixed()
	name := ""
	if len(names) > 0 {
		name = names[len(names)-1]
	}
	in["id"], in["name"], in["path"], in["names"], in["escaped_path"] = idValue(id), name, pathOf(names), anyList(names), escapedPath(names)
	return in
}

func idValue(id string) any {
	if id == "" {
		return nil
	}
	return id
}

// pathOf is the way from the area's root: "/" and the names with "/" between.
func pathOf(names []string) string { return "/" + strings.Join(names, "/") }

// escapedPath is pathOf with each name percent-encoded, for addresses.
func escapedPath(names []string) string {
	escaped := make([]string, len(names))
	for i, name := range names {
		escaped[i] = uritemplate.Escape(name)
	}
	return pathOf(escaped)
}

func anyList(names []string) []any {
	list := make([]any, len(names))
	for i, name := range names {
		list[i] = name
	}
	return list
}

// run evaluates an expression; a missing expression returns otherwise.
func (e Expr) run(ctx context.Context, in jq.Input, otherwise any) (any, error) {
	if !e.Given() {
		return otherwise, nil
	}
	value, err := e.Run(ctx, in)
	if err != nil {
		return nil, wrong(err)
	}
	return value, nil
}

// wrong is the error of an expression: the definition does not fit the answer.
func wrong(err error) error {
	if store.KindOf(err) != nil {
		return err
	}
	return store.Errorf(store.ErrRefused, "the provider definition does not fit what the service answered: %w", err)
}

// asInput is a scope as what an expression of a request sees.
func (s scope) asInput() jq.Input {
	return jq.Input{Value: map[string]any(s), In: map[string]any(s), Headers: map[string]any{}}
}

// texts evaluates named expressions; those that come to null are left out.
func texts(ctx context.Context, named map[string]Expr, in jq.Input) (map[string]string, error) {
	all := map[string]string{}
	for name, e := range named {
		value, err := e.run(ctx, in, nil)
		if err != nil {
			return nil, err
		}
		if value != nil {
			all[name] = textOf(value)
		}
	}
	return all, nil
}

// values evaluates named expressions.
func values(ctx context.Context, named map[string]Expr, in jq.Input) (map[string]any, error) {
	all := make(map[string]any, len(named))
	for name, e := range named {
		value, err := e.run(ctx, in, nil)
		if err != nil {
			return nil, err
		}
		all[name] = value
	}
	return all, nil
}
