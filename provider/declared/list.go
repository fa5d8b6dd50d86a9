package declared

import (
	"context"
	"crypto/sha256"
	"iter"
	"net/url"
	"strings"

	"golang.org/x/text/unicode/norm"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// item is one of a page.
type item struct {
	value any
	input jqInput
}

// mostEmpty is how many pages without an item may follow each other.
const mostEmpty = 200

// pages yields the items of all pages. After an error there is nothing more.
func (a *account) pages(ctx context.Context, operation string, op *Operation, items Expr, next *Next, in scope) iter.Seq2[item, error] {
	return func(yield func(item, error) bool) {
		in := in.with(scope{"page": nil, "offset": 0, "number": 1})
		var link *url.URL
		seen, empty := map[[sha256.Size]byte]bool{}, 0
		for offset, number := 0, 1; ; number++ {
			got, out, err := a.page(ctx, operation, op, next, in, link, number)
			if err != nil {
				yield(item{}, err)
				return
			}
			count, more := 0, true
			input := got.input(in)
			err = items.each(ctx, input, got.body, func(value any) bool {
				count++
				more = yield(item{value, input}, nil)
				return more
			})
			if !more {
				return
			}
			if err != nil {
				yield(item{}, err)
				return
			}
			offset += count
			token, target, err := a.next(ctx, next, got, out, offset, count)
			if err != nil {
				yield(item{}, err)
				return
			}
			if token == "" && target == nil {
				return
			}
			mark := token
			if target != nil {
				mark = target.String()
			}
			if empty++; count > 0 {
				empty = 0
			}
			known := sha256.Sum256([]byte(mark))
			if seen[known] || empty >= mostEmpty {
				yield(item{}, store.Errorf(store.ErrTryAgain, "%s is endless: its pages lead back to one that was there already, or bring nothing",
					operation))
				return
			}
			if len(seen) > 100_000 {
				clear(seen)
			}
			seen[known] = true
			link = target
			in = in.with(scope{"page": mark, "offset": offset, "number": number + 1})
		}
	}
}

// each yields what an expression comes to; without one the value itself is it.
func (e Expr) each(ctx context.Context, input jqInput, otherwise any, yield func(any) bool) error {
	if !e.Given() {
		if otherwise != nil {
			yield(otherwise)
		}
		return nil
	}
	if err := e.Each(ctx, input, yield); err != nil {
		return wrong(err)
	}
	return nil
}

// page requests one page. After a temporary fault it tries again, so that the listing
// need not start again.
func (a *account) page(ctx context.Context, operation string, op *Operation, next *Next, in scope, link *url.URL,
	number int) (*answer, *outgoing, error) {
	var last *outgoing
	got, err := retry.Read(ctx, func() (*answer, error) {
		steps := op.steps()
		if next != nil && next.Step != nil && number > 1 {
			steps = []*Step{next.Step}
		}
		var got *answer
		for i, step := range steps {
			took, err := step.When.run(ctx, in.asInput(), true)
			if err != nil {
				return nil, err
			}
			if !truth(took) {
				continue
			}
			out, err := a.prepare(ctx, operation, step, in, nil)
			if err != nil {
				return nil, err
			}
			if link != nil && i == len(steps)-1 {
				out.url = link
			}
			if got, err = a.ask(ctx, step, out, doing{}); err != nil {
				return nil, err
			}
			if err := got.json(out); err != nil {
				return nil, err
			}
			last = out
		}
		if got == nil {
			return nil, store.Errorf(store.ErrUnsupported, "the provider %s has no way to do this here (%s)", a.definition.Name, operation)
		}
		return got, nil
	})
	return got, last, err
}

// next is the token or the address of the next page; neither at the end.
func (a *account) next(ctx context.Context, next *Next, got *answer, out *outgoing, offset,
	count int) (token string, target *url.URL, err error) {
	if next == nil {
		return "", nil, nil
	}
	input := got.input(out.in)
	address := ""
	switch {
	case next.Token.Given():
		value, err := next.Token.run(ctx, input, nil)
		return textOf(value), nil, err
	case next.URL.Given():
		value, err := next.URL.run(ctx, input, nil)
		if err != nil {
			return "", nil, err
		}
		address = textOf(value)
	case next.Link:
		address = linkOf(got.header.Values("Link"), "next")
	case next.Offset != nil:
		more := count >= a.definition.page()
		if next.Offset.Total.Given() {
			value, err := next.Offset.Total.run(ctx, input, nil)
			if err != nil {
				return "", nil, err
			}
			total, ok := intOf(value)
			if !ok {
				return "", nil, wrong(store.Errorf(store.ErrRefused, "next.offset.total comes to %s, which is not a number", textOf(value)))
			}
			more = int64(offset) < total
			if more && count == 0 {
				return "", nil, store.Errorf(store.ErrTryAgain, "%s ended after %d of %d entries", out.operation, offset, total)
			}
		}
		if next.Offset.More.Given() {
			value, err := next.Offset.More.run(ctx, input, nil)
			if err != nil {
				return "", nil, err
			}
			more = truth(value)
		}
		if more {
			token = "offset " + textOf(offset)
		}
		return token, nil, nil
	}
	if address == "" {
		return "", nil, nil
	}
	if got.url != nil && (strings.HasPrefix(address, "/") || !strings.Contains(address, "://")) {
		target, err = got.url.Parse(address)
	} else {
		target, err = a.parseAddress(address)
	}
	if err != nil {
		return "", nil, err
	}
	if !a.ours(target) {
		return "", nil, store.Errorf(store.ErrRefused,
			"the next page is said to be at %s, which is not of the service; name it in origins if it is", target.Host)
	}
	return "", target, nil
}

// linkOf is the target of the relation in Link headers (RFC 8288).
func linkOf(headers []string, relation string) string {
	for _, header := range headers {
		for rest := header; ; {
			_, after, ok := strings.Cut(rest, "<")
			if !ok {
				break
			}
			target, parameters, ok := strings.Cut(after, ">")
			if !ok {
				break
			}
			rest = parameters
			this, _, _ := strings.Cut(parameters, "<")
			for _, parameter := range strings.FieldsFunc(this, func(r rune) bool { return r == ';' || r == ',' }) {
				name, value, _ := strings.Cut(strings.TrimSpace(parameter), "=")
				if !strings.EqualFold(name, "rel") {
					continue
				}
				for _, one := range strings.Fields(strings.Trim(value, `"`)) {
					if strings.EqualFold(one, relation) {
						return target
					}
				}
			}
		}
	}
	return ""
}

// children yields the entries of a folder, as found values.
func (a *account) children(ctx context.Context, folder store.Folder) iter.Seq2[found, error] {
	return func(yield func(found, error) bool) {
		id, err := a.folderID(ctx, folder)
		if err != nil {
			yield(found{}, err)
			return
		}
		in := a.ofFolder(folder, id)
		d := &a.definition.List
		for item, err := range a.pages(ctx, "listing", &d.Operation, d.Items, d.Next, in) {
			if err != nil {
				yield(found{}, err)
				return
			}
			one, err := a.entry(ctx, item.value, item.input)
			if err != nil {
				yield(found{}, err)
				return
			}
			if one.excluded {
				continue
			}
			// Below a starting folder its home may be outside, and nothing is to be lost.
			one.Elsewhere = a.start == "" && one.home != "" && one.home != id
			if !yield(one, nil) {
				return
			}
		}
	}
}

// List implements store.Store.
func (a *account) List(ctx context.Context, folder store.Folder) iter.Seq2[store.Entry, error] {
	return func(yield func(store.Entry, error) bool) {
		tried := false
		for begun := false; ; {
			again := false
			for one, err := range a.children(ctx, folder) {
				if err != nil && !begun && !tried && store.KindOf(err) == store.ErrNotFound && folder.ID == "" && a.definition.Addressed == "id" &&
					a.ids.forget(folder.Path) {
					tried, again = true, true
					break
				}
				begun = true
				if !yield(one.Entry, err) || err != nil {
					return
				}
				if one.Kind == store.KindFolder && one.ID != "" && a.definition.Addressed == "id" && !a.definition.Names.Twins {
					a.ids.set(folder.Path.Child(one.Name), one.ID, a.opening.Now())
				}
			}
			if !again {
				return
			}
		}
	}
}

// named finds the entries of a folder that have a name: one, or with twins
// several, the earliest first.
func (a *account) named(ctx context.Context, folder store.Folder, name string) ([]found, error) {
	var all []found
	take := func(one found) {
		if !one.excluded && a.sameName(one.Name, name) {
			all = append(all, one)
		}
	}
	d := a.definition.Find
	if d == nil {
		for one, err := range a.children(ctx, folder) {
			if err != nil {
				return nil, err
			}
			take(one)
		}
		sortFound(all)
		return all, nil
	}
	id, err := a.folderID(ctx, folder)
	if err != nil {
		return nil, err
	}
	in := a.placed(a.fixed(), folder, id, name)
	for item, err := range a.pages(ctx, "finding by name", &d.Operation, d.Items, d.Next, in) {
		if store.KindOf(err) == store.ErrNotFound {
			break
		}
		if err != nil {
			return nil, err
		}
		one, err := a.entry(ctx, item.value, item.input)
		if err != nil {
			return nil, err
		}
		take(one)
	}
	sortFound(all)
	return all, nil
}

// sameAsAsked compares the name in an answer with the requested one, which it sets if the
// answer has none. Another name means that the request reached another entry.
func (a *account) sameAsAsked(one *found, name, operation string) error {
	if one.Name == "" {
		one.Name = name
	}
	if a.sameName(one.Name, name) {
		return nil
	}
	return store.Errorf(store.ErrRefused, "%s: the service was asked for %q and answered of %q; what it did is not relied on. "+
		"Look at both, and at how the provider definition writes names into addresses", operation, name, one.Name)
}

func (a *account) sameName(mine, theirs string) bool {
	if mine == theirs {
		return true
	}
	switch a.definition.Names.Unicode {
	case "nfc", "nfd":
		mine, theirs = norm.NFC.String(mine), norm.NFC.String(theirs)
	}
	return mine == theirs || (a.definition.Names.LetterCase == "kept" || a.definition.Names.LetterCase == "lost") &&
		strings.EqualFold(mine, theirs)
}
