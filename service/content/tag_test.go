package content_test

import (
	"net/http/httptest"
	"testing"
	"time"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/service/content"
)

// TestTag has a tag that was given out just after a change stand for the same content later.
func TestTag(t *testing.T) {
	at := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	fresh := store.RevisionAt("7-100", at, at, time.Second)
	later := store.RevisionAt("7-100", at, at.Add(time.Minute), time.Second)
	if fresh == later || store.Settled(fresh) {
		t.Fatalf("%q and %q; want one that is not settled", fresh, later)
	}
	given := contract.EntityTag(fresh)
	if !content.IsTag(given, later) || content.IsTag(given, "7-200") || content.IsTag(`"none of ours"`, later) || content.IsTag(given, "") {
		t.Error("tags are not told apart by what they stand for")
	}
	request := httptest.NewRequest("GET", "/", nil)
	if got := content.Tag(request, later); got != contract.EntityTag(later) {
		t.Errorf("without a condition: %s", got)
	}
	request.Header.Set("If-Match", `"x", `+given)
	if got := content.Tag(request, later); got != given {
		t.Errorf("the answer has the tag %s, and %s was shown", got, given)
	}
}
