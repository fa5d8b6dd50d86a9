package contract

import "time"

// Consenting begins to link an account by consent, or to mend one.
type Consenting struct {
	Link
	Way         string `json:"way,omitempty" enum:"page,device,paste" doc:"How a person gives consent; the provider's best way unless given."`
	Reauthorize bool   `json:"reauthorize,omitempty" doc:"Renew the sign-in of the account of this name."`
	Definition  string `json:"definition,omitempty" doc:"A provider definition to test; nothing is linked."`
	Console     bool   `json:"console,omitempty" doc:"Return to the console, not to a terminal."`
}

// Consent is a consent that is pending, or has ended.
type Consent struct {
	ID       string    `json:"id"`
	Way      string    `json:"way"`
	State    string    `json:"state" enum:"waiting,agreed,linked,granted,failed"`
	URL      string    `json:"url" doc:"The page to open."`
	UserCode string    `json:"user_code,omitempty" doc:"The code to enter, for device consent."`
	Expires  time.Time `json:"expires"`
	Account  *Account  `json:"account,omitempty" doc:"The linked account."`
	Why      string    `json:"why,omitempty"`
	Remedy   string    `json:"remedy,omitempty"`
}

// Pasted is what a person pasted back: a code, or the address that the page
// ended at.
type Pasted struct {
	Text string `json:"text" minLength:"1"`
}

// Reauthorizing gives an account a new secret that is not a consent.
type Reauthorizing struct {
	Secret string            `json:"secret,omitempty"`
	Files  map[string]string `json:"files,omitempty" doc:"Contents of files by option; others stay, and an empty one is removed."`
}

// Registration is an app registration of one's own at a provider.
type Registration struct {
	ClientID string `json:"client_id" doc:"Empty restores the provider's default."`
	Secret   string `json:"secret,omitempty"`
}

// DefinitionText is a provider definition.
type DefinitionText struct {
	File string `json:"file,omitempty" doc:"File name, for errors."`
	Text string `json:"text" minLength:"1"`
}

// Trial tries a provider definition against a live account, in a scratch folder
// that is removed again.
type Trial struct {
	File    string            `json:"file,omitempty"`
	Text    string            `json:"text" minLength:"1" doc:"The definition."`
	Options map[string]string `json:"options,omitempty"`
	Start   string            `json:"start,omitempty"`
	Secret  string            `json:"secret,omitempty"`
	Consent string            `json:"consent,omitempty" doc:"Id of a consent for the test, instead of a secret."`
}

// TrialResult is a part of a trial, or with Sum, its end.
type TrialResult struct {
	Part     string    `json:"part,omitempty"`
	Outcome  string    `json:"outcome,omitempty" enum:"works,fails,not described"`
	Notes    []string  `json:"notes,omitempty"`
	Seconds  float64   `json:"seconds"`
	SameAs   string    `json:"same_as,omitempty" doc:"An earlier part that failed with the same cause."`
	Exchange *Exchange `json:"exchange,omitempty" doc:"The failed exchange, without secrets."`
	Sum      *TrialSum `json:"sum,omitempty"`
	Why      string    `json:"why,omitempty" doc:"Why nothing could be tested."`
}

// Exchange is one request and its answer.
type Exchange struct {
	Operation string            `json:"operation"`
	Request   string            `json:"request"`
	Sent      map[string]string `json:"sent"`
	Body      string            `json:"body,omitempty"`
	Status    int               `json:"status,omitempty"`
	Headers   map[string]string `json:"headers,omitempty"`
	Answer    string            `json:"answer,omitempty"`
	Error     string            `json:"error,omitempty"`
}

// TrialSum is what a trial came to.
type TrialSum struct {
	Works    int    `json:"works"`
	Fails    int    `json:"fails"`
	NotThere int    `json:"not_described"`
	Causes   int    `json:"causes" doc:"Number of different causes of failures."`
	Left     string `json:"left,omitempty" doc:"The scratch folder, if it could not be deleted."`
}
