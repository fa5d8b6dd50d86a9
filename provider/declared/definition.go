// Package declared is the provider of every storage service that a provider
// definition describes: a YAML file with the sign-in, the requests that list, read,
// write and change entries, and the meaning of the answers.
//
// [Load] reads a definition and reports mistakes with their lines; [New] makes a
// store.Provider from it. Addresses are URI templates (RFC 6570), and everything else
// that is computed is jq, in the bounded form of package jq.
// docs/provider-definitions.md teaches the format, and [Schema] describes it to
// editors.
package declared

import (
	"time"

	"deftheron/provider/declared/jq"
)

// Definition is a provider definition. The doc tags are what its JSON Schema
// and its errors say.
type Definition struct {
	Format    int             `yaml:"definition" doc:"Version of the format: 1." need:"yes"`
	Name      string          `yaml:"name" doc:"Name of the provider: 1 to 40 lower-case letters, digits, hyphens." need:"yes"`
	Title     string          `yaml:"title" doc:"The provider's name for people." need:"yes"`
	About     string          `yaml:"about" doc:"A sentence or two for whoever links an account."`
	Options   []Option        `yaml:"options" doc:"What an account needs when it is linked, in addition to the sign-in."`
	Base      Template        `yaml:"base" doc:"Where addresses that begin with / count from, such as {+option.url}/v1." need:"yes"`
	Origins   []Template      `yaml:"origins" doc:"Further origins (scheme://host) that the sign-in may be sent to. Addresses that answers name elsewhere are followed without it."`
	Shared    map[string]Step `yaml:"common" doc:"Parts of requests that several have in common, by names of your own. A request takes them with common: [NAME]; what it says itself goes before them."`
	Functions Functions       `yaml:"functions" doc:"jq functions for all expressions: def name: …;"`
	SignIn    []SignIn        `yaml:"sign-in" doc:"The ways to sign in; the first is the default. None: nobody signs in."`
	Send      Send            `yaml:"send" doc:"What is sent with every request."`
	Failures  Failures        `yaml:"failures" doc:"How answers that are failures are told and understood."`
	Addressed string          `yaml:"addressed" doc:"How entries are named in requests: by id (found by walking) or by path." need:"yes" one:"id,path"`
	Start     Expr            `yaml:"start" doc:"Where entries are addressed by id: the id of the folder that everything is in."`
	Account   *Account        `yaml:"account" doc:"Whom the account belongs to."`
	Areas     *Areas          `yaml:"areas" doc:"The areas to choose one from when linking, such as a personal area and the areas of teams."`
	Members   *Areas          `yaml:"members" doc:"The members of an organisation, of whom each becomes a folder where the account is linked with a service key (sign-in: assertion). Requests of a member's area see .member, and so do the claims of the assertion."`
	Space     *Space          `yaml:"space" doc:"How much the account holds."`
	Entry     Entry           `yaml:"entry" doc:"How an entry of the service is read." need:"yes"`
	Names     Names           `yaml:"names" doc:"What names can be."`
	Limits    Limits          `yaml:"limits" doc:"What the service can hold and bear."`
	Times     Times           `yaml:"times" doc:"How times are told."`
	Hashes    []Hash          `yaml:"hashes" doc:"The hashes of content that entries tell."`
	List      List            `yaml:"list" doc:"Lists the children of a folder." need:"yes"`
	Find      *Find           `yaml:"find" doc:"Finds the children of a folder that have a name. Without it the folder is listed."`
	Look      *Operation      `yaml:"look" doc:"Looks at one entry. Its answer is an entry."`
	Download  *Download       `yaml:"download" doc:"Reads a file." need:"yes"`
	Uploads   []Upload        `yaml:"uploads" doc:"The ways to write a file; the first that fits the size is taken."`
	Folder    *Operation      `yaml:"make-folder" doc:"Makes a folder. Its answer is an entry."`
	Move      *Operation      `yaml:"move" doc:"Moves or renames an entry to where nothing is. Its answer is an entry."`
	Copy      *Operation      `yaml:"copy" doc:"Copies a file within the account to where nothing is. Its answer is an entry."`
	Remove    *Remove         `yaml:"remove" doc:"Removes an entry."`
	Changes   *Changes        `yaml:"changes" doc:"What has changed since a moment."`
	Documents []Document      `yaml:"documents" doc:"The kinds of documents that exist only inside the service, and what they can be exported as."`
	Export    *Operation      `yaml:"export" doc:"Reads a document in the format .format.name (.format.media). Its answer is the exported file."`
	Sharing   *Sharing        `yaml:"sharing" doc:"Share lists of entries, which a migration carries over."`
	Leftovers *Leftovers      `yaml:"leftovers" doc:"Finds uploads that were begun and never ended, to give them up."`
	Source    string          `yaml:"-"` // the text that it was read from
	Where     string          `yaml:"-"` // the file that it was read from
	Shipped   bool            `yaml:"-"` // it is part of the program
}

