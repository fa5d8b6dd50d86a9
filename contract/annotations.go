package contract

import "time"

// Annotations are what is noted about a file or folder, without touching it.
type Annotations struct {
	Address  string    `json:"address"`
	Kind     string    `json:"kind" enum:"folder,file"`
	Tags     []string  `json:"tags"`
	Comments []Comment `json:"comments"`
	Lock     *Lock     `json:"lock,omitempty"`
	// Missing is since when nothing is at the address.
	Missing *time.Time `json:"missing,omitempty" doc:"Since when the entry is missing."`
}

// Comment is what somebody wrote about a file or folder.
type Comment struct {
	ID     int64      `json:"id,omitempty"`
	By     string     `json:"by"`
	At     time.Time  `json:"at"`
	Edited *time.Time `json:"edited,omitempty"`
	Text   string     `json:"text"`
	Own    bool       `json:"own,omitempty" doc:"Whether who asks wrote it."`
}

// Lock says who works on a file or folder. Until it ends, others' changes and those of runs
// are refused.
type Lock struct {
	By       string    `json:"by"`
	Since    time.Time `json:"since"`
	Until    time.Time `json:"until"`
	Reason   string    `json:"reason,omitempty"`
	Own      bool      `json:"own,omitempty" doc:"Whether who asks holds it."`
	AtServer bool      `json:"at_server,omitempty" doc:"Whether the server of the account enforces it too."`
}

// AnnotatedPage is a page of what is annotated.
type AnnotatedPage struct {
	Entries []Annotations `json:"entries"`
	Next    string        `json:"next,omitempty" doc:"Cursor of the next page; empty at the end."`
}

// TagCount is how many files and folders have a tag.
type TagCount struct {
	Tag     string `json:"tag"`
	Entries int64  `json:"entries"`
}

// Tagging gives files and folders tags, and takes others from them.
type Tagging struct {
	Addresses []string `json:"addresses" minItems:"1" maxItems:"1000"`
	Add       []string `json:"add,omitempty" maxItems:"50"`
	Remove    []string `json:"remove,omitempty" maxItems:"50"`
}

// Noted is how many tags, comments or locks changed.
type Noted struct {
	Changed int64 `json:"changed"`
}

// NewComment is a comment to be made.
type NewComment struct {
	Address string `json:"address"`
	Text    string `json:"text" maxLength:"4000"`
}

// CommentText is the new text of a comment.
type CommentText struct {
	Text string `json:"text" maxLength:"4000"`
}

// NewLock locks files and folders for who asks.
type NewLock struct {
	Addresses []string   `json:"addresses" minItems:"1" maxItems:"1000"`
	For       string     `json:"for,omitempty" doc:"How long: 2h, 30m or 3d; 8h unless given, 90d at most."`
	Until     *time.Time `json:"until,omitempty" doc:"When it ends, instead of for."`
	Reason    string     `json:"reason,omitempty" maxLength:"500"`
}

// Imported are entries to be given the tags and comments of an export. Locks are not
// imported.
type Imported struct {
	Entries []Annotations `json:"entries" minItems:"1" maxItems:"500"`
}

// ImportResult is what an import came to.
type ImportResult struct {
	Entries  int64     `json:"entries" doc:"Entries that have all of it now."`
	Tags     int64     `json:"tags" doc:"Tags that are new."`
	Comments int64     `json:"comments" doc:"Comments that are new."`
	Failed   []Blocker `json:"failed" doc:"Entries that could not be given theirs."`
}
