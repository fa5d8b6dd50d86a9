package content

import (
	"net/http"
	"strings"

	"deftheron/contract"
	"deftheron/core/store"
)

// IsTag reports whether an entity tag is of a revision. A tag that was given out just after a change
// is of the same revision as one that is given out later.
func IsTag(tag, revision string) bool {
	told, ok := contract.RevisionOfTag(strings.TrimPrefix(strings.TrimSpace(tag), "W/"))
	return ok && revision != "" && store.SameRevision(told, revision)
}

// Tag returns the entity tag of a revision for the answer to a request: that which the request shows
// in its conditions, if it is of the revision.
func Tag(r *http.Request, revision string) string {
	for _, name := range []string{"If-Match", "If-None-Match", "If-Range"} {
		for _, tag := range strings.Split(r.Header.Get(name), ",") {
			if tag = strings.TrimSpace(tag); IsTag(tag, revision) {
				return tag
			}
		}
	}
	return contract.EntityTag(revision)
}
