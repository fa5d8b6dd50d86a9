package declared

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
	"deftheron/provider/declared/jq"
)

type jqInput = jq.Input

// largestAnswer bounds an answer in JSON: decoded, it takes several times as much
// memory. A page of 1,000 entries has about a third of a MiB.
const largestAnswer = 8 << 20

// answer is what came back.
type answer struct {
	status  int
	headers map[string]any // lower-case names
	header  http.Header
	url     *url.URL
	text    []byte
	body    any   // decoded
	notJSON error // why it is not decoded
	stream  *http.Response
}

// read reads an answer to its end. The caller calls finish.
func (a *account) read(response *http.Response) (*answer, error) {
	got := newAnswer(response)
	text, err := io.ReadAll(io.LimitReader(response.Body, largestAnswer+1))
	got.text = text
	switch {
	case err != nil:
		return got, store.Errorf(store.ErrTryAgain, "the answer broke off after %d bytes: %w", len(text), err)
	case len(text) > largestAnswer:
		return got, store.Errorf(store.ErrRefused, "the answer is larger than %d MiB; ask for smaller pages", largestAnswer>>20)
	}
	got.decode()
	return got, nil
}

// finish ends an answer that was read, and lets the gate learn what it came to.
func finish(response *http.Response, err error) error {
	if body, ok := response.Body.(*gated); ok && store.KindOf(err) == store.ErrSlowDown {
		body.outcome = err
	}
	response.Body.Close()
	return err
}

func newAnswer(response *http.Response) *answer {
	got := &answer{status: response.StatusCode, header: response.Header, headers: make(map[string]any, len(response.Header))}
	if response.Request != nil {
		got.url = response.Request.URL
	}
	for name, values := range response.Header {
		got.headers[strings.ToLower(name)] = strings.Join(values, ", ")
	}
	return got
}

func (g *answer) decode() {
	text := bytes.TrimSpace(bytes.TrimPrefix(g.text, []byte("\xef\xbb\xbf")))
	if len(text) == 0 {
		return
	}
	decoder := json.NewDecoder(bytes.NewReader(text))
	decoder.UseNumber()
	if err := decoder.Decode(&g.body); err != nil {
		g.body, g.notJSON = nil, err
		return
	}
	for list := []any{g.body}; decoder.More(); g.body = list { // one value a line
		var next any
		if err := decoder.Decode(&next); err != nil {
			g.body, g.notJSON = nil, err
			return
		}
		list = append(list, next)
	}
}

// json returns an error if the body is not JSON.
func (g *answer) json(out *outgoing) error {
	if g.notJSON == nil {
		return nil
	}
	what := "something that is not JSON"
	if looksLikeHTML(g) {
		what = webPage(g)
	}
	return store.Errorf(store.ErrTryAgain, "%s answered %s to %s with %s where JSON is due; check the address of the service, and that no "+
		"sign-in page of a network or proxy stands between", hostOf(g, out), http.StatusText(g.status), out.operation, what)
}

var pageTitle = regexp.MustCompile(`(?is)<title[^>]*>([^<]{1,80})`)

func looksLikeHTML(g *answer) bool {
	kind, _ := g.headers["content-type"].(string)
	return strings.Contains(kind, "html") || bytes.HasPrefix(bytes.TrimSpace(g.text), []byte("<"))
}

// webPage names a page by its title.
func webPage(g *answer) string {
	if title := pageTitle.FindSubmatch(g.text); title != nil {
		return fmt.Sprintf("a web page (%q)", strings.TrimSpace(string(title[1])))
	}
	return "a web page"
}

func hostOf(g *answer, out *outgoing) string {
	if g.url != nil {
		return g.url.Host
	}
	return out.url.Host
}

// input is the answer as expressions see it.
func (g *answer) input(in scope) jqInput {
	return jqInput{Value: g.body, In: map[string]any(in), Headers: g.headers, Status: g.status}
}

// steps returns the steps of an operation, in order.
func (o *Operation) steps() []*Step {
	if o.Request != nil {
		return []*Step{&o.Step}
	}
	steps := make([]*Step, len(o.Steps))
	for i := range o.Steps {
		steps[i] = &o.Steps[i]
	}
	return steps
}

// doing is how an operation is carried out.
type doing struct {
	content *payload
	changes bool // its last request changes what others see
	stream  bool // the last answer is not read: it is a file
	header  http.Header
}

// do carries out an operation. What its steps keep is added to in. The answer's
// body is the value that the last step names.
func (a *account) do(ctx context.Context, operation string, op *Operation, in scope, how doing) (*answer, error) {
	var last *answer
	steps := op.steps()
	for i, step := range steps {
		took, err := step.When.run(ctx, in.asInput(), true)
		if err != nil {
			return nil, err
		}
		if !truth(took) {
			continue
		}
		closeStream(last)
		each := how
		each.stream = how.stream && i == len(steps)-1
		if last, err = a.step(ctx, operation, step, in, each); err != nil {
			return nil, err
		}
	}
	if last == nil {
		return nil, store.Errorf(store.ErrUnsupported, "the provider %s has no way to do this here (%s)", a.definition.Name, operation)
	}
	return last, nil
}

