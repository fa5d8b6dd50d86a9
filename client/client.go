// Package client calls the API of a service.
//
// A [Client] has a method for each operation: [Client.List] lists a folder of the tree,
// [Client.Copy] starts a copy, and [Client.Follow] waits for a run. A Client with a URL and a Token
// is ready for use, by several goroutines at the same time. The package contract has the types of
// its parameters and results.
//
// Lists that can be long are iterators, which request one page after the other; they end at the
// first error. A failure that the service reports is a [*contract.Problem], which says what is
// wrong and what to do; [UnreachableError] means that no service answers.
//
// Addresses are addresses of the tree: /account/folder/name. Sizes are in bytes, rates in bytes
// per second, durations in seconds.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"iter"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"deftheron/contract"
	"deftheron/core/store"
)

// Client calls one service.
type Client struct {
	// URL of the service, such as http://127.0.0.1:8420.
	URL string
	// Token to sign in with.
	Token string
	// HTTP sends the requests; nil is http.Client{}. Redirects are not followed.
	HTTP *http.Client
}

// UnreachableError is the error if no service answers.
type UnreachableError struct {
	URL string
	Err error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("No service answers at %s (%v). Start it with heron serve, or name another with HERON_URL.", e.URL, e.Err)
}

// Unwrap returns the cause.
func (e *UnreachableError) Unwrap() error { return e.Err }

// request sends a request and returns its answer, which the caller closes. An
// answer that is a failure is a *contract.Problem.
func (c *Client) request(ctx context.Context, method, path string, query url.Values, body any, header http.Header) (*http.Response, error) {
	var content io.Reader
	if body != nil {
		encoded, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		content = bytes.NewReader(encoded)
	}
	request, err := http.NewRequestWithContext(ctx, method, c.address(path, query), content)
	if err != nil {
		return nil, fmt.Errorf("%q is not a URL of a service: write it as http://127.0.0.1:8420", c.URL)
	}
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	for name := range header {
		request.Header.Set(name, header.Get(name))
	}
	return c.send(request)
}

// address is the URL of a part of the API.
func (c *Client) address(path string, query url.Values) string {
	target := strings.TrimSuffix(c.URL, "/") + contract.Root + path
	if len(query) > 0 {
		target += "?" + query.Encode()
	}
	return target
}

// send signs a request in and sends it. An answer that is a failure is a
// *contract.Problem.
func (c *Client) send(request *http.Request) (*http.Response, error) {
	if c.Token != "" {
		request.Header.Set("Authorization", "Bearer "+c.Token)
	}
	client := http.Client{}
	if c.HTTP != nil {
		client = *c.HTTP
	}
	// A service does not redirect. Whatever does is no service, and its target gets no token.
	client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	response, err := client.Do(request)
	if err != nil {
		var operation *net.OpError
		if errors.As(err, &operation) {
			err = operation.Err
		}
		if ctx := request.Context(); ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, &UnreachableError{c.URL, err}
	}
	if response.StatusCode >= 300 {
		defer response.Body.Close()
		return nil, failure(response)
	}
	return response, nil
}

func failure(response *http.Response) error {
	problem := &contract.Problem{Status: response.StatusCode}
	data, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	if strings.HasPrefix(response.Header.Get("Content-Type"), "text/plain") && response.Header.Get("DAV") != "" {
		problem.Detail = strings.TrimSpace(string(data)) // of the network drive
		return problem
	}
	if err := json.Unmarshal(data, problem); err != nil || problem.Detail == "" {
		return &contract.Problem{
			Status: response.StatusCode, Detail: fmt.Sprintf("The service answered %s.", response.Status),
			Remedy: "Check that HERON_URL names a Deft Heron service.",
		}
	}
	return problem
}

