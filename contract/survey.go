package contract

import "time"

// Survey is an inventory of a subtree, for a target where one is named.
type Survey struct {
	Address      string       `json:"address"`
	For          string       `json:"for,omitempty"`
	At           time.Time    `json:"at"`
	Files        int64        `json:"files" doc:"Documents included."`
	Folders      int64        `json:"folders"`
	Others       int64        `json:"others" doc:"Links, sockets, devices."`
	Bytes        int64        `json:"bytes"`
	Unsized      int64        `json:"unsized" doc:"Files and documents without a reported size."`
	EmptyFiles   int64        `json:"empty_files"`
	EmptyFolders int64        `json:"empty_folders"`
	Types        []Group      `json:"types"`
	Ages         []Group      `json:"ages"`
	Documents    []Group      `json:"documents" doc:"Documents that exist only inside a service, by kind."`
	Exports      []Exporting  `json:"exports" doc:"Export format of a copy."`
	Largest      []Surveyed   `json:"largest"`
	Deepest      []Surveyed   `json:"deepest"`
	Translated   int64        `json:"translated" doc:"Names that are translated."`
	Twins        int64        `json:"twins" doc:"Names that differ from another by letter case only."`
	Refused      int64        `json:"refused" doc:"Names that cannot be translated."`
	Names        []Surveyed   `json:"names" doc:"The first hundred of both."`
	TooLarge     Count        `json:"too_large" doc:"Files too large for the target."`
	Oversized    []Surveyed   `json:"oversized" doc:"The largest of these."`
	Hashed       int64        `json:"hashed" doc:"Files with a reported hash, among which duplicates are found."`
	Repeated     Count        `json:"repeated" doc:"Duplicates and their bytes."`
	Duplicates   []Duplicated `json:"duplicates" doc:"The fifty that take most."`
	Free         int64        `json:"free" doc:"Free bytes at the target; -1 is unknown."`
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
