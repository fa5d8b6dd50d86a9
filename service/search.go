package service

import (
	"context"
	"strings"

	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/provider/sealed"
	"deftheron/service/index"
	"deftheron/service/live"
	"deftheron/service/preview"
	"deftheron/service/records"
	"deftheron/service/runner"
)

// searchSpace is how many bytes the search index may hold.
const searchSpace = 4 << 30

// openIndex opens the search index. Without it the service goes on, and says so when
// somebody searches.
func (s *Service) openIndex(ctx context.Context, all *tree.Tree, previews *preview.Maker) {
	x, err := index.Open(ctx, index.Options{Dir: s.options.Data, Tree: all, Reader: previews, Accounts: s.searched,
		Listed: s.annotations.Follow, Moved: s.annotations.FolderMoved, Sweep: s.options.SearchSweep, Space: searchSpace, Log: s.options.Log})
	if err != nil {
		if strings.Contains(err.Error(), "fts5") {
			s.options.Log.Error("there is no search: this program was built without full-text search; build it with make")
			return
		}
		s.options.Log.Error("the search index could not be opened, and there is no search", "error", err)
		return
	}
	s.index = x
	s.runner.Wrote = func(wrote runner.Wrote) {
		if wrote.Below {
			x.TouchedBelow(wrote.Folder)
		} else {
			x.Touched(wrote.Folder)
		}
	}
}

// searched are the accounts that are searched.
func (s *Service) searched(ctx context.Context) (all []index.Account, err error) {
	rows, err := s.db.Accounts(ctx)
	for _, row := range rows {
		search := searchOf(row)
		if row.Suspended || search == records.SearchOff {
			continue
		}
		all = append(all, index.Account{Link: row.ID, Name: row.Name, Contents: search == records.SearchContents})
	}
	return all, err
}

// searchOf is how an account is searched: the names of a sealed one are not kept in the
// clear unless somebody says so.
func searchOf(row records.Account) string {
	switch {
	case row.Search != "":
		return row.Search
	case row.Provider == (sealed.Provider{}).Name():
		return records.SearchOff
	}
	return records.SearchNames
}

// keepIndex keeps the search index up to date until the context ends.
func (s *Service) keepIndex(ctx context.Context) {
	if s.index == nil {
		return
	}
	events, stop := s.hub.Listen("")
	defer stop()
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		s.index.Run(ctx)
	}()
	defer func() { <-ended }()
	for {
		select {
		case <-ctx.Done():
			return
		case event, ok := <-events:
			if !ok { // it did not keep up: what it missed is found when folders are listed again
				stop()
				events, stop = s.hub.Listen("")
				s.index.AccountsChanged()
				continue
			}
			s.hear(event)
		}
	}
}

// hear takes note of what an event says about accounts and folders.
func (s *Service) hear(event live.Event) {
	switch event.Name {
	case live.Accounts, live.Again:
		s.index.AccountsChanged()
	case live.Folder:
		if text, ok := event.Data.(string); ok {
			if address, err := store.ParseAddress(text); err == nil {
				s.index.Touched(address)
			}
		}
	}
}
