package declared_test

import (
	"crypto/md5"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"deftheron/core/store"
	"deftheron/provider/declared"
)

// third is a service in a dialect unlike both stand-ins: failures are answered
// with 200, paths are in the query or in a header, lists are counted by offset,
// files go in numbered parts, downloads are from another origin by an address
// that works once, removals go in batches, and it is signed in to with a service
// key.
type third struct {
	mu       sync.Mutex
	entries  map[string]*thirdEntry // by path
	uploads  map[string]*thirdUpload
	once     map[string]string // one-time downloads
	next     int
	log      []thirdChange
	token    string
	key      *rsa.PublicKey
	files    *httptest.Server
	batches  int
	askedBad bool // the sign-in went to the other origin
}

type thirdEntry struct {
	dir     bool
	data    []byte
	version int
	changed time.Time
}

type thirdUpload struct {
	parts map[int][]byte
	label string
}

type thirdChange struct {
	path string
	gone bool
}

func newThird(t *testing.T, key *rsa.PublicKey) (*third, string) {
	s := &third{entries: map[string]*thirdEntry{"/": {dir: true}}, uploads: map[string]*thirdUpload{}, once: map[string]string{}, key: key}
	server := httptest.NewServer(http.HandlerFunc(s.serve))
	t.Cleanup(server.Close)
	s.files = httptest.NewServer(http.HandlerFunc(s.file))
	t.Cleanup(s.files.Close)
	return s, server.URL
}