// call sends a request and decodes its answer into out, unless that is nil.
func (c *Client) call(ctx context.Context, method, path string, query url.Values, body, out any) error {
	response, err := c.request(ctx, method, path, query, body, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if out == nil {
		return nil
	}
	return json.NewDecoder(response.Body).Decode(out)
}

// Whoami returns who this client is to the service.
func (c *Client) Whoami(ctx context.Context) (who contract.Whoami, err error) {
	return who, c.call(ctx, http.MethodGet, "/whoami", nil, nil, &who)
}

// Sessions returns the sessions of the console, the newest first.
func (c *Client) Sessions(ctx context.Context) (sessions []contract.Session, err error) {
	return sessions, c.call(ctx, http.MethodGet, "/sessions", nil, nil, &sessions)
}

// EndSession ends a session; all but the own one where id is empty.
func (c *Client) EndSession(ctx context.Context, id string) error {
	path := "/sessions"
	if id != "" {
		path += "/" + url.PathEscape(id)
	}
	return c.call(ctx, http.MethodDelete, path, nil, nil, nil)
}

// RotateToken makes a new owner's token; the one before is good no more.
func (c *Client) RotateToken(ctx context.Context) (token contract.NewToken, err error) {
	return token, c.call(ctx, http.MethodPost, "/token/rotation", nil, nil, &token)
}

// SigninLink makes a link that signs in to the console once.
func (c *Client) SigninLink(ctx context.Context) (link contract.SigninLink, err error) {
	return link, c.call(ctx, http.MethodPost, "/signin-links", nil, nil, &link)
}

// Providers returns the kinds of places that accounts can be at.
func (c *Client) Providers(ctx context.Context) (providers []contract.Provider, err error) {
	return providers, c.call(ctx, http.MethodGet, "/providers", nil, nil, &providers)
}

// Link links an account.
func (c *Client) Link(ctx context.Context, link contract.Link) (account contract.Account, err error) {
	return account, c.call(ctx, http.MethodPost, "/accounts", nil, link, &account)
}

// Accounts returns the linked accounts.
func (c *Client) Accounts(ctx context.Context) (accounts []contract.Account, err error) {
	return accounts, c.call(ctx, http.MethodGet, "/accounts", nil, nil, &accounts)
}

// Account returns one account.
func (c *Client) Account(ctx context.Context, name string) (account contract.Account, err error) {
	return account, c.call(ctx, http.MethodGet, "/accounts/"+url.PathEscape(name), nil, nil, &account)
}

// Check connects to an account and returns it with what was found there.
func (c *Client) Check(ctx context.Context, name string) (account contract.Account, err error) {
	return account, c.call(ctx, http.MethodPost, "/accounts/"+url.PathEscape(name)+"/check", nil, nil, &account)
}

// Unlink unlinks an account.
func (c *Client) Unlink(ctx context.Context, name string) error {
	return c.call(ctx, http.MethodDelete, "/accounts/"+url.PathEscape(name), nil, nil, nil)
}

// Listing is a folder to be listed.
type Listing struct {
	Address string
	// Fresh asks the provider, however lately it was asked.
	Fresh bool
	// At is the time whose state is listed; zero means now.
	At time.Time
	// Listed is set with the first page: when the provider was asked.
	Listed time.Time
}

// List yields the entries of a folder, and requests them page by page.
func (c *Client) List(ctx context.Context, address string) iter.Seq2[contract.Entry, error] {
	return c.Entries(ctx, &Listing{Address: address})
}

// Entries yields the entries of a folder, and requests them page by page.
func (c *Client) Entries(ctx context.Context, listing *Listing) iter.Seq2[contract.Entry, error] {
	return pages(func(cursor string) ([]contract.Entry, string, error) {
		var page contract.Page
		query := url.Values{"address": {listing.Address}}
		if cursor != "" {
			query.Set("cursor", cursor)
		}
		if listing.Fresh {
			query.Set("fresh", "true")
		}
		setAt(query, "at", listing.At)
		err := c.call(ctx, http.MethodGet, "/tree", query, nil, &page)
		if cursor == "" {
			listing.Listed = page.Listed
		}
		for i := range page.Entries {
			exactName(&page.Entries[i])
		}
		return page.Entries, page.Next, err
	})
}

// exactName gives an entry whose name is not UTF-8, which JSON cannot hold, the name that
// its address has.
func exactName(entry *contract.Entry) {
	if !strings.Contains(entry.Name, "\uFFFD") {
		return
	}
	if address, err := store.ParseAddress(entry.Address); err == nil && len(address.Steps) > 0 && !utf8.ValidString(address.Name()) {
		entry.Name = address.Name()
	}
}

// pages yields the entries of one page after the other.
func pages[T any](fetch func(cursor string) ([]T, string, error)) iter.Seq2[T, error] {
	return func(yield func(T, error) bool) {
		for cursor := ""; ; {
			page, next, err := fetch(cursor)
			if err != nil {
				var none T
				yield(none, err)
				return
			}
			for _, one := range page {
				if !yield(one, nil) {
					return
				}
			}
			if next == "" {
				return
			}
			cursor = next
		}
	}
}

// Stat returns one entry of the tree.
func (c *Client) Stat(ctx context.Context, address string) (entry contract.Entry, err error) {
	err = c.call(ctx, http.MethodGet, "/entry", url.Values{"address": {address}}, nil, &entry)
	exactName(&entry)
	return entry, err
}

// Plan returns what a copy would do.
func (c *Client) Plan(ctx context.Context, copy contract.Copy) (plan contract.Plan, err error) {
	return plan, c.call(ctx, http.MethodPost, "/plans", nil, copy, &plan)
}

// Copy starts a copy.
func (c *Client) Copy(ctx context.Context, copy contract.Copy) (started contract.Started, err error) {
	return started, c.call(ctx, http.MethodPost, "/copies", nil, copy, &started)
}

// RunFilter chooses runs; its zero value takes all.
type RunFilter struct {
	Job, Account string
	States       []string
	From, To     time.Time // of creation; To is exclusive
	Text         string    // in the id, the name of the job or an address
}

// IsZero reports whether the filter takes all runs.
func (f RunFilter) IsZero() bool { return len(f.query()) == 0 }

func (f RunFilter) query() url.Values {
	query := url.Values{}
	for name, value := range map[string]string{"job": f.Job, "account": f.Account, "state": strings.Join(f.States, ","), "text": f.Text} {
		if value != "" {
			query.Set(name, value)
		}
	}
	for name, at := range map[string]time.Time{"from": f.From, "to": f.To} {
		if !at.IsZero() {
			query.Set(name, at.Format(time.RFC3339))
		}
	}
	return query
}

// Runs yields the runs, newest first.
func (c *Client) Runs(ctx context.Context, filter RunFilter) iter.Seq2[contract.Run, error] {
	return pages(func(cursor string) ([]contract.Run, string, error) {
		var page contract.RunPage
		query := filter.query()
		query.Set("limit", "100")
		if cursor != "" {
			query.Set("cursor", cursor)
		}
		err := c.call(ctx, http.MethodGet, "/runs", query, nil, &page)
		return page.Runs, page.Next, err
	})
}

// Series returns the progress of a run over its whole life, and its bottleneck.
func (c *Client) Series(ctx context.Context, id string) (series contract.RunSeries, err error) {
	return series, c.call(ctx, http.MethodGet, "/runs/"+url.PathEscape(id)+"/series", nil, nil, &series)
}

// Events returns what happened to a run, the oldest first.
func (c *Client) Events(ctx context.Context, id string) (events []contract.RunEvent, err error) {
	return events, c.call(ctx, http.MethodGet, "/runs/"+url.PathEscape(id)+"/events", nil, nil, &events)
}

// Run returns one run.
func (c *Client) Run(ctx context.Context, id string) (run contract.Run, err error) {
	return run, c.call(ctx, http.MethodGet, "/runs/"+url.PathEscape(id), nil, nil, &run)
}

// Usage returns what an account was used for over the last days.
func (c *Client) Usage(ctx context.Context, name string, days int) (usage contract.AccountUsage, err error) {
	return usage, c.call(ctx, http.MethodGet, "/accounts/"+url.PathEscape(name)+"/usage", url.Values{"days": {strconv.Itoa(days)}}, nil,
		&usage)
}

// ItemFilter chooses items of a run; its zero value takes all.
type ItemFilter struct {
	State, Cause, Action string
	Folder               string // an address at the source or the target
	Text                 string // in the path of the item
}

// Items yields the items of a run that a filter takes, in order.
func (c *Client) Items(ctx context.Context, id string, filter ItemFilter) iter.Seq2[contract.Item, error] {
	return pages(func(cursor string) ([]contract.Item, string, error) {
		var page contract.ItemPage
		query := url.Values{"limit": {strconv.Itoa(1000)}}
		for name, value := range map[string]string{
			"cursor": cursor, "state": filter.State, "cause": filter.Cause, "action": filter.Action, "folder": filter.Folder, "text": filter.Text,
		} {
			if value != "" {
				query.Set(name, value)
			}
		}
		err := c.call(ctx, http.MethodGet, "/runs/"+url.PathEscape(id)+"/items", query, nil, &page)
		return page.Items, page.Next, err
	})
}

// Decide keeps a decision about the conflicts of some items, and returns how many it is about.
func (c *Client) Decide(ctx context.Context, id string, decision contract.ItemDecision) (decided contract.Decided, err error) {
	return decided, c.call(ctx, http.MethodPut, "/runs/"+url.PathEscape(id)+"/decisions", nil, decision, &decided)
}

// Causes counts the items of a run that have a cause, by state and cause.
func (c *Client) Causes(ctx context.Context, id string) (counts []contract.CauseCount, err error) {
	return counts, c.call(ctx, http.MethodGet, "/runs/"+url.PathEscape(id)+"/causes", nil, nil, &counts)
}

// Cancel cancels a run.
func (c *Client) Cancel(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodPost, "/runs/"+url.PathEscape(id)+"/cancel", nil, nil, nil)
}

