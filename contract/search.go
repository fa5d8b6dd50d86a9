package contract

import "time"

// SearchResults are a page of what a search has found.
type SearchResults struct {
	Hits []SearchHit `json:"hits"`
	Next string      `json:"next,omitempty" doc:"cursor of the next page; empty if this is the last."`
	// Matches counts before filters and grants.
	Matches int  `json:"matches" doc:"Entries that match the words, up to 10,000; before filters."`
	More    bool `json:"more,omitempty" doc:"There are more matches than that. The newest come first, instead of the best."`
	Cut     bool `json:"cut,omitempty" doc:"The search took longer than two seconds and was cut off. Use more words or filters."`
	// Listing are accounts of which not everything was listed yet.
	Listing []string `json:"listing,omitempty" doc:"Accounts that are not listed completely yet: more may be found later."`
}

// SearchHit is one entry that was found.
type SearchHit struct {
	Address  string     `json:"address"`
	Name     string     `json:"name"`
	Kind     string     `json:"kind"`
	Size     int64      `json:"size" doc:"In bytes; -1 is unknown."`
	Modified *time.Time `json:"modified,omitempty"`
	Tags     []string   `json:"tags,omitempty"`
	Excerpt  []string   `json:"excerpt,omitempty" doc:"A piece of the text in parts: every second part, from the second on, is a word that was searched for."`
}

// SearchState is how far the search index of an account has come.
type SearchState struct {
	Account string `json:"account"`
	Search  string `json:"search" enum:"off,names,contents"`
	Entries int64  `json:"entries" doc:"Files and folders."`
	Waiting int64  `json:"waiting" doc:"Folders that are not listed yet."`
	Texts   int64  `json:"texts" doc:"Files whose contents are searched."`
	Due     int64  `json:"due" doc:"Files whose contents are still to be read."`
	Unread  int64  `json:"unread" doc:"Files whose contents cannot be read."`
}

// SearchSetting says what of an account is searched.
type SearchSetting struct {
	Search string `json:"search" enum:"off,names,contents"`
}

// UnreadFile is a file whose contents are not searched.
type UnreadFile struct {
	Address string `json:"address"`
	Why     string `json:"why"`
}

// UnreadFiles are a page of them.
type UnreadFiles struct {
	Files []UnreadFile `json:"files"`
	Next  int64        `json:"next,omitempty" doc:"after of the next page."`
}