func closeStream(g *answer) {
	if g != nil && g.stream != nil {
		g.stream.Body.Close()
	}
}

// step carries out one step.
func (a *account) step(ctx context.Context, operation string, step *Step, in scope, how doing) (*answer, error) {
	out, err := a.prepare(ctx, operation, step, in, how.content)
	if err != nil {
		return nil, err
	}
	for name, values := range how.header {
		out.header[name] = values
	}
	return a.ask(ctx, step, out, how)
}

// ask sends a request that is ready and reads its answer.
func (a *account) ask(ctx context.Context, step *Step, out *outgoing, how doing) (*answer, error) {
	out.changes = how.changes
	response, err := a.send(ctx, out)
	if err != nil {
		return nil, err
	}
	if how.stream {
		got := newAnswer(response)
		got.stream = response
		return got, nil
	}
	got, err := a.read(response)
	a.recorded(out, response, got)
	if err == nil {
		err = a.inTruth(ctx, out, got)
	} else if how.changes {
		err = store.Errorf(store.ErrOutcomeUnknown, "%w", err)
	}
	if finish(response, err) != nil {
		return nil, err
	}
	if step.Long != nil {
		if got, err = a.await(ctx, step.Long, out, got); err != nil {
			return nil, err
		}
	}
	if err := a.keepOf(ctx, step, out, got); err != nil {
		return nil, err
	}
	if step.Value.Given() {
		if err := got.json(out); err != nil {
			return nil, err
		}
		if got.body, err = step.Value.run(ctx, got.input(out.in), nil); err != nil {
			return nil, err
		}
	}
	return got, nil
}

// keepOf keeps what the step says of the answer, and where it leads.
func (a *account) keepOf(ctx context.Context, step *Step, out *outgoing, got *answer) error {
	if len(step.Keep) > 0 && usesBody(step.Keep) {
		if err := got.json(out); err != nil {
			return err
		}
	}
	kept, err := values(ctx, step.Keep, got.input(out.in))
	if err != nil {
		return err
	}
	if location := got.header.Get("Location"); location != "" && got.url != nil {
		if absolute, err := got.url.Parse(location); err == nil {
			kept["location"] = absolute.String()
		}
	}
	out.in.keep(kept)
	return nil
}

// usesBody reports whether any of the expressions looks at the body.
func usesBody(named map[string]Expr) bool {
	for _, e := range named {
		if !strings.HasPrefix(strings.TrimSpace(e.source), "$headers") {
			return true
		}
	}
	return false
}

// inTruth is the failure that an answer of 2xx is in truth.
func (a *account) inTruth(ctx context.Context, out *outgoing, got *answer) error {
	if !a.definition.Failures.When.Given() || got.notJSON != nil || got.body == nil {
		return nil
	}
	failed, err := a.definition.Failures.When.run(ctx, got.input(out.in), nil)
	if err != nil || !truth(failed) {
		return err
	}
	return a.failure(ctx, out, got)
}

// await asks about an operation that was accepted until it has ended.
func (a *account) await(ctx context.Context, long *Long, out *outgoing, got *answer) (*answer, error) {
	accepted, err := long.When.run(ctx, got.input(out.in), got.status == http.StatusAccepted)
	if err != nil || !truth(accepted) {
		return got, err
	}
	if err := a.keepOf(ctx, &Step{Keep: long.Keep}, out, got); err != nil {
		return nil, err
	}
	every, within := time.Duration(long.Every), time.Duration(long.Within)
	if every == 0 {
		every = time.Second
	}
	if within == 0 {
		within = 10 * time.Minute
	}
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	for {
		wait := every
		if named := retry.AfterHeader(got.header, a.opening.Now()); named > 0 {
			wait = named
		}
		if err := retry.Sleep(ctx, wait); err != nil {
			return nil, store.Errorf(store.ErrOutcomeUnknown, "the operation was accepted and has not ended within %v: %w", within, err)
		}
		if got, err = a.step(ctx, out.operation, &long.Ask, out.in, doing{}); err != nil {
			if kind := store.KindOf(err); kind == store.ErrTryAgain || kind == store.ErrSlowDown || kind == store.ErrOutcomeUnknown {
				got = &answer{header: http.Header{}}
				continue
			}
			return nil, err
		}
		failed, err := long.Failed.run(ctx, got.input(out.in), false)
		if err != nil {
			return nil, err
		}
		if truth(failed) {
			return nil, a.failure(ctx, out, got)
		}
		done, err := long.Done.run(ctx, got.input(out.in), nil)
		if err != nil {
			return nil, err
		}
		if truth(done) {
			return got, nil
		}
	}
}