// Option is something that is asked for when an account is linked.
type Option struct {
	Name     string   `yaml:"name" doc:"Lower-case letters, digits, hyphens; .option.NAME in expressions." need:"yes"`
	Title    string   `yaml:"title" doc:"For a form's label." need:"yes"`
	Help     string   `yaml:"help" doc:"One sentence of what to give." need:"yes"`
	Required bool     `yaml:"required" doc:"It has to be given."`
	Default  string   `yaml:"default" doc:"What is taken where it is not given."`
	Choices  []string `yaml:"choices" doc:"The values that it can have."`
}

// SignIn is one way to sign in.
type SignIn struct {
	Way         string          `yaml:"way" doc:"code: OAuth 2.0 with a page in a browser (RFC 6749, 7636). paste: the same, the code is shown and pasted back. device: a code is typed on another device (RFC 8628). client: client credentials. assertion: a signed service key (RFC 7523). bearer: a token. basic: user and password. key: a key in a header or the query." need:"yes" one:"code,paste,device,client,assertion,bearer,basic,key"`
	Issuer      string          `yaml:"issuer" doc:"code, paste: what iss of an answer is, where the service sends it (RFC 9207). Left out, its origin has to be that of authorize or token."`
	Authorize   Template        `yaml:"authorize" doc:"code, paste: the page where consent is given."`
	Device      Template        `yaml:"device" doc:"device: where a device code is got."`
	Token       Template        `yaml:"token" doc:"Where tokens are got and refreshed."`
	Revoke      Template        `yaml:"revoke" doc:"Where a token is given back when the account is unlinked (RFC 7009)."`
	Redirect    string          `yaml:"redirect" doc:"paste: the redirect address that the service wants where it shows the code. code: one that is registered in place of the service's own callback."`
	Client      Client          `yaml:"client" doc:"The app registration that is used unless one's own is given."`
	ClientBy    string          `yaml:"client-by" doc:"How the client says who it is: in the body (the default) or by Basic." one:"body,basic"`
	Pkce        string          `yaml:"pkce" doc:"S256 (the default), plain, or none." one:"S256,plain,none"`
	Scopes      Scopes          `yaml:"scopes" doc:"The scopes that are asked for."`
	Separator   string          `yaml:"scope-separator" doc:"What stands between scopes; a space unless given."`
	Authorizing map[string]Expr `yaml:"authorize-parameters" doc:"Further parameters of the page or of the device request."`
	Tokening    map[string]Expr `yaml:"token-parameters" doc:"Further parameters of requests for a token."`
	Json        bool            `yaml:"token-json" doc:"Requests for a token are JSON, not a form."`
	Answer      TokenAnswer     `yaml:"token-answer" doc:"Where the answer differs from RFC 6749."`
	Lifetime    Duration        `yaml:"lifetime" doc:"How long a token lasts where the answer does not say."`
	Assertion   *Assertion      `yaml:"assertion" doc:"assertion: what is signed."`
	Header      string          `yaml:"header" doc:"key: the header that the key goes into. Others: the header of the token, Authorization unless given."`
	Query       string          `yaml:"query" doc:"key: the parameter of the query that the key goes into, where it is not a header."`
	Prefix      *string         `yaml:"prefix" doc:"What stands before the token or key in the header; \"Bearer \" for tokens, nothing for keys."`
}

// Client is an app registration.
type Client struct {
	ID     string `yaml:"id" doc:"Client id."`
	Secret string `yaml:"secret" doc:"Client secret, where the service gives one to programs that cannot keep it."`
}

// Scopes are asked for by what an account is linked for.
type Scopes struct {
	Full     []string `yaml:"full" doc:"To read and write."`
	ReadOnly []string `yaml:"read-only" doc:"To read only; the same as full unless given."`
}

