package api

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/bandwidth"
	"deftheron/core/job"
	"deftheron/core/query"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/index"
	"deftheron/service/records"
)

func (s *Server) registerSearch(api huma.API) {
	add(api, http.MethodGet, "/search", "search", "Find files by name and contents", http.StatusOK, s.search)
	add(api, http.MethodGet, "/search/accounts", "list-search-states", "Show how far the search index of each account has come", http.StatusOK,
		s.searchStates)
	add(api, http.MethodGet, "/accounts/{name}/unread", "list-unread", "List files whose contents cannot be searched, and why", http.StatusOK,
		s.listUnread)
	add(api, http.MethodPut, "/accounts/{name}/search", "set-search", "Set whether the names or also the contents of an account are searched",
		http.StatusOK, s.setSearch)
}

// SearchInput are the parameters of a search.
type SearchInput struct {
	Query   string   `query:"q" maxLength:"1000" doc:"Words, \"phrases\", AND, OR, NOT, parentheses, begin*. May be empty if there is a tag."`
	Tags    []string `query:"tag,explode" doc:"Tags that a hit has to have; may be repeated."`
	In      []string `query:"in,explode" doc:"Addresses of folders to look in; may be repeated."`
	Types   []string `query:"type,explode" doc:"Endings such as pdf, or documents, pictures, sound or film; may be repeated."`
	Kind    string   `query:"kind" enum:"file,folder,document" doc:"Kind of entry."`
	Newer   string   `query:"newer_than" doc:"Changed since: 2026-01-01, or an age such as 30d or 1y."`
	Older   string   `query:"older_than" doc:"Changed before."`
	Larger  string   `query:"larger_than" doc:"Larger than a size such as 10MiB."`
	Smaller string   `query:"smaller_than" doc:"Smaller than a size."`
	Limit   int      `query:"limit" minimum:"1" maximum:"200" default:"50" doc:"Hits of a page."`
	Cursor  string   `query:"cursor" doc:"next of the page before."`
}

func (s *Server) noIndex() error {
	return &contract.Problem{Status: http.StatusServiceUnavailable, Title: http.StatusText(http.StatusServiceUnavailable),
		Detail: "There is no search index.", Remedy: "The log of the service says why it could not be opened."}
}

func (s *Server) search(ctx context.Context, in *SearchInput) (*body[contract.SearchResults], error) {
	if s.Index == nil {
		return nil, s.noIndex()
	}
	asked, err := s.askedOf(ctx, in)
	if err != nil {
		return nil, err
	}
	unlisted, err := s.onlyTagged(ctx, &asked, in.Tags)
	if err != nil {
		return nil, err
	}
	results, err := s.Index.Search(ctx, asked)
	if err != nil {
		return nil, err
	}
	if asked.Query.IsZero() && results.Next == nil && asked.After == (index.Cursor{}) {
		results.Hits = append(results.Hits, s.tagged(ctx, asked, unlisted)...)
	}
	shown := contract.SearchResults{Hits: []contract.SearchHit{}, Matches: results.Found, More: results.More, Cut: results.Cut}
	tags, err := s.tagsOf(ctx, results.Hits)
	if err != nil {
		return nil, err
	}
	for i, hit := range results.Hits {
		one := contract.SearchHit{Address: hit.Address.String(), Name: hit.Name, Kind: string(hit.Kind), Size: hit.Size, Excerpt: hit.Excerpt,
			Tags: tags[i]}
		if !hit.Modified.IsZero() {
			one.Modified = &hit.Modified
		}
		shown.Hits = append(shown.Hits, one)
	}
	if results.Next != nil {
		text, err := json.Marshal(results.Next)
		if err != nil {
			return nil, err
		}
		shown.Next = base64.RawURLEncoding.EncodeToString(text)
	}
	if tree.ScopeOf(ctx) == nil {
		shown.Listing, err = s.Index.Listing(ctx)
	}
	return &body[contract.SearchResults]{shown}, err
}

