package contract

import "time"

// AccountEdit changes an account in place. What is left out stays.
type AccountEdit struct {
	Name     string            `json:"name,omitempty" doc:"New name; addresses of jobs and runs follow."`
	Options  map[string]string `json:"options,omitempty" doc:"Changed options; an empty one is removed."`
	Start    *string           `json:"start,omitempty" doc:"New starting folder; empty for none."`
	ReadOnly *bool             `json:"read_only,omitempty"`
	Secret   string            `json:"secret,omitempty"`
	Files    map[string]string `json:"files,omitempty" doc:"Contents of files by option; an empty one is removed."`
	Anyway   bool              `json:"anyway,omitempty" doc:"Confirm a change that seems to lead to a different storage."`
}

// CauseOtherPlace is the cause of a problem that says that an account would be at
// another storage: ask the person, and send it again with anyway.
const CauseOtherPlace = "another-place"

// CauseNoPreview is the cause of a problem that says that there is no preview of a file.
const CauseNoPreview = "no-preview"

// CauseJobChanged is the cause of a problem that says that a job was changed since it was shown.
const CauseJobChanged = "job-changed"

// CauseInUse is the cause of a problem that says that jobs use an account: ask the
// person, and send it again with anyway.
const CauseInUse = "used-by-jobs"

// LinkEvent is something that happened to a link over its life.
type LinkEvent struct {
	Account  string       `json:"account" doc:"The name at that time."`
	Link     string       `json:"link" doc:"Id of the link, whatever its name."`
	At       time.Time    `json:"at"`
	What     string       `json:"what" enum:"linked,changed,refused,renamed,suspended,resumed,sign-in-expired,reauthorized,unlinked"`
	By       string       `json:"by" doc:"Who made the change."`
	Why      string       `json:"why,omitempty"`
	Settings LinkSettings `json:"settings" doc:"The settings after the event, without secrets."`
}

// LinkSettings are what an account is linked with, but for its secret.
type LinkSettings struct {
	Provider string            `json:"provider"`
	Options  map[string]string `json:"options"`
	Start    string            `json:"start,omitempty"`
	ReadOnly bool              `json:"read_only,omitempty"`
	Owner    string            `json:"owner,omitempty"`
	Site     string            `json:"site,omitempty"`
}

// Warning is something that is going to stand in the way.
type Warning struct {
	What   string `json:"what" enum:"space-nearly-full,space-full-soon,certificate-ends,linked-twice,not-writable"`
	Why    string `json:"why"`
	Remedy string `json:"remedy"`
}

// Resources are the places that a sign-in leads to.
type Resources struct {
	Option    string     `json:"option" doc:"The option that chooses one: share, bucket or area."`
	Resources []Resource `json:"resources"`
}

// Resource is one place behind a sign-in.
type Resource struct {
	Value  string `json:"value"`
	Title  string `json:"title,omitempty"`
	Note   string `json:"note,omitempty"`
	Linked string `json:"linked,omitempty" doc:"The account that is already linked there."`
}

// Taking links another place behind the sign-in of an account.
type Taking struct {
	Value string `json:"value" minLength:"1"`
	Name  string `json:"name" minLength:"1" doc:"The name of the new account."`
}

// NewKey is a key that was made just now and is kept nowhere.
type NewKey struct {
	Identity  string `json:"identity" doc:"The age identity file; whoever has it can read what is sealed."`
	Recipient string `json:"recipient" doc:"The public key."`
}

// Identity is what a server shows of itself before anybody signs in.
type Identity struct {
	Option string `json:"option,omitempty" doc:"The option that pins it; empty if there is nothing to compare."`
	Value  string `json:"value,omitempty"`
	Words  string `json:"words,omitempty"`
}

// DiscoveredServer is a server on the local network, and what it would be linked with.
type DiscoveredServer struct {
	Name     string            `json:"name"`
	Service  string            `json:"service"`
	Provider string            `json:"provider"`
	Host     string            `json:"host"`
	Address  string            `json:"address"`
	Port     int               `json:"port"`
	Options  map[string]string `json:"options"`
}