func (s *third) say(w http.ResponseWriter, body map[string]any) {
	if body["ok"] == nil {
		body["ok"] = true
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(body)
}

func (s *third) refuse(w http.ResponseWriter, code string) {
	s.say(w, map[string]any{"ok": false, "code": code, "text": "it is " + code})
}

func (s *third) shown(path string, e *thirdEntry) map[string]any {
	kind := "F"
	if e.dir {
		kind = "D"
	}
	return map[string]any{
		"where": path, "k": kind, "octets": strconv.Itoa(len(e.data)), "changed": float64(e.changed.UnixMilli()) / 1000, "v": e.version,
		"blocks": thirdHash(e.data),
	}
}

// thirdHash is the SHA-256 of the SHA-256s of blocks of 1 MiB, in base64.
func thirdHash(data []byte) string {
	outer := sha256.New()
	for block := range slices.Chunk(data, 1<<20) {
		sum := sha256.Sum256(block)
		outer.Write(sum[:])
	}
	return base64.StdEncoding.EncodeToString(outer.Sum(nil))
}

// file serves one-time downloads from another origin.
func (s *third) file(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.askedBad = s.askedBad || r.Header.Get("X-Token") != ""
	path, ok := s.once[r.URL.Path]
	delete(s.once, r.URL.Path)
	e := s.entries[path]
	if !ok || e == nil {
		http.Error(w, "gone", http.StatusGone)
		return
	}
	http.ServeContent(w, r, "", time.Time{}, strings.NewReader(string(e.data)))
}

func (s *third) serve(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.URL.Path == "/login" {
		s.login(w, r)
		return
	}
	if s.token == "" || r.Header.Get("X-Token") != "t "+s.token {
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	query := r.URL.Query()
	at := query.Get("at")
	if header := r.Header.Get("X-Args"); header != "" {
		var args map[string]string
		if err := json.Unmarshal([]byte(header), &args); err != nil {
			s.refuse(w, "bad")
			return
		}
		at = args["at"]
	}
	e, parent := s.entries[at], s.entries[dirOf(at)]
	switch r.Method + " " + r.URL.Path {
	case "GET /who":
		s.say(w, map[string]any{"who": map[string]any{"name": "Archive desk", "n": 42}, "disk": map[string]any{"left": "1000000"}})
	case "GET /ls":
		s.list(w, at, e, query)
	case "GET /info":
		if e == nil {
			s.refuse(w, "absent")
			return
		}
		s.say(w, map[string]any{"entry": s.shown(at, e)})
	case "POST /mkdir":
		switch {
		case e != nil:
			s.refuse(w, "taken")
		case parent == nil || !parent.dir:
			s.refuse(w, "absent")
		default:
			s.put(at, &thirdEntry{dir: true})
			s.say(w, map[string]any{"entry": s.shown(at, s.entries[at])})
		}
	case "GET /fetch":
		if e == nil || e.dir {
			s.refuse(w, "absent")
			return
		}
		s.next++
		path := fmt.Sprint("/once/", s.next)
		s.once[path] = at
		s.say(w, map[string]any{"from": s.files.URL + path})
	case "PUT /put":
		data, err := io.ReadAll(r.Body)
		sum := md5.Sum(data)
		if err != nil || r.Header.Get("Content-MD5") != base64.StdEncoding.EncodeToString(sum[:]) {
			s.refuse(w, "damaged")
			return
		}
		s.store(w, at, data, r.Header.Get("X-If"))
	case "POST /parts":
		s.next++
		id := fmt.Sprint("up-", s.next)
		s.uploads[id] = &thirdUpload{parts: map[int][]byte{}, label: query.Get("label")}
		s.say(w, map[string]any{"upload": id})
	case "GET /parts":
		list := []any{}
		for id, u := range s.uploads {
			list = append(list, map[string]any{"upload": id, "label": u.label})
		}
		s.say(w, map[string]any{"uploads": list})
	case "PUT /part":
		s.part(w, r, query)
	case "POST /join":
		s.join(w, at, query, r)
	case "POST /drop":
		delete(s.uploads, query.Get("upload"))
		s.say(w, map[string]any{})
	case "POST /rename":
		s.rename(w, at, e, query.Get("to"))
	case "POST /remove":
		s.removeAll(w, r)
	case "GET /feed":
		from, err := strconv.Atoi(query.Get("from"))
		if err != nil || from > len(s.log) {
			s.refuse(w, "lost")
			return
		}
		items := []any{}
		for _, one := range s.log[from:] {
			item := map[string]any{"where": one.path, "gone": one.gone}
			if now := s.entries[one.path]; now != nil && !one.gone {
				item["entry"] = s.shown(one.path, now)
			}
			items = append(items, item)
		}
		s.say(w, map[string]any{"items": items, "later": fmt.Sprintf("http://%s/feed?from=%d", r.Host, len(s.log))})
	case "GET /wait":
		from, _ := url.Parse(query.Get("feed"))
		n, _ := strconv.Atoi(from.Query().Get("from"))
		s.say(w, map[string]any{"news": n < len(s.log)})
	default:
		s.refuse(w, "unknown "+r.Method+" "+r.URL.Path)
	}
}

func dirOf(path string) string {
	if at := strings.LastIndexByte(path, '/'); at > 0 {
		return path[:at]
	}
	return "/"
}

func (s *third) put(path string, e *thirdEntry) {
	s.next++
	e.version, e.changed = s.next, time.Now()
	s.entries[path] = e
	s.log = append(s.log, thirdChange{path, false})
}

// login takes a JWT that is signed with the service key (RFC 7523), as JSON.
func (s *third) login(w http.ResponseWriter, r *http.Request) {
	var asked map[string]string
	_ = json.NewDecoder(r.Body).Decode(&asked)
	claims := jwt.MapClaims{}
	token, err := jwt.ParseWithClaims(asked["assertion"], claims, func(*jwt.Token) (any, error) { return s.key, nil },
		jwt.WithAudience("third"), jwt.WithIssuer("robot"), jwt.WithExpirationRequired(), jwt.WithValidMethods([]string{"RS256"}))
	if err != nil || token.Header["kid"] != "key-7" || asked["grant_type"] != "urn:ietf:params:oauth:grant-type:jwt-bearer" {
		w.WriteHeader(http.StatusBadRequest)
		_ = json.NewEncoder(w).Encode(map[string]string{"error": "invalid_grant"})
		return
	}
	s.token = rand.Text()
	s.say(w, map[string]any{"session": map[string]any{"key": s.token, "seconds": 600}})
}

func (s *third) list(w http.ResponseWriter, at string, e *thirdEntry, query url.Values) {
	if e == nil || !e.dir {
		s.refuse(w, "absent")
		return
	}
	var paths []string
	for path := range s.entries {
		if path != "/" && dirOf(path) == at {
			paths = append(paths, path)
		}
	}
	slices.Sort(paths)
	skip, _ := strconv.Atoi(query.Get("skip"))
	take, _ := strconv.Atoi(query.Get("take"))
	items := []any{}
	for _, path := range paths[min(skip, len(paths)):min(skip+take, len(paths))] {
		items = append(items, s.shown(path, s.entries[path]))
	}
	s.say(w, map[string]any{"list": items, "count": len(paths)})
}

// store keeps a file under "new", "any" or a version.
func (s *third) store(w http.ResponseWriter, at string, data []byte, condition string) {
	e, parent := s.entries[at], s.entries[dirOf(at)]
	switch {
	case parent == nil || !parent.dir:
		s.refuse(w, "absent")
	case e != nil && (e.dir || condition == "new"):
		s.refuse(w, "taken")
	case condition != "new" && condition != "any" && (e == nil || condition != fmt.Sprint(e.version)):
		s.refuse(w, "stale")
	default:
		s.put(at, &thirdEntry{data: data})
		s.say(w, map[string]any{"entry": s.shown(at, s.entries[at])})
	}
}

func (s *third) part(w http.ResponseWriter, r *http.Request, query url.Values) {
	u := s.uploads[query.Get("upload")]
	number, err := strconv.Atoi(query.Get("no"))
	data, readErr := io.ReadAll(r.Body)
	if u == nil || err != nil || readErr != nil {
		s.refuse(w, "absent")
		return
	}
	sum := sha256.Sum256(data)
	if r.Header.Get("X-Part-Sum") != hex.EncodeToString(sum[:]) {
		s.refuse(w, "damaged")
		return
	}
	u.parts[number] = data
	s.say(w, map[string]any{"receipt": fmt.Sprint("r", number, "-", len(data))})
}

func (s *third) join(w http.ResponseWriter, at string, query url.Values, r *http.Request) {
	u := s.uploads[query.Get("upload")]
	var asked struct {
		Parts []struct {
			No      int    `json:"no"`
			Receipt string `json:"receipt"`
		} `json:"parts"`
	}
	if err := json.NewDecoder(r.Body).Decode(&asked); err != nil || u == nil {
		s.refuse(w, "absent")
		return
	}
	var data []byte
	for i, part := range asked.Parts {
		if part.No != i+1 || part.Receipt != fmt.Sprint("r", part.No, "-", len(u.parts[part.No])) {
			s.refuse(w, "damaged")
			return
		}
		data = append(data, u.parts[part.No]...)
	}
	s.store(w, at, data, r.Header.Get("X-If"))
	if s.entries[at] != nil && string(s.entries[at].data) == string(data) {
		delete(s.uploads, query.Get("upload"))
	}
}

func (s *third) rename(w http.ResponseWriter, at string, e *thirdEntry, to string) {
	parent := s.entries[dirOf(to)]
	switch {
	case e == nil || parent == nil || !parent.dir:
		s.refuse(w, "absent")
	case s.entries[to] != nil:
		s.refuse(w, "taken")
	default:
		for path, one := range s.entries {
			if path == at || strings.HasPrefix(path, at+"/") {
				delete(s.entries, path)
				s.entries[to+strings.TrimPrefix(path, at)] = one
			}
		}
		s.log = append(s.log, thirdChange{at, true}, thirdChange{to, false})
		s.say(w, map[string]any{})
	}
}

func (s *third) removeAll(w http.ResponseWriter, r *http.Request) {
	var asked []map[string]any
	_ = json.NewDecoder(r.Body).Decode(&asked)
	s.batches++
	answers := []any{}
	for _, one := range asked {
		at, _ := one["at"].(string)
		e := s.entries[at]
		full := slices.ContainsFunc(mapKeys(s.entries), func(path string) bool { return path != at && dirOf(path) == at })
		switch {
		case e == nil:
			answers = append(answers, map[string]any{"ok": false, "code": "absent"})
		case full:
			answers = append(answers, map[string]any{"ok": false, "code": "full"})
		default:
			delete(s.entries, at)
			s.log = append(s.log, thirdChange{at, true})
			answers = append(answers, map[string]any{"ok": true})
		}
	}
	s.say(w, map[string]any{"answers": answers})
}

func mapKeys(m map[string]*thirdEntry) (keys []string) {
	for key := range m {
		keys = append(keys, key)
	}
	return keys
}

const thirdDefinition = `
definition: 1
name: third
title: The third
options:
  - {name: at, title: Address, help: The address., required: true}
base: "{+option.at}"
functions: |
  def condition: if .if.absent then "new" else (.if.revision // "any") end;
sign-in:
  - way: assertion
    token: "{+option.at}/login"
    token-json: true
    token-answer: {access: .session.key, expires: .session.seconds}
    header: X-Token
    prefix: "t "
    assertion:
      key: .private_key
      header: {kid: .key_id}
      claims: {iss: .robot, aud: '"third"', scope: $in.scope}
failures:
  when: .ok == false
  words: .text
  rules:
    - {when: '.code == "absent"', is: not-found}
    - {when: '.code == "taken"', is: exists}
    - {when: '.code == "stale" or .code == "lost"', is: changed}
    - {when: '.code == "full"', is: refused}
    - {when: '.code == "damaged"', is: try-again}
addressed: path
account: {request: GET /who, owner: .who.name, id: .who.n}
space: {request: GET /who, free: .disk.left}
entry:
  path: .where
  kind: .k == "D"
  size: .octets
  modified: .changed
  revision: .v | tostring
hashes:
  - {kind: sha256, of-blocks: 1MiB, value: .blocks, verification: true}
names: {longest: 255}
limits: {page: 4}
list:
  request: GET /ls{?skip,take}
  with: {skip: .offset, take: .limit}
  query: {at: .path}
  items: .list[]
  next: {offset: {total: .count}}
look:
  request: GET /info
  query: {at: .path}
  value: .entry
download:
  steps:
    - request: GET /fetch
      headers: {X-Args: '{at: .path} | tojson | ascii_json'}
      keep: {from: .from}
    - request: GET {+kept.from}
      unsigned: true
uploads:
  - up-to: 1MiB
    conditions: [absent, revision]
    hashes: [md5]
    send:
      request: PUT /put
      headers: {X-Args: '{at: .path} | tojson | ascii_json', X-If: condition, Content-MD5: .hash.md5 | unhex}
      content: true
      value: .entry
  - above: 1MiB
    conditions: [absent, revision]
    begin: {request: POST /parts, query: {label: .run}, keep: {id: .upload}}
    pieces: {size: 1MiB, order: any, hashes: [sha256]}
    send:
      request: PUT /part
      query: {upload: .kept.id, "no": .part.number}
      headers: {X-Part-Sum: .part.hash.sha256}
      content: true
      keep: {receipt: .receipt}
    finish:
      request: POST /join
      query: {at: .path, upload: .kept.id}
      headers: {X-If: condition}
      json: {parts: '[.parts[] | {no: .number, receipt: .kept.receipt}]'}
      value: .entry
    give-up: {request: POST /drop, query: {upload: .kept.id}}
leftovers:
  request: GET /parts
  items: .uploads[]
  run: .label
  kept: {id: .upload}
  give-up: {request: POST /drop, query: {upload: .leftover.upload}}
make-folder: {request: POST /mkdir, query: {at: .path}, value: .entry}
move: {request: POST /rename, query: {at: .path, to: .to.path}, value: "null"}
remove:
  empty-only: true
  batch:
    request: POST /remove
    json: '[.batch[] | {at: .path}]'
    each: .answers[]
    failed: .ok == false
changes:
  begin: {request: "GET /feed?from=0"}
  begin-cursor: .later
  page: {request: "GET {+cursor}"}
  items: .items[]
  entry: .entry
  gone: .gone
  path: .where
  cursor: .later
  wait:
    request: GET /wait
    query: {feed: .cursor}
    changed: .news
  waits: 1s
`

// TestThird tries a definition of a service that this package knows nothing of.
func TestThird(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	block := pem.EncodeToMemory(&pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(key)})
	secret, _ := json.Marshal(map[string]string{"private_key": string(block), "key_id": "key-7", "robot": "robot"})
	service, address := newThird(t, &key.PublicKey)
	definition, err := declared.Load("third.yaml", []byte(thirdDefinition))
	if err != nil {
		t.Fatal(err)
	}
	opening := opening(t, "", store.FixedSecret(secret), map[string]string{"at": address})
	delete(opening.Options, "url")
	var notThere []string
	sum, err := declared.New(definition).Try(t.Context(), opening, func(r declared.Result) {
		if r.Outcome == declared.NotThere {
			notThere = append(notThere, r.Part)
		}
		if r.Outcome == declared.Fails {
			t.Errorf("%s: %q", r.Part, r.Notes)
			if r.Exchange != nil {
				t.Logf("%+v", *r.Exchange)
			}
		}
	})
	if err != nil || sum.Fails > 0 || sum.Left != "" {
		t.Errorf("%+v, %v", sum, err)
	}
	want := []string{"areas are reported", "documents are exported", "a file and a folder of one name", "times are kept if declared",
		"copying within", "removing keeps to the revision", "an upload that broke off goes on"}
	if !slices.Equal(notThere, want) {
		t.Errorf("not described are %q, want %q", notThere, want)
	}
	if len(service.entries) != 1 || len(service.uploads) != 0 || service.askedBad || service.batches == 0 {
		t.Errorf("left are %d entries and %d uploads; the sign-in went elsewhere: %v; %d batches", len(service.entries)-1, len(service.uploads),
			service.askedBad, service.batches)
	}
}