// TokenAnswer says where an answer with tokens differs from RFC 6749.
type TokenAnswer struct {
	Access  Expr `yaml:"access" doc:"The access token; .access_token unless given."`
	Refresh Expr `yaml:"refresh" doc:"The refresh token; .refresh_token unless given."`
	Expires Expr `yaml:"expires" doc:"Seconds that the access token lasts; .expires_in unless given."`
}

// Assertion is a JSON Web Token that is signed with a service key.
type Assertion struct {
	Algorithm string   `yaml:"algorithm" doc:"RS256 (the default), RS384, RS512, PS256, ES256, ES384, EdDSA or HS256." one:"RS256,RS384,RS512,PS256,ES256,ES384,EdDSA,HS256"`
	Key       Expr     `yaml:"key" doc:"The key in PEM (or the bytes, for HS256), of the secret; where the secret is JSON, . is what it holds. . unless given."`
	Claims    Expr     `yaml:"claims" doc:"The claims; iat, exp and jti are added. . is the secret, $in the account's options and scopes." need:"yes"`
	Header    Expr     `yaml:"header" doc:"Further members of the header, such as {kid: .key_id}."`
	Grant     string   `yaml:"grant" doc:"urn:ietf:params:oauth:grant-type:jwt-bearer unless given; client_credentials sends it as client_assertion."`
	Lasts     Duration `yaml:"lasts" doc:"How long the assertion holds; 5m unless given."`
}

// Send is the common part of every request.
type Send struct {
	Headers map[string]Expr `yaml:"headers" doc:"Headers; one that comes to null is left out."`
	Query   map[string]Expr `yaml:"query" doc:"Parameters of the query; one that comes to null is left out."`
}

// Failures say how answers that are failures are understood.
type Failures struct {
	When  Expr      `yaml:"when" doc:"Whether an answer of 2xx is a failure in truth."`
	Words Expr      `yaml:"words" doc:"What the service says about it, in words."`
	Rules []Failure `yaml:"rules" doc:"The first that holds decides what kind of failure it is; else the status does."`
}

// Failure is a rule.
type Failure struct {
	When  Expr   `yaml:"when" doc:"Whether the rule holds; . is the body, $status and $headers the answer's, $in what was asked ($in.operation)." need:"yes"`
	Is    string `yaml:"is" doc:"What it is." need:"yes" one:"not-found,exists,changed,refused,sign-in-expired,scope,no-space,name-refused,too-large,slow-down,try-again,unknown,locked,unsupported,cursor-lost"`
	Wait  Expr   `yaml:"wait" doc:"slow-down: seconds to wait; Retry-After is understood without it."`
	Scope Expr   `yaml:"scope" doc:"scope: the scope that is missing, in words."`
}

// Account says whom an account belongs to.
type Account struct {
	Step  `yaml:",inline"`
	Owner Expr `yaml:"owner" doc:"Words for people, such as a name or an address." need:"yes"`
	ID    Expr `yaml:"id" doc:"What is the same for the same account, however it is linked."`
	Facts Expr `yaml:"facts" doc:"An object that becomes .account in all later expressions, such as the host that serves it."`
}

// Areas are what can be chosen from when linking.
type Areas struct {
	Step  `yaml:",inline"`
	Items Expr  `yaml:"items" doc:"Each area of the answer." need:"yes"`
	Next  *Next `yaml:"next" doc:"How the next page is found."`
	Own   Expr  `yaml:"own" doc:"One's own area, where it is not among the items: an object."`
	ID    Expr  `yaml:"id" doc:".id unless given."`
	Title Expr  `yaml:"title" doc:"The area's name for people; .name unless given."`
	Mail  Expr  `yaml:"mail" doc:"members: the email address of the member, who owns what is in the area."`
}

// Space is how much an account holds, in bytes.
type Space struct {
	Step   `yaml:",inline"`
	Used   Expr `yaml:"used" doc:"Bytes in use."`
	Free   Expr `yaml:"free" doc:"Bytes left; total less used unless given."`
	Total  Expr `yaml:"total" doc:"Bytes in all; null is without a limit."`
	Shared Expr `yaml:"shared" doc:"What is the same for all areas that share their space; nothing where each has its own."`
}