// SpeedCheck is what the speed of an account is measured with.
type SpeedCheck struct {
	Size   int64 `json:"size" minimum:"0" maximum:"1073741824" doc:"Bytes of each scratch file."`
	Number int   `json:"number" minimum:"1" maximum:"1000" doc:"Number of scratch files."`
	Lanes  int   `json:"parallel,omitempty" minimum:"1" maximum:"32" default:"4" doc:"Parallel transfers."`
}

// SpeedPhase is how fast one thing went.
type SpeedPhase struct {
	Seconds float64 `json:"seconds"`
	Rate    float64 `json:"rate" doc:"Bytes a second; 0 for deletions."`
	Files   float64 `json:"files" doc:"Files a second."`
	Delay   float64 `json:"delay" doc:"Median time of a file, in seconds."`
	Slowest float64 `json:"slowest" doc:"Longest time of a file, in seconds."`
}

// Speed is what a check of an account's speed came to.
type Speed struct {
	Account string     `json:"account"`
	At      time.Time  `json:"at"`
	Size    int64      `json:"size"`
	Number  int        `json:"number"`
	Lanes   int        `json:"parallel"`
	Write   SpeedPhase `json:"write"`
	Read    SpeedPhase `json:"read"`
	Remove  SpeedPhase `json:"remove"`
}

// AccountUsage is what an account was used for over the last time, in intervals. Intervals in
// which nothing was done are left out.
type AccountUsage struct {
	Every     int64         `json:"every" doc:"Length of an interval in seconds."`
	At        []int64       `json:"at" doc:"Start of each interval, in seconds since 1970."`
	Requests  []int64       `json:"requests" doc:"Requests to the account."`
	SlowDowns []int64       `json:"slow_downs" doc:"Answers that asked to slow down."`
	Up        []int64       `json:"up" doc:"Bytes sent over the network to the account."`
	Down      []int64       `json:"down" doc:"Bytes received over the network from the account."`
	Space     []SpaceSample `json:"space" doc:"Its space, about once an hour."`
	Full      *time.Time    `json:"full,omitempty" doc:"When it is full if it goes on filling as it has."`
}

// SpaceSample is how much an account held at a time; -1 is unknown.
type SpaceSample struct {
	At    int64 `json:"at" doc:"In seconds since 1970."`
	Used  int64 `json:"used"`
	Total int64 `json:"total"`
}

// Sealing is what is known of the keys of a sealed account.
type Sealing struct {
	Recipients  []string     `json:"recipients" doc:"Public keys that everything is sealed to, one's own first."`
	NeedsReseal bool         `json:"needs_reseal" doc:"Names are sealed to recipients of before."`
	Task        *SealingTask `json:"task,omitempty" doc:"The last work since the service started."`
}

// SealingTask is work on the keys or the manifests of a sealed account.
type SealingTask struct {
	Kind    string     `json:"kind" enum:"reseal,rebuild"`
	Started time.Time  `json:"started"`
	Ended   *time.Time `json:"ended,omitempty" doc:"Missing while it goes on."`
	Folders []string   `json:"folders,omitempty" doc:"Rebuild: folders whose manifest was missing or damaged, as addresses."`
	Names   int64      `json:"names" doc:"Reseal: folders whose names were sealed again."`
	Files   int64      `json:"files" doc:"Reseal: files sealed again. Rebuild: files that have their names again."`
	Bytes   int64      `json:"bytes" doc:"Reseal: bytes of those files."`
	Left    int64      `json:"left" doc:"Reseal: files that could not be read. Rebuild: contents that do not say where they were."`
	Why     string     `json:"why,omitempty" doc:"Why it failed."`
	Remedy  string     `json:"remedy,omitempty"`
}

// SealingWork starts work on a sealed account.
type SealingWork struct {
	Kind     string `json:"kind" enum:"reseal,rebuild"`
	Contents bool   `json:"contents,omitempty" doc:"Reseal: the contents as well as the names."`
}
