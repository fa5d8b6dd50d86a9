package logging

import (
	"context"
	"log/slog"
	"strings"
	"testing"
)

// The trace and the parent are those of the examples in W3C Trace Context, section 3.2.
const trace, parent = "4bf92f3577b34da6a3ce929d0e0e4736", "00f067aa0ba902b7"

func TestTraceparent(t *testing.T) {
	for traceparent, follows := range map[string]bool{
		"00-" + trace + "-" + parent + "-01":             true,
		"00-" + trace + "-" + parent + "-00":             true,
		"cc-" + trace + "-" + parent + "-01-what-may-be": true,
		"": false,
		"00-" + trace + "-" + parent + "-01-what-may-be":                             false,
		"ff-" + trace + "-" + parent + "-01":                                         false,
		"00-" + strings.ToUpper(trace) + "-" + parent + "-01":                        false,
		"00-" + strings.Repeat("0", 32) + "-" + parent + "-01":                       false,
		"00-" + trace + "-" + strings.Repeat("0", 16) + "-01":                        false,
		"00-" + trace[1:] + "-" + parent + "-01":                                     false,
		"00-" + trace + "-" + parent:                                                 false,
		"cc-" + trace + "-" + parent + "-01-" + strings.Repeat("x", 512):             false,
		"00-" + trace[:30] + "\n\"" + "-" + parent + "-01":                           false,
		"00-" + trace + "-" + parent + "-01" + ",00-" + trace + "-" + parent + "-01": false,
	} {
		r := NewRequest(traceparent)
		if len(r.ID) != 10 {
			t.Errorf("the id is %q", r.ID)
		}
		if follows && (r.Trace != trace || r.Parent != parent) || !follows && (r.Trace != "" || r.Parent != "") {
			t.Errorf("%q: trace %q, parent %q", traceparent, r.Trace, r.Parent)
		}
	}
}

func TestHandler(t *testing.T) {
	var out strings.Builder
	log := slog.New(Handler{slog.NewTextHandler(&out, nil)}).With("part", "api").WithGroup("about")
	log.Info("alone", "account", "desk")
	log.InfoContext(With(context.Background(), Request{ID: "abc"}), "asked", "account", "desk")
	log.InfoContext(With(context.Background(), Request{"abc", trace, parent}), "traced")
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	for i, want := range []string{
		`msg=alone part=api about.account=desk`,
		`msg=asked part=api about.account=desk about.request=abc`,
		`msg=traced part=api about.request=abc about.trace=` + trace + ` about.parent=` + parent,
	} {
		if !strings.HasSuffix(lines[i], want) {
			t.Errorf("line %q, want its end %q", lines[i], want)
		}
	}
}
