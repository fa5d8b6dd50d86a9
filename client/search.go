package client

import (
	"context"
	"iter"
	"net/http"
	"net/url"
	"strconv"

	"deftheron/contract"
)

// Searching are the parameters of a search, with the fields of the API; empty ones match everything.
type Searching struct {
	Query                         string
	In, Types, Tags               []string
	Kind                          string
	Newer, Older, Larger, Smaller string
	Limit                         int
	Cursor                        string
}

func (s Searching) values() url.Values {
	values := url.Values{}
	if s.Query != "" || len(s.Tags) == 0 {
		values.Set("q", s.Query)
	}
	for name, list := range map[string][]string{"in": s.In, "type": s.Types, "tag": s.Tags} {
		if len(list) > 0 {
			values[name] = list
		}
	}
	for name, value := range map[string]string{"kind": s.Kind, "newer_than": s.Newer, "older_than": s.Older, "larger_than": s.Larger,
		"smaller_than": s.Smaller, "cursor": s.Cursor} {
		if value != "" {
			values.Set(name, value)
		}
	}
	if s.Limit > 0 {
		values.Set("limit", strconv.Itoa(s.Limit))
	}
	return values
}

// Search returns a page of results.
func (c *Client) Search(ctx context.Context, asked Searching) (results contract.SearchResults, err error) {
	return results, c.call(ctx, http.MethodGet, "/search", asked.values(), nil, &results)
}

// SearchStates returns how far the search index of each account has come.
func (c *Client) SearchStates(ctx context.Context) (states []contract.SearchState, err error) {
	return states, c.call(ctx, http.MethodGet, "/search/accounts", nil, nil, &states)
}

// SetSearch sets what of an account is searched: off, names or contents.
func (c *Client) SetSearch(ctx context.Context, account, search string) (shown contract.Account, err error) {
	return shown, c.call(ctx, http.MethodPut, accountPath(account, "/search"), nil, contract.SearchSetting{Search: search}, &shown)
}

// Unread yields the files of an account whose contents are not searched.
func (c *Client) Unread(ctx context.Context, account string) iter.Seq2[contract.UnreadFile, error] {
	return func(yield func(contract.UnreadFile, error) bool) {
		for after := int64(0); ; {
			var page contract.UnreadFiles
			err := c.call(ctx, http.MethodGet, accountPath(account, "/unread"), url.Values{"after": {strconv.FormatInt(after, 10)}}, nil, &page)
			if err != nil {
				yield(contract.UnreadFile{}, err)
				return
			}
			for _, one := range page.Files {
				if !yield(one, nil) {
					return
				}
			}
			if after = page.Next; after == 0 {
				return
			}
		}
	}
}
