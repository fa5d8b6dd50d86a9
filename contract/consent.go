package contract

import "time"

// Consenting begins to link an account by consent, or to mend one.
type Consenting struct {
	Link
	Way         string `json:"way,omitempty" enum:"page,device,paste" doc:"How a person agrees; the provider's best unless given."`
	Reauthorize bool   `json:"reauthorize,omitempty" doc:"The account is there already, and its sign-in is made again; of the rest, its name counts alone."`
	Definition  string `json:"definition,omitempty" doc:"A provider definition that is to be tried; nothing is linked."`
	Console     bool   `json:"console,omitempty" doc:"The page leads back to the console, rather than to a terminal."`
}

// Consent is a consent that is pending, or has ended.
type Consent struct {
	ID       string    `json:"id"`
	Way      string    `json:"way"`
	State    string    `json:"state" enum:"waiting,agreed,linked,granted,failed"`
	URL      string    `json:"url" doc:"The page to open."`
	UserCode string    `json:"user_code,omitempty" doc:"What is typed there, by device."`
	Expires  time.Time `json:"expires"`
	Account  *Account  `json:"account,omitempty" doc:"The account, once it is linked."`
	Why      string    `json:"why,omitempty"`
	Remedy   string    `json:"remedy,omitempty"`
}

// Pasted is what a person pasted back: a code, or the address that the page
// ended at.
type Pasted struct {
	Text string `json:"text" minLength:"1"`
}

// Reauthorizing gives an account a new secret that is no consent.
type Reauthorizing struct {
	Secret string            `json:"secret,omitempty"`
	Files  map[string]string `json:"files,omitempty" doc:"The contents of files that the provider asks for; those that are not given stay, and an empty one goes."`
}

// Registration is an app registration of one's own at a provider.
type Registration struct {
	ClientID string `json:"client_id" doc:"Empty goes back to the provider's default."`
	Secret   string `json:"secret,omitempty"`
}

// DefinitionText is a provider definition.
type DefinitionText struct {
	File string `json:"file,omitempty" doc:"Its name, for errors."`
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
	Consent string            `json:"consent,omitempty" doc:"The id of a consent that was granted for the trial, in place of the secret."`
}

// TrialResult is a part of a trial, or with Sum, its end.
type TrialResult struct {
	Part     string    `json:"part,omitempty"`
	Outcome  string    `json:"outcome,omitempty" enum:"works,fails,not described"`
	Notes    []string  `json:"notes,omitempty"`
	Seconds  float64   `json:"seconds"`
	SameAs   string    `json:"same_as,omitempty" doc:"The part that failed of the same cause before; its exchange shows it."`
	Exchange *Exchange `json:"exchange,omitempty" doc:"The exchange that failed; its secrets are blanked."`
	Sum      *TrialSum `json:"sum,omitempty"`
	Why      string    `json:"why,omitempty" doc:"Why nothing could be tried."`
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
	Causes   int    `json:"causes" doc:"How many different causes the failures have."`
	Left     string `json:"left,omitempty" doc:"The scratch folder, where it could not be removed."`
}
