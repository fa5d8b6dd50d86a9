package contract

import "time"

// NewShareLink makes a link for somebody without an account.
type NewShareLink struct {
	Address     string `json:"address" doc:"File or folder; a folder for the mode drop-off."`
	Mode        string `json:"mode,omitempty" enum:"view,download,drop-off" doc:"view: to look at; download (the default): also to download; drop-off: to send files to a folder, without seeing what is in it."`
	For         string `json:"for,omitempty" doc:"How long the link is good: 7d, 8w, 6mo; 30d unless given, a year at most."`
	Password    string `json:"password,omitempty" doc:"At least 8 characters."`
	MostUses    int64  `json:"most_uses,omitempty" minimum:"0" doc:"How often the link can be opened; 0 is without a limit."`
	LargestFile string `json:"largest_file,omitempty" doc:"drop-off: the largest file, such as 500MiB; 2GiB unless given."`
	MostBytes   string `json:"most_bytes,omitempty" doc:"drop-off: how much may be sent in all; 20GiB unless given."`
	Note        string `json:"note,omitempty" maxLength:"500" doc:"For whom the link is."`
}

// ShareLink is a link, without the URL that opens it.
type ShareLink struct {
	ID          string     `json:"id"`
	Address     string     `json:"address"`
	Mode        string     `json:"mode"`
	State       string     `json:"state" enum:"active,expired,revoked,used-up" doc:"Whether it opens anything."`
	By          string     `json:"by" doc:"The user who made it, whose grants it has."`
	Note        string     `json:"note,omitempty"`
	Password    bool       `json:"password" doc:"Whether it asks for a password."`
	Created     time.Time  `json:"created"`
	Expires     *time.Time `json:"expires,omitempty"`
	MostUses    int64      `json:"most_uses,omitempty"`
	LargestFile int64      `json:"largest_file,omitempty" doc:"In bytes."`
	MostBytes   int64      `json:"most_bytes,omitempty"`
	Uses        int64      `json:"uses"`
	Bytes       int64      `json:"bytes,omitempty" doc:"Bytes that were sent to it."`
	Used        *time.Time `json:"used,omitempty" doc:"When it was opened last."`
}

// MadeShareLink is a link that was made, with the URL that opens it.
type MadeShareLink struct {
	ShareLink
	URL string `json:"url" doc:"It is not shown again."`
}

// ShareUse is a use of a link, or several of one kind from one place.
type ShareUse struct {
	At     time.Time `json:"at"`
	From   string    `json:"from"`
	Client string    `json:"client,omitempty"`
	What   string    `json:"what" enum:"opened,download,archive,upload,refused"`
	Name   string    `json:"name,omitempty"`
	Times  int64     `json:"times"`
	Bytes  int64     `json:"bytes,omitempty"`
}

// UsedShareLink is a link with its latest uses.
type UsedShareLink struct {
	ShareLink
	Latest []ShareUse `json:"latest"`
}

// ShareSettings say whether links can be made and used.
type ShareSettings struct {
	Enabled bool `json:"enabled"`
}