// Entry says how an entry is read. Each is evaluated on what listing yields.
type Entry struct {
	Name     Expr `yaml:"name" doc:"The name; the last step of path unless given."`
	ID       Expr `yaml:"id" doc:"The id; a number is fine."`
	Kind     Expr `yaml:"kind" doc:"folder, file, document or other; or true for a folder, false for a file." need:"yes"`
	Size     Expr `yaml:"size" doc:"Bytes, as a number or a string; null is unknown."`
	Modified Expr `yaml:"modified" doc:"When the content was changed: RFC 3339, an HTTP date, or seconds, milliseconds or microseconds since 1970."`
	Created  Expr `yaml:"created" doc:"When the entry was made; of two of one name made at once, the earlier one stays."`
	Revision Expr `yaml:"revision" doc:"Changes whenever the content does." need:"yes"`
	Parent   Expr `yaml:"parent" doc:"The id of the folder that it is in."`
	Path     Expr `yaml:"path" doc:"Its path, where the service tells it."`
	Excluded Expr `yaml:"excluded" doc:"Whether it is not to be shown: what lies in the trash, for one."`
	Document Expr `yaml:"document" doc:"Of a document: the kind of it, as in documents."`
	Home     Expr `yaml:"home" doc:"Where an entry may be in several folders, as pictures are in albums: the id of the folder that it belongs to. In the others it is listed too, and not copied again with the whole account."`
	Shared   Expr `yaml:"shared" doc:"Whether the entry has an owner other than the account's, or is itself shared with somebody."`
	Facts    Expr `yaml:"facts" doc:"An object that becomes .facts where the entry itself is addressed."`
}

// Names are what names can be.
type Names struct {
	Refused    []Pattern `yaml:"refused" doc:"Regular expressions (RE2); a name that one matches is refused."`
	Bytes      int       `yaml:"longest-bytes" doc:"Most bytes of a name in UTF-8."`
	Characters int       `yaml:"longest" doc:"Most characters of a name."`
	Path       int       `yaml:"longest-path" doc:"Most characters of a path."`
	LetterCase string    `yaml:"letter-case" doc:"counts (the default); kept, but does not count; or lost." one:"counts,kept,lost"`
	Unicode    string    `yaml:"unicode" doc:"The form that names are turned into: kept (the default), nfc or nfd." one:"kept,nfc,nfd"`
	Slashes    bool      `yaml:"slashes" doc:"A name may hold a slash."`
	Twins      bool      `yaml:"twins" doc:"A folder may hold two entries of one name."`
	Beside     bool      `yaml:"file-beside-folder" doc:"A file and a folder may have one name."`
	Deepest    int       `yaml:"deepest" doc:"Most folders below one another."`
}

// Limits are what the service can hold and bear.
type Limits struct {
	File    Size `yaml:"largest-file" doc:"Most bytes of a file, such as 50GiB."`
	Streams int  `yaml:"streams" doc:"Transfers at once to begin with; 8 unless given."`
	Page    int  `yaml:"page" doc:".limit: how many entries are asked for at once; 1000 unless given."`
}

// Times defines the format of times.
type Times struct {
	Precision Duration `yaml:"precision" doc:"The smallest difference that is reported: 1s unless given."`
	Kept      bool     `yaml:"kept" doc:"The time that an upload gives is kept."`
}

// Hash is a hash of content that entries tell.
type Hash struct {
	Kind         string `yaml:"kind" doc:"md5, sha1, sha256, sha512, crc32, crc32c, crc64nvme; or of the hashes of blocks." need:"yes" one:"md5,sha1,sha256,sha512,crc32,crc32c,crc64nvme"`
	Block        Size   `yaml:"of-blocks" doc:"The hash is computed from the hashes of blocks of this size, concatenated."`
	Inner        string `yaml:"block-hash" doc:"The hash of each block; the same kind unless given." one:"md5,sha1,sha256,sha512"`
	Value        Expr   `yaml:"value" doc:"The hash in hexadecimal or base64, on what listing yields." need:"yes"`
	Verification bool   `yaml:"verification" doc:"The answer to a write tells it, computed by the service from what arrived."`
}

