// Package logging names, in every line of the log, the request that the line is about. A
// [Request] travels in the context; a [Handler] adds it to the lines that are logged with that
// context.
package logging

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"log/slog"
	"strings"
)

// Request says which request something is done for.
type Request struct {
	// ID is the service's own: ten lower-case letters and digits.
	ID string
	// Trace and Parent are of the caller's traceparent, in lower-case hexadecimal; empty if the
	// request had none.
	Trace, Parent string
}

// NewRequest returns a Request with an id of its own. The traceparent is that of W3C Trace
// Context (section 3.2), or empty; one that does not follow the standard counts as missing, as
// the standard says.
func NewRequest(traceparent string) Request {
	r := Request{ID: strings.ToLower(rand.Text()[:10])}
	if trace, parent, ok := parse(traceparent); ok {
		r.Trace, r.Parent = trace, parent
	}
	return r
}

// parse reads VERSION-TRACE-PARENT-FLAGS. A version after 00 may have more fields, and ff is
// none.
func parse(traceparent string) (trace, parent string, ok bool) {
	fields := strings.Split(traceparent, "-")
	if len(traceparent) > 512 || len(fields) < 4 || fields[0] == "00" && len(fields) > 4 || fields[0] == "ff" {
		return "", "", false
	}
	for i, size := range []int{2, 32, 16, 2} {
		if decoded, err := hex.DecodeString(fields[i]); err != nil || 2*len(decoded) != size || strings.ToLower(fields[i]) != fields[i] {
			return "", "", false
		}
	}
	trace, parent = fields[1], fields[2]
	return trace, parent, strings.Trim(trace, "0") != "" && strings.Trim(parent, "0") != ""
}

type key struct{}

// With returns a context in which something is done for a request.
func With(ctx context.Context, r Request) context.Context { return context.WithValue(ctx, key{}, r) }

// Of returns the request of a context; its zero value if there is none.
func Of(ctx context.Context) Request {
	r, _ := ctx.Value(key{}).(Request)
	return r
}

// Handler adds the request of the context to each line: request, trace and parent.
type Handler struct{ slog.Handler }

// Handle implements slog.Handler.
func (h Handler) Handle(ctx context.Context, line slog.Record) error {
	if r := Of(ctx); r.ID != "" {
		line = line.Clone()
		line.AddAttrs(slog.String("request", r.ID))
		if r.Trace != "" {
			line.AddAttrs(slog.String("trace", r.Trace), slog.String("parent", r.Parent))
		}
	}
	return h.Handler.Handle(ctx, line)
}

// WithAttrs implements slog.Handler.
func (h Handler) WithAttrs(attributes []slog.Attr) slog.Handler {
	return Handler{h.Handler.WithAttrs(attributes)}
}

// WithGroup implements slog.Handler.
func (h Handler) WithGroup(name string) slog.Handler { return Handler{h.Handler.WithGroup(name)} }
