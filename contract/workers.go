package contract

import "time"

// Worker is a machine that reaches places for the service.
type Worker struct {
	Name       string     `json:"name"`
	Site       string     `json:"site" doc:"The network that the worker is in."`
	State      string     `json:"state" enum:"waiting,expired,connected,draining,offline,outdated,untrusted"`
	Version    string     `json:"version,omitempty"`
	System     string     `json:"system,omitempty" doc:"Operating system and processor."`
	From       string     `json:"from,omitempty" doc:"Address that it connected from last."`
	Created    time.Time  `json:"created"`
	Joined     *time.Time `json:"joined,omitempty"`
	Seen       *time.Time `json:"seen,omitempty"`
	CodeEnds   *time.Time `json:"code_ends,omitempty" doc:"Until when it can join with its code."`
	Requests   int        `json:"requests" doc:"Requests that it is answering."`
	Accounts   []string   `json:"accounts" doc:"Accounts that are reached through its site."`
	Granted    []string   `json:"granted" doc:"Accounts of the service that it may have, to copy between them and the accounts of its site."`
	Managers   []string   `json:"managers" doc:"Users who manage it, beside the owners of the service."`
	Manage     bool       `json:"manage" doc:"Whether you may change it."`
	Parallel   int        `json:"parallel" doc:"Files that it copies at once for runs."`
	Items      int        `json:"items" doc:"Files of runs that it has in its hands."`
	Load       float64    `json:"load" doc:"Load average of its machine over one minute."`
	Processors int        `json:"processors"`
	Memory     int64      `json:"memory" doc:"Private memory of the worker in bytes."`
	Remedy     string     `json:"remedy,omitempty" doc:"What to do about its state."`
}

// NewWorker is a worker to be created.
type NewWorker struct {
	Name string `json:"name" maxLength:"63"`
	Site string `json:"site,omitempty" maxLength:"63" doc:"The name of the worker if it is left out."`
}

// WorkerCode is a code with which a worker joins, once.
type WorkerCode struct {
	Worker Worker    `json:"worker"`
	Code   string    `json:"code"`
	Ends   time.Time `json:"ends"`
	URL    string    `json:"url" doc:"Where the worker joins."`
}

// WorkerChange changes a worker. What is left out stays.
type WorkerChange struct {
	Name     string `json:"name,omitempty" maxLength:"63"`
	Draining *bool  `json:"draining,omitempty" doc:"The worker finishes what it does and takes nothing new. False also trusts it again."`
	// Grant and Revoke are names of accounts.
	Grant  []string `json:"grant,omitempty" maxItems:"100" doc:"Accounts of the service that the worker may have from now on."`
	Revoke []string `json:"revoke,omitempty" maxItems:"100" doc:"Accounts that it may not have any more."`
	// Assign and Unassign are names of users.
	Assign   []string `json:"assign,omitempty" maxItems:"100" doc:"Operators who manage the worker from now on."`
	Unassign []string `json:"unassign,omitempty" maxItems:"100" doc:"Users who do not manage it any more."`
}

// WorkerSharing says who copies where workers can.
type WorkerSharing struct {
	OnlyWorkers bool `json:"only_workers" doc:"The service leaves to workers what they can copy, while there are any."`
}

// WorkerRemoved says what a removed worker may have had.
type WorkerRemoved struct {
	Secrets []string `json:"secrets" doc:"Accounts whose secrets the worker may have had. Replace them at the provider."`
}

// JoinWorker is what a worker says to join.
type JoinWorker struct {
	Code      string `json:"code" maxLength:"40"`
	Key       string `json:"key" maxLength:"80" doc:"Its public NKey."`
	Recipient string `json:"recipient" maxLength:"80" doc:"Its age recipient."`
	Version   string `json:"version" maxLength:"40"`
	System    string `json:"system" maxLength:"40"`
	Protocol  int    `json:"protocol" doc:"Version of the protocol that it speaks."`
}

// JoinedWorker is what a worker gets to know of itself.
type JoinedWorker struct {
	ID       string `json:"id"`
	Name     string `json:"name"`
	Site     string `json:"site"`
	Instance string `json:"instance" doc:"Id of the service."`
}

// Paths of what workers use beside the messages. An answer and a content are known by the token
// of their request, as a bearer token.
const (
	WorkerConnectPath = Root + "/worker/connection"
	WorkerAnswerPath  = Root + "/worker/answer"
	WorkerContentPath = Root + "/worker/content"
)