// List lists a folder.
type List struct {
	Operation `yaml:",inline"`
	Items     Expr  `yaml:"items" doc:"Each entry of the answer, such as .items[]." need:"yes"`
	Next      *Next `yaml:"next" doc:"How the next page is found; without it there is one page."`
	ByKey     bool  `yaml:"by-key" doc:"Entries come in the order of raw bytes, with / after the names of folders."`
}

// Next says how the next page is found. One of its members is given.
type Next struct {
	Token  Expr    `yaml:"token" doc:"What .page is in the next request; null at the end."`
	URL    Expr    `yaml:"url" doc:"The address of the next page; null at the end."`
	Link   bool    `yaml:"link" doc:"The answer's Link header names the next page with rel=next (RFC 8288)."`
	Offset *Offset `yaml:"offset" doc:"Pages are counted by how many entries came before (.offset, and .number from 1)."`
	Step   *Step   `yaml:"request" doc:"The request of the next page, where it is another than the first."`
}

// Offset ends when all have come, or when a page has fewer than were asked for.
type Offset struct {
	Total Expr `yaml:"total" doc:"How many there are in all; without it a page that is not full is the last."`
	More  Expr `yaml:"more" doc:"Whether more come."`
}

// Find finds entries by their name.
type Find struct {
	Operation `yaml:",inline"`
	Items     Expr  `yaml:"items" doc:"Each entry of the answer; others than of the name are passed over. . unless given."`
	Next      *Next `yaml:"next" doc:"How the next page is found."`
}

// Download reads a file.
type Download struct {
	Operation   `yaml:",inline"`
	Ranges      string `yaml:"ranges" doc:"header: by Range (RFC 9110, the default). none: always from the start. request: by the request's own expressions, of .range.from and .range.last." one:"header,request,none"`
	Conditional bool   `yaml:"conditional" doc:"The request carries .revision as a condition, and another revision is refused. Without it the entry is looked at first."`
	Revision    Expr   `yaml:"revision" doc:"The revision that the answer is of, of $headers."`
}

// Upload is a way to write a file.
type Upload struct {
	Above      Size       `yaml:"above" doc:"For files larger than this."`
	UpTo       Size       `yaml:"up-to" doc:"For files of at most this size."`
	Conditions []string   `yaml:"conditions" doc:"The conditions that the service checks by itself when the file gets its name: absent, revision. Others are looked at just before." one:"absent,revision"`
	Replaces   string     `yaml:"replaces" doc:"request (the default): the same requests replace. remove: for services that replace nothing; what is replaced is moved aside until the new one has its name, or, where two entries may have one name, removed when the new one is there." one:"request,remove"`
	Hashes     []string   `yaml:"hashes" doc:"Hashes of the content that have to be known before it is sent (.hash.md5, in hexadecimal); it is then read twice." one:"md5,sha1,sha256,sha512,crc32,crc32c,crc64nvme"`
	Begin      *Operation `yaml:"begin" doc:"Opens the upload; what it keeps is .kept in what follows."`
	Tus        bool       `yaml:"tus" doc:"The upload is one of tus 1.0: begin creates it (its Location is taken), and the rest is known."`
	Send       *Operation `yaml:"send" doc:"Sends the content (content: true), all at once, or a piece at a time where pieces says so."`
	Pieces     *Pieces    `yaml:"pieces" doc:"The content goes in pieces."`
	Ask        *Ask       `yaml:"ask" doc:"How far the upload got, after a piece failed."`
	Finish     *Operation `yaml:"finish" doc:"Publishes, commits or completes it. .parts is what each piece kept."`
	GiveUp     *Operation `yaml:"give-up" doc:"Ends an upload that is not to be finished."`
	Answer     string     `yaml:"answer" doc:"entry (the default): the last answer is the entry, by its step's value. none: it is looked at afterwards." one:"entry,none"`
}

// Pieces say how content is cut.
type Pieces struct {
	Size   Size     `yaml:"size" doc:"Bytes of a piece; 8MiB unless given."`
	SizeBy Expr     `yaml:"size-by" doc:"Bytes of a piece, computed of .size and .kept."`
	Align  Size     `yaml:"multiple-of" doc:"All pieces but the last are a multiple of this."`
	Most   int      `yaml:"most" doc:"Most pieces of a file; they are made larger to keep to it."`
	Order  string   `yaml:"order" doc:"sequence (the default), or any: numbered parts that may be sent at once and again." one:"sequence,any"`
	Hashes []string `yaml:"hashes" doc:"Hashes of each piece (.part.hash.md5, in hexadecimal) that have to be known before it is sent." one:"md5,sha1,sha256,sha512,crc32,crc32c,crc64nvme"`
}