// Pause pauses a run until it is resumed.
func (c *Client) Pause(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodPost, "/runs/"+url.PathEscape(id)+"/pause", nil, nil, nil)
}

// Resume resumes a run that is paused.
func (c *Client) Resume(ctx context.Context, id string) error {
	return c.call(ctx, http.MethodPost, "/runs/"+url.PathEscape(id)+"/resume", nil, nil, nil)
}

// Retry tries again what failed in a run.
func (c *Client) Retry(ctx context.Context, id string) (retried contract.Retried, err error) {
	return retried, c.call(ctx, http.MethodPost, "/runs/"+url.PathEscape(id)+"/retry", nil, nil, &retried)
}

// Certificate writes the certificate of a final pass to w, as "html", "csv" or "json".
func (c *Client) Certificate(ctx context.Context, id, format string, w io.Writer) error {
	return c.paper(ctx, "/runs/"+url.PathEscape(id)+"/certificate", format, w)
}

// VerifyCertificate compares the files at the target with the certificate of a run. It
// yields the files that differ, and last the summary.
func (c *Client) VerifyCertificate(ctx context.Context, id string) iter.Seq2[contract.VerifiedFile, error] {
	return lines(func() (*http.Response, error) {
		return c.request(ctx, http.MethodGet, "/runs/"+url.PathEscape(id)+"/certificate/verification", nil, nil, nil)
	}, "the verification broke off before its end; start it again", func(line contract.VerifiedFile) (last bool, problem *contract.Problem) {
		return line.Summary != nil, line.Problem
	})
}

// CheckPaper looks up a report or certificate by its SHA-256.
func (c *Client) CheckPaper(ctx context.Context, sum string) (checked contract.Checked, err error) {
	return checked, c.call(ctx, http.MethodPost, "/papers/checks", nil, contract.Checking{SHA256: sum}, &checked)
}

// Report writes the record of a run, as "html", "csv" or "json".
func (c *Client) Report(ctx context.Context, id, format string, w io.Writer) error {
	return c.paper(ctx, "/runs/"+url.PathEscape(id)+"/report", format, w)
}

func (c *Client) paper(ctx context.Context, path, format string, w io.Writer) error {
	response, err := c.request(ctx, http.MethodGet, path, url.Values{"format": {format}}, nil, nil)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(w, response.Body)
	return err
}
