package contract

import "time"

// Survey is an inventory of a subtree, for a target where one is named.
type Survey struct {
	Address      string           `json:"address"`
	For          string           `json:"for,omitempty"`
	At           time.Time        `json:"at"`
	Files        int64            `json:"files" doc:"Documents included."`
	Folders      int64            `json:"folders"`
	Others       int64            `json:"others" doc:"Links, sockets, devices."`
	Bytes        int64            `json:"bytes"`
	Unsized      int64            `json:"unsized" doc:"Files and documents without a reported size."`
	EmptyFiles   int64            `json:"empty_files"`
	EmptyFolders int64            `json:"empty_folders"`
	Types        []Group          `json:"types"`
	Ages         []Group          `json:"ages"`
	Documents    []Group          `json:"documents" doc:"Documents that exist only inside a service, by kind."`
	Exports      []Exporting      `json:"exports" doc:"Export format of a copy."`
	Largest      []Surveyed       `json:"largest"`
	Deepest      []Surveyed       `json:"deepest"`
	Translated   int64            `json:"translated" doc:"Names that are translated."`
	Twins        int64            `json:"twins" doc:"Names that differ from another by letter case only."`
	Refused      int64            `json:"refused" doc:"Names that cannot be translated."`
	Names        []Surveyed       `json:"names" doc:"The first hundred of both."`
	TooLarge     Count            `json:"too_large" doc:"Files too large for the target."`
	Oversized    []Surveyed       `json:"oversized" doc:"The largest of these."`
	Hashed       int64            `json:"hashed" doc:"Files with a reported hash, among which duplicates are found."`
	Repeated     Count            `json:"repeated" doc:"Duplicates and their bytes."`
	Duplicates   []Duplicated     `json:"duplicates" doc:"The fifty that take most."`
	Sharing      *SurveyedSharing `json:"sharing,omitempty" doc:"Share lists, if the migration carries them over."`
	Free         int64            `json:"free" doc:"Free bytes at the target; -1 is unknown."`
}

// SurveyedSharing is what carrying share lists over would come to.
type SurveyedSharing struct {
	Entries    int64            `json:"entries" doc:"Entries with a share list of their own."`
	Links      int64            `json:"links" doc:"Links that anybody may use; they are not carried over."`
	Unreadable int64            `json:"unreadable" doc:"Share lists that the account may not read."`
	Supported  bool             `json:"supported" doc:"Whether the target has share lists."`
	People     []SurveyedPerson `json:"people" doc:"Those of most entries first."`
	More       bool             `json:"more,omitempty" doc:"There are more than 10,000 people; the others are not listed."`
}

// SurveyedPerson is a person of the source's share lists.
type SurveyedPerson struct {
	Person   string `json:"person"`
	Shared   int64  `json:"shared" doc:"Entries shared with them."`
	Owns     int64  `json:"owns" doc:"Entries with a share list that they own."`
	Becomes  string `json:"becomes,omitempty" doc:"Their address at the target."`
	Proposed bool   `json:"proposed,omitempty" doc:"The table does not name them; the target knows the same address."`
	Cause    string `json:"cause,omitempty" doc:"Why nothing is carried over for them."`
	Meaning  string `json:"meaning,omitempty"`
}

// People is the table of who is who, and who is in the share lists that were surveyed.
type People struct {
	Table  map[string]string `json:"table" doc:"Old address to new; an empty one leaves the person out."`
	People []SurveyedPerson  `json:"people" doc:"Of the last survey, matched with the table and the target now."`
	More   bool              `json:"more,omitempty"`
	Note   string            `json:"note,omitempty" doc:"Why nobody is listed."`
}

// PeopleTable is a table of people as CSV.
type PeopleTable struct {
	Text string `json:"text" maxLength:"4194304" doc:"CSV with the columns old and new."`
}

// PeopleRead is a table that was read.
type PeopleRead struct {
	Table map[string]string `json:"table"`
}

// Group counts files of a kind.
type Group struct {
	Name  string `json:"name"`
	Items int64  `json:"items"`
	Bytes int64  `json:"bytes"`
}

// Surveyed is an entry that stands out.
type Surveyed struct {
	Address string `json:"address"`
	Kind    string `json:"kind"`
	Size    int64  `json:"size"`
	Depth   int    `json:"depth" doc:"Depth below the surveyed address, in folders."`
	Target  string `json:"target,omitempty" doc:"Translated name at the target."`
	Why     string `json:"why,omitempty" doc:"Why the target does not allow it."`
}

// Duplicated is content that is there several times.
type Duplicated struct {
	Hash     string   `json:"hash"`
	Size     int64    `json:"size"`
	Items    int64    `json:"items"`
	Examples []string `json:"examples"`
}

// Surveying is a line of a survey on its way: how far it has come, and last the
// survey, or why it broke off.
type Surveying struct {
	Entries int64    `json:"entries,omitempty"`
	Survey  *Survey  `json:"survey,omitempty"`
	Problem *Problem `json:"problem,omitempty"`
}