// askedOf parses the parameters of a search.
func (s *Server) askedOf(ctx context.Context, in *SearchInput) (asked index.Asked, err error) {
	asked = index.Asked{Kind: store.Kind(in.Kind), Larger: -1, Smaller: -1, Most: in.Limit}
	if in.Query != "" || len(in.Tags) == 0 {
		if asked.Query, err = query.Parse(in.Query); err != nil {
			return asked, err
		}
	}
	for _, text := range in.In {
		address, err := store.ParseAddress(text)
		if err != nil {
			return asked, err
		}
		if !address.IsRoot() && tree.Sees(ctx, address) == tree.Hidden {
			return asked, store.Errorf(store.ErrNotFound, "there is no %s", address)
		}
		if _, err := s.Accounts.ID(ctx, address.Account); err != nil && !address.IsRoot() {
			return asked, err
		}
		asked.In = append(asked.In, address)
	}
	for _, one := range in.Types {
		for _, ending := range strings.Split(strings.ToLower(one), ",") {
			asked.Types = append(asked.Types, strings.TrimPrefix(strings.TrimSpace(ending), "."))
		}
	}
	for text, to := range map[string]*time.Time{in.Newer: &asked.Newer, in.Older: &asked.Older} {
		if text != "" {
			if *to, err = dateOrAge(text, time.Now()); err != nil {
				return asked, err
			}
		}
	}
	for text, to := range map[string]*int64{in.Larger: &asked.Larger, in.Smaller: &asked.Smaller} {
		if text != "" {
			if *to, err = bandwidth.ParseSize(text); err != nil {
				return asked, err
			}
		}
	}
	if in.Cursor != "" {
		text, err := base64.RawURLEncoding.DecodeString(in.Cursor)
		if err == nil {
			err = json.Unmarshal(text, &asked.After)
		}
		if err != nil || asked.After.At < 0 {
			return asked, remedy.Errorf("the cursor is not one of this service; start with the first page")
		}
	}
	return asked, nil
}

// dateOrAge reads a date or an age before now.
func dateOrAge(text string, now time.Time) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, time.DateOnly} {
		if at, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return at, nil
		}
	}
	return job.ParseAge(text, now)
}

func (s *Server) searchStates(ctx context.Context, _ *none) (*body[[]contract.SearchState], error) {
	if s.Index == nil {
		return nil, s.noIndex()
	}
	rows, err := s.Accounts.Visible(ctx)
	if err != nil {
		return nil, err
	}
	states, err := s.Index.States(ctx)
	if err != nil {
		return nil, err
	}
	shown := []contract.SearchState{}
	for _, row := range rows {
		if tree.Sees(ctx, store.Address{Account: row.Name}) != tree.Seen {
			continue // how much there is says what one may not see
		}
		one := contract.SearchState{Account: row.Name, Search: records.SearchOff}
		if i := slices.IndexFunc(states, func(state index.State) bool { return state.Account == row.Name }); i >= 0 {
			state := states[i]
			one = contract.SearchState{Account: row.Name, Search: records.SearchNames, Entries: state.Entries, Waiting: state.Waiting,
				Texts: state.Texts, Due: state.Due, Unread: state.Unread}
			if state.Contents {
				one.Search = records.SearchContents
			}
		} else if row.Search != "" {
			one.Search = row.Search
		}
		shown = append(shown, one)
	}
	return &body[[]contract.SearchState]{shown}, nil
}

// UnreadInput is a page of an account's files that are not searched.
type UnreadInput struct {
	Name  string `path:"name" doc:"The account's name."`
	After int64  `query:"after" doc:"next of the page before."`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"200"`
}

func (s *Server) listUnread(ctx context.Context, in *UnreadInput) (*body[contract.UnreadFiles], error) {
	if s.Index == nil {
		return nil, s.noIndex()
	}
	unread, next, err := s.Index.Unreads(ctx, in.Name, in.After, in.Limit)
	if err != nil {
		return nil, err
	}
	shown := contract.UnreadFiles{Files: []contract.UnreadFile{}, Next: next}
	for _, one := range unread {
		shown.Files = append(shown.Files, contract.UnreadFile{Address: one.Address.String(), Why: one.Why})
	}
	return &body[contract.UnreadFiles]{shown}, nil
}

// SearchSettingInput says what of an account is searched.
type SearchSettingInput struct {
	Name string `path:"name" doc:"The account's name."`
	Body contract.SearchSetting
}

func (s *Server) setSearch(ctx context.Context, in *SearchSettingInput) (*body[contract.Account], error) {
	row, err := s.Accounts.SetSearch(ctx, in.Name, in.Body.Search)
	if err != nil {
		return nil, err
	}
	return &body[contract.Account]{s.accountOf(ctx, row, nil)}, nil
}