// Ask asks how far an upload got.
type Ask struct {
	Operation `yaml:",inline"`
	Offset    Expr `yaml:"offset" doc:"How many bytes have arrived, of the answer." need:"yes"`
}

// Remove removes an entry.
type Remove struct {
	Operation   `yaml:",inline"`
	Trash       bool   `yaml:"trash" doc:"What is removed can be restored from the service's trash."`
	Conditional bool   `yaml:"conditional" doc:"The request carries .revision as a condition. Without it the entry is looked at first."`
	EmptyOnly   bool   `yaml:"empty-only" doc:"The service itself refuses to remove a folder that holds something."`
	Batch       *Batch `yaml:"batch" doc:"Several at once: removals that come together go as one request."`
}

// Batch sends several requests as one.
type Batch struct {
	Step   `yaml:",inline"`
	Most   int  `yaml:"most" doc:"Most in one request; 100 unless given. .batch is the list of what is asked, each as it would be by itself."`
	Each   Expr `yaml:"each" doc:"Each answer, in the order that was asked." need:"yes"`
	Failed Expr `yaml:"failed" doc:"Of each answer: whether it is a failure; it is then understood by the rules of failures, with $status the value of status."`
	Status Expr `yaml:"status" doc:"Of each answer: its status."`
	Body   Expr `yaml:"body" doc:"Of each answer: the body that the rules see; . unless given."`
}

// Changes defines the change feed.
type Changes struct {
	Begin       *Operation `yaml:"begin" doc:"Where to begin; .cursor of the answer is kept by begin-cursor."`
	BeginCursor Expr       `yaml:"begin-cursor" doc:"The cursor, of the answer to begin."`
	Page        Operation  `yaml:"page" doc:"A page of changes since .cursor. Where .wait is a number, the request may wait for so many seconds." need:"yes"`
	Items       Expr       `yaml:"items" doc:"Each change of the answer." need:"yes"`
	Entry       Expr       `yaml:"entry" doc:"Of a change: the entry; . unless given."`
	Gone        Expr       `yaml:"gone" doc:"Of a change: whether the entry is gone."`
	ID          Expr       `yaml:"id" doc:"Of a change: the id of what is gone."`
	Path        Expr       `yaml:"path" doc:"Of a change: the path of what is gone, where paths are told."`
	Cursor      Expr       `yaml:"cursor" doc:"The next cursor, of the answer; a cursor may be an address."`
	More        Expr       `yaml:"more" doc:"Whether the next page is there already."`
	Waits       Duration   `yaml:"waits" doc:"How long a request may wait for a change; nothing where it cannot."`
	Wait        *Wait      `yaml:"wait" doc:"A request of its own that waits for a change."`
}

// Wait waits for a change.
type Wait struct {
	Operation `yaml:",inline"`
	Changed   Expr `yaml:"changed" doc:"Whether something has changed." need:"yes"`
}

// Document is a kind of document that exists only inside the service.
type Document struct {
	Kind    string   `yaml:"kind" doc:"What entry.document tells." need:"yes"`
	Title   string   `yaml:"title" doc:"text, sheet, slides, drawing, note or other: which rule of exports counts for it." need:"yes" one:"text,sheet,slides,drawing,note,other"`
	Formats []Format `yaml:"formats" doc:"What it can be exported as; the first is the default." need:"yes"`
}

// Format is a format to which a document can be exported.
type Format struct {
	Name  string `yaml:"name" doc:"The extension, such as odt." need:"yes"`
	Media string `yaml:"media" doc:"Its media type; .format.media."`
}

// Leftovers finds uploads that have started and never ended.
type Leftovers struct {
	Step   `yaml:",inline"`
	Items  Expr       `yaml:"items" doc:"Each open upload of the answer." need:"yes"`
	Next   *Next      `yaml:"next" doc:"How the next page is found."`
	Run    Expr       `yaml:"run" doc:"The .run that began gave, of an item." need:"yes"`
	Kept   Expr       `yaml:"kept" doc:"What begin kept, of an item, by which an upload in parts that is to be gone on with is told."`
	GiveUp *Operation `yaml:"give-up" doc:"Ends one; .leftover is the item." need:"yes"`
}

