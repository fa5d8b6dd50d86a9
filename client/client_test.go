package client_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"deftheron/client"
	"deftheron/contract"
)

// answering is a client of a service that answers every request by one function.
func answering(t *testing.T, answer http.HandlerFunc) *client.Client {
	t.Helper()
	server := httptest.NewServer(answer)
	t.Cleanup(server.Close)
	return &client.Client{URL: server.URL + "/", Token: "the token"}
}

// TestRunsPageByPage sends the filter and the token with each page, and goes on over pages
// without a run, as a filter by text has them.
func TestRunsPageByPage(t *testing.T) {
	var asked []string
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer the token" {
			t.Errorf("signed in with %q", r.Header.Get("Authorization"))
		}
		asked = append(asked, r.URL.Path+"?"+r.URL.RawQuery)
		page := map[string]contract.RunPage{
			"": {Runs: []contract.Run{{ID: "a"}, {ID: "b"}}, Next: "7"}, "7": {Next: "3"}, "3": {Runs: []contract.Run{{ID: "c"}}},
		}[r.URL.Query().Get("cursor")]
		_ = json.NewEncoder(w).Encode(page)
	})
	filter := client.RunFilter{Account: "desk", States: []string{"failed", "held"}, Text: "a & b",
		From: time.Date(2026, 12, 1, 8, 0, 0, 0, time.UTC)}
	var ids []string
	for run, err := range c.Runs(t.Context(), filter) {
		if err != nil {
			t.Fatal(err)
		}
		ids = append(ids, run.ID)
	}
	if !slices.Equal(ids, []string{"a", "b", "c"}) {
		t.Errorf("the runs are %v", ids)
	}
	const first = "/api/v1/runs?account=desk&from=2026-12-01T08%3A00%3A00Z&limit=100&state=failed%2Cheld&text=a+%26+b"
	if len(asked) != 3 || asked[0] != first || !strings.Contains(asked[2], "cursor=3") {
		t.Errorf("asked for %q", asked)
	}
}

// TestStopsWhenEnough asks for no page that nobody wants.
func TestStopsWhenEnough(t *testing.T) {
	pages := 0
	c := answering(t, func(w http.ResponseWriter, _ *http.Request) {
		pages++
		_ = json.NewEncoder(w).Encode(contract.RunPage{Runs: []contract.Run{{ID: fmt.Sprint(pages)}}, Next: "more"})
	})
	for range c.Runs(t.Context(), client.RunFilter{}) {
		break
	}
	if pages != 1 {
		t.Errorf("%d pages were fetched for one run", pages)
	}
}

// TestFailures are problems in the service's words, or say what answers in its place.
func TestFailures(t *testing.T) {
	for name, c := range map[string]struct {
		status int
		body   string
		want   contract.Problem
	}{
		"a problem": {http.StatusNotFound, `{"title":"Not Found","status":404,"detail":"There is no run.","remedy":"Check the list.","commands":["x"]}`,
			contract.Problem{Status: 404, Detail: "There is no run.", Remedy: "Check the list."}},
		"another server": {http.StatusBadGateway, "<html>", contract.Problem{Status: 502, Detail: "The service answered 502 Bad Gateway.",
			Remedy: "Check that HERON_URL names a Deft Heron service."}},
	} {
		service := answering(t, func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(c.status)
			fmt.Fprint(w, c.body)
		})
		_, err := service.Run(t.Context(), "x")
		var problem *contract.Problem
		if !errors.As(err, &problem) || problem.Status != c.want.Status || problem.Detail != c.want.Detail || problem.Remedy != c.want.Remedy {
			t.Errorf("%s: %v, want %+v", name, err, c.want)
		}
	}
}

// TestNobodyAnswers names the URL, and what to do.
func TestNobodyAnswers(t *testing.T) {
	server := httptest.NewServer(http.NotFoundHandler())
	server.Close()
	_, err := (&client.Client{URL: server.URL}).Whoami(t.Context())
	var unreachable *client.UnreachableError
	if !errors.As(err, &unreachable) || unreachable.URL != server.URL || !strings.Contains(err.Error(), "heron serve") {
		t.Errorf("%v", err)
	}
	if _, err := (&client.Client{URL: "no url\n"}).Whoami(t.Context()); err == nil || !strings.Contains(err.Error(), "is not a URL") {
		t.Errorf("a URL that is none: %v", err)
	}
}

// TestTokenStays does not follow a redirect with the token.
func TestTokenStays(t *testing.T) {
	elsewhere := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		t.Errorf("the token went elsewhere: %q", r.Header.Get("Authorization"))
	}))
	defer elsewhere.Close()
	c := answering(t, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
	})
	if _, err := c.Whoami(t.Context()); err == nil {
		t.Error("a redirect was taken for an answer")
	}
}
