package declared

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"deftheron/core/retry"
	"deftheron/core/store"
)

// kinds are the errors that a rule of failures can name.
var kinds = map[string]error{
	"not-found": store.ErrNotFound, "exists": store.ErrExists, "changed": store.ErrChanged, "refused": store.ErrRefused,
	"sign-in-expired": store.ErrSignInExpired,
	"scope":           store.ErrRefused, "no-space": store.ErrNoSpace, "name-refused": store.ErrNameRefused, "too-large": store.ErrTooLarge,
	"slow-down": store.ErrSlowDown, "try-again": store.ErrTryAgain, "unknown": store.ErrOutcomeUnknown, "locked": store.ErrLocked,
	"unsupported": store.ErrUnsupported, "cursor-lost": store.ErrChanged,
}

// statusError is the answer behind a failure.
type statusError struct {
	status int
	text   string
}

func (e *statusError) Error() string { return e.text }

// failure makes one of our errors of an answer, by the first rule that holds,
// else by its status (RFC 9110).
func (a *account) failure(ctx context.Context, out *outgoing, got *answer) error {
	in := out.in.with(scope{"operation": out.operation})
	input := got.input(in)
	words := a.words(ctx, out, got)
	cause := &statusError{got.status, words}
	for _, rule := range a.definition.Failures.Rules {
		holds, err := rule.When.run(ctx, input, nil)
		if err != nil || !truth(holds) {
			continue // an answer of another form than the rule is for
		}
		switch rule.Is {
		case "slow-down":
			wait := retry.AfterHeader(got.header, a.opening.Now())
			if seconds, err := rule.Wait.run(ctx, input, nil); err == nil && seconds != nil {
				if n, ok := floatOf(seconds); ok {
					wait = min(time.Duration(n*float64(time.Second)), time.Hour)
				}
			}
			return store.SlowDown(wait, cause)
		case "scope":
			missing := "more than it was linked with"
			if value, err := rule.Scope.run(ctx, input, nil); err == nil && textOf(value) != "" {
				missing = "the scope " + textOf(value)
			}
			return store.Errorf(store.ErrRefused, "%w; this needs %s: link the account again, or reauthorize it, and agree to that", cause, missing)
		}
		return store.Errorf(kinds[rule.Is], "%w", cause)
	}
	switch got.status {
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		return store.SlowDown(retry.AfterHeader(got.header, a.opening.Now()), cause)
	}
	return store.Errorf(kindOfStatus(got.status), "%w", cause)
}

func floatOf(value any) (float64, bool) {
	var f float64
	_, err := fmt.Sscan(textOf(value), &f)
	return f, err == nil
}

func kindOfStatus(status int) error {
	if status == http.StatusConflict {
		return store.ErrExists
	}
	return store.KindOfStatus(status)
}

// words are what the service says about a failure, on one line.
func (a *account) words(ctx context.Context, out *outgoing, got *answer) string {
	said := ""
	if value, err := a.definition.Failures.Words.run(ctx, got.input(out.in), nil); err == nil {
		said = textOf(value)
	}
	if said == "" && got.notJSON != nil && looksLikeHTML(got) {
		said = webPage(got) + ", where JSON is due"
	}
	said = strings.Join(strings.Fields(said), " ")
	if len(said) > 300 {
		said = strings.ToValidUTF8(said[:300], "") + "…"
	}
	text := fmt.Sprintf("%s answered %d %s to %s", hostOf(got, out), got.status, http.StatusText(got.status), out.operation)
	if said != "" {
		text += ": " + said
	}
	return a.blank(text)
}