// Operation is one step, or several in order. A step whose when does not hold
// is passed over; the answer of the last that ran is the operation's.
type Operation struct {
	Step  `yaml:",inline"`
	Steps []Step `yaml:"steps" doc:"Several requests, in order. What each keeps is .kept in those that follow."`
}

// Step is one request, and the values to read from its answer.
type Step struct {
	Shared    []string        `yaml:"common" doc:"Names of the common parts that the request has."`
	When      Expr            `yaml:"when" doc:"Whether the step is taken."`
	Request   *Line           `yaml:"request" doc:"METHOD and address (RFC 6570), such as GET /files/{id}{?page}."`
	With      map[string]Expr `yaml:"with" doc:"Further variables of the address."`
	Query     map[string]Expr `yaml:"query" doc:"Parameters of the query; one that comes to null is left out."`
	Headers   map[string]Expr `yaml:"headers" doc:"Headers; one that comes to null is left out."`
	Json      Expr            `yaml:"json" doc:"The body, as JSON."`
	Form      map[string]Expr `yaml:"form" doc:"The body, as a form (application/x-www-form-urlencoded)."`
	Content   bool            `yaml:"content" doc:"The body is the file's content, or the piece of it."`
	Media     Expr            `yaml:"content-type" doc:"The content's media type; application/octet-stream unless given."`
	Multipart *Multipart      `yaml:"multipart" doc:"The body in several parts."`
	Unsigned  bool            `yaml:"unsigned" doc:"The sign-in is not sent, as for addresses that carry their own."`
	Redirects string          `yaml:"redirects" doc:"followed (the default; without the sign-in to another origin), or kept: the answer itself is wanted." one:"followed,kept"`
	Keep      map[string]Expr `yaml:"keep" doc:"What is kept of the answer: .kept.NAME in what follows."`
	Value     Expr            `yaml:"value" doc:"What the operation's answer is, of the answer; . unless given."`
	Accepts   []int           `yaml:"accepts" doc:"Statuses that are no failure here, beside 2xx."`
	Long      *Long           `yaml:"long" doc:"The answer may say that it is accepted and not yet done."`
}

// Multipart is a body of several parts.
type Multipart struct {
	Type  string `yaml:"type" doc:"related (RFC 2387), form-data (RFC 7578) or mixed." need:"yes" one:"related,form-data,mixed"`
	Parts []Part `yaml:"parts" doc:"The parts, in order." need:"yes"`
}

// Part is a part of a body.
type Part struct {
	Name     string          `yaml:"name" doc:"form-data: the field's name."`
	FileName Expr            `yaml:"file-name" doc:"form-data: the file's name."`
	Media    Expr            `yaml:"content-type" doc:"The part's media type."`
	Headers  map[string]Expr `yaml:"headers" doc:"Further headers of the part."`
	Json     Expr            `yaml:"json" doc:"The part is JSON."`
	Text     Expr            `yaml:"text" doc:"The part is text."`
	Content  bool            `yaml:"content" doc:"The part is the file's content."`
}

// Long is an operation that is accepted and then asked about.
type Long struct {
	When   Expr            `yaml:"when" doc:"Whether the answer says so; $status == 202 unless given."`
	Keep   map[string]Expr `yaml:"keep" doc:"What is kept of it: .kept.NAME in ask."`
	Ask    Step            `yaml:"ask" doc:"Asks how it is; the Location header is .kept.location." need:"yes"`
	Done   Expr            `yaml:"done" doc:"Whether it has ended well, of the answer." need:"yes"`
	Failed Expr            `yaml:"failed" doc:"Whether it has failed; the rules of failures then see the answer."`
	Every  Duration        `yaml:"every" doc:"The poll interval; 1s unless given. Retry-After is obeyed."`
	Within Duration        `yaml:"within" doc:"How long it may take; 10m unless given."`
}

// Expr is an expression of jq. Its zero value was not given.
type Expr struct {
	*jq.Expr
	source string
	line   int
}

// Given reports whether there is an expression.
func (e Expr) Given() bool { return e.Expr != nil }

// Duration is such as 1s, 250ms or 10m.
type Duration time.Duration

// Size is a number of bytes, such as 8MiB.
type Size int64
