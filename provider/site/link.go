package site

import (
	"time"

	"deftheron/core/gate"
)

// The subjects of the messages between a service and its workers. A worker may subscribe to
// those that begin with its requests and its inbox, and publish to those that begin with what
// is from it, and to answers.

// RequestSubject is where a worker gets its requests, and those that are given up at the same
// with CancelSuffix.
func RequestSubject(worker string) string { return "work." + worker }

// FromSubject is where the service gets what a worker says without being asked.
func FromSubject(worker, what string) string { return "from." + worker + "." + what }

// InboxPrefix is where a worker gets the answers of the service.
func InboxPrefix(worker string) string { return "inbox." + worker }

// AnswerSubject is where the answer to a request goes, by its token, where it is small.
func AnswerSubject(token string) string { return "answers." + token }

// What a worker says without being asked.
const (
	// SaysAlive comes every few seconds, with an Alive.
	SaysAlive = "alive"
	// SaysSecret asks the service to save a secret, with a NewSecret. The answer is an error, or empty.
	SaysSecret = "secret"
	// SaysToken asks for a secret that is good for a short time, with an AskToken. The answer is a Token.
	SaysToken = "token"
	// SaysLoan asks for a part of the gate of an account, with an AskLoan. The answer is a Lent.
	SaysLoan = "loan"
	// SaysPay asks whether bytes may be moved, with an AskPay. The answer is a Paid.
	SaysPay = "pay"
	// CancelSuffix is of the subject on which a request is given up, by its token.
	CancelSuffix = ".cancel"
)

// ConnectionHeader is the header in which the service names the connection of a worker.
const ConnectionHeader = "Heron-Connection"

// MostMessage is the most bytes of a message.
const MostMessage = 8 << 20

// SmallAnswer is up to how many bytes an answer is sent as a message; larger ones, and all
// contents, are streams of their own.
const SmallAnswer = 32 << 10

// Message carries a request to a worker.
type Message struct {
	// Token names the request, and is the secret by which streams of it are known.
	Token   string
	Request []byte
}

// Alive is what a worker says of itself.
type Alive struct {
	Version    string
	Protocol   int
	System     string   // such as "linux/amd64"
	Connection string   // as the service named it
	Requests   []string // that it is answering, or about to, by their tokens
	Load       float64
	Processors int
	Memory     int64 // private bytes of the process
	Lanes      int   // contents that it copies at once
}

// NewSecret asks for a secret of an account to be replaced.
type NewSecret struct {
	Account, Generation string
	Old, New            []byte
}

// AskToken asks for the secret of an account as it is now.
type AskToken struct{ Account, Generation string }

// Token is a secret, sealed to the worker, or why there is none.
type Token struct {
	Sealed []byte
	Error  *wireError
}

// Err returns why there is none, or nil.
func (t Token) Err() error { return t.Error.error() }

// TokenRefused says why there is no secret.
func TokenRefused(err error) Token { return Token{Error: wireErrorOf(err)} }

// AskLoan asks for a part of the gate of an account, see gate.Borrow.
type AskLoan struct {
	Account string
	Report  gate.Report
}

// Lent is a loan, or why there is none.
type Lent struct {
	Loan  gate.Loan
	Error *wireError
}

// Err returns why there is no loan, or nil.
func (l Lent) Err() error { return l.Error.error() }

// LoanRefused says why there is no loan.
func LoanRefused(err error) Lent { return Lent{Error: wireErrorOf(err)} }

// AskPay asks whether bytes of a unit may be moved.
type AskPay struct {
	Run            string
	Source, Target string // accounts, by their ids
	Bytes          int
}

// Paid says how many bytes may be moved, or that there is no limit for some time.
type Paid struct {
	Bytes int
	Free  time.Duration
	Error *wireError
}

// Err returns why none may be moved, or nil.
func (p Paid) Err() error { return p.Error.error() }

// PayRefused says why no bytes may be moved.
func PayRefused(err error) Paid { return Paid{Error: wireErrorOf(err)} }

// Refusal is why the service did not do what a worker asked for; the zero value says that it did.
type Refusal struct{ Error *wireError }

// Err returns the error of a refusal, or nil.
func (r Refusal) Err() error { return r.Error.error() }

// Refused returns the refusal of an error, which may be nil.
func Refused(err error) Refusal { return Refusal{wireErrorOf(err)} }

// message is what is sent.
type message interface {
	Message | Alive | NewSecret | Refusal | AskLoan | Lent | AskPay | Paid | AskToken | Token
}

// Encode encodes a message of this file.
func Encode[T message](what T) []byte { return encode(what) }

// Decode decodes a message of this file.
func Decode[T message](data []byte) (what T, err error) {
	return what, decode(data, &what)
}
