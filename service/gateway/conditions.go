package gateway

import (
	"net/http"
	"net/url"
	"strings"

	"deftheron/core/store"
	"deftheron/service/content"
)

// mostConditions is how many an If header may have.
const mostConditions = 100

// conditions is an If header (RFC 4918, section 10.4): it holds if one of its lists does.
type conditions []conditionList

// conditionList holds if all of its conditions do, of one resource.
type conditionList struct {
	// tagged says that the header names the resource, and path which it is; otherwise the list is about the resource of the request.
	tagged bool
	path   string
	all    []condition
}

// condition is about a lock token or an entity tag.
type condition struct {
	not        bool
	token, tag string
}

// tokens returns the lock tokens that a client shows, wherever they stand in the header.
func (c conditions) tokens() map[string]bool {
	tokens := map[string]bool{}
	for _, list := range c {
		for _, one := range list.all {
			if one.token != "" {
				tokens[one.token] = true
			}
		}
	}
	return tokens
}

var errIf = fail(http.StatusBadRequest, "", "the If header cannot be read; RFC 4918, section 10.4, has its grammar")

// parseIf reads an If header; nil is none. isHere reports whether a host is this service.
func parseIf(header string, isHere func(host string) bool) (conditions, error) {
	rest := strings.TrimSpace(header)
	if rest == "" {
		return nil, nil
	}
	var all conditions
	tagged, path, count := false, "", 0
	for rest != "" {
		switch rest[0] {
		case '<':
			uri, after, ok := strings.Cut(rest[1:], ">")
			parsed, err := url.Parse(uri)
			if !ok || err != nil || len(all) > 0 && !tagged {
				return nil, errIf
			}
			if tagged, path = true, parsed.EscapedPath(); !isHere(parsed.Host) {
				path = "" // somebody else's, of which nothing is known
			}
			rest = strings.TrimSpace(after)
			if rest == "" || rest[0] != '(' {
				return nil, errIf
			}
		case '(':
			inside, after, err := parseList(rest[1:])
			if err != nil {
				return nil, err
			}
			if count += len(inside); count > mostConditions {
				return nil, errIf
			}
			all = append(all, conditionList{tagged, path, inside})
			rest = strings.TrimSpace(after)
		default:
			return nil, errIf
		}
	}
	return all, nil
}

// parseList reads the conditions up to a closing parenthesis.
func parseList(text string) (all []condition, rest string, err error) {
	for {
		text = strings.TrimLeft(text, " \t")
		var one condition
		if len(text) > 3 && strings.EqualFold(text[:3], "not") {
			one.not, text = true, strings.TrimLeft(text[3:], " \t")
		}
		if text == "" {
			return nil, "", errIf
		}
		var ok bool
		switch text[0] {
		case ')':
			if one.not || len(all) == 0 {
				return nil, "", errIf
			}
			return all, text[1:], nil
		case '<':
			one.token, text, ok = strings.Cut(text[1:], ">")
		case '[':
			one.tag, text, ok = strings.Cut(text[1:], "]")
			one.tag = strings.TrimSpace(one.tag)
		}
		if !ok || one.token == "" && one.tag == "" || len(all) == mostConditions {
			return nil, "", errIf
		}
		all = append(all, one)
	}
}

// checkIf returns a refusal unless the If header of a request holds.
func (g *Gateway) checkIf(q *request) error {
	if len(q.conditions) == 0 {
		return nil
	}
	for _, list := range q.conditions {
		holds, err := g.holds(q, list)
		if err != nil || holds {
			return err
		}
	}
	return fail(http.StatusPreconditionFailed, "", "the conditions of the If header do not hold; look at the entry again")
}

func (g *Gateway) holds(q *request, list conditionList) (bool, error) {
	at := q.place
	if list.tagged {
		var err error
		if at, err = parsePath(list.path); err != nil {
			at = place{level: -1} // nothing is known of it
		}
	}
	revision, looked := "", false
	for _, one := range list.all {
		match := false
		switch {
		case one.token != "" && at.inTree():
			locks, err := g.locks.covering(q.ctx, g, at.address)
			if err != nil {
				return false, err
			}
			for _, lock := range locks {
				match = match || lock.Token == one.token
			}
		case one.tag != "" && at.inTree():
			if !looked {
				looked = true
				node, err := g.Tree.Stat(q.ctx, at.address)
				if err != nil && store.KindOf(err) != store.ErrNotFound {
					return false, err
				}
				revision = node.Revision
			}
			match = content.IsTag(one.tag, revision)
		}
		if match == one.not {
			return false, nil
		}
	}
	return true, nil
}

// preconditions decides about If-Match and If-None-Match of a request that would change an entry of
// the revision given (RFC 9110, section 13).
func preconditions(r *http.Request, exists bool, revision string) error {
	if match := r.Header.Get("If-Match"); match != "" && (!exists || match != "*" && !listsTag(match, revision)) {
		return fail(http.StatusPreconditionFailed, "", "the file is another one than If-Match says; look at it again")
	}
	if none := r.Header.Get("If-None-Match"); none != "" && exists && (none == "*" || listsTag(none, revision)) {
		return fail(http.StatusPreconditionFailed, "", "the file exists already; choose another name, or replace it")
	}
	return nil
}

func listsTag(list, revision string) bool {
	for _, one := range strings.Split(list, ",") {
		if content.IsTag(one, revision) {
			return true
		}
	}
	return false
}
