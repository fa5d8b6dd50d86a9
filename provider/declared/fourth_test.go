package declared_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"mime"
	"mime/multipart"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/core/store/storetest"
	"deftheron/provider/declared"
)

// fourth is a service in one more dialect: client credentials by Basic, ids that
// are numbers, the next page at an address in the body, listings one value a
// line, small files by a form, large ones by a session of ranges that is answered
// with 308, no replacing, renaming and moving apart, and a long removal.
type fourth struct {
	mu       sync.Mutex
	nodes    map[int]*fourthNode
	sessions map[string]*fourthSession
	tasks    map[string]int // how often each was asked about
	next     int
	token    string
	// refuseOnto is a name that one move is not allowed to give.
	refuseOnto string
}

type fourthNode struct {
	id, parent int
	name       string
	dir        bool
	data       []byte
	made       time.Time
}

type fourthSession struct {
	parent, size int
	name         string
	data         []byte
}

func newFourth(t *testing.T) (*fourth, string) {
	s := &fourth{nodes: map[int]*fourthNode{1: {id: 1, dir: true}}, sessions: map[string]*fourthSession{}, tasks: map[string]int{}, next: 1}
	server := httptest.NewServer(http.HandlerFunc(s.serve))
	t.Cleanup(server.Close)
	return s, server.URL
}

func (s *fourth) child(parent int, name string) *fourthNode {
	for _, n := range s.nodes {
		if n.id != 1 && n.parent == parent && n.name == name {
			return n
		}
	}
	return nil
}

func (s *fourth) shown(n *fourthNode) map[string]any {
	return map[string]any{
		"no": n.id, "label": n.name, "up": n.parent, "what": map[bool]string{true: "folder", false: "file"}[n.dir], "len": len(n.data),
		"stamp": n.made.Unix(), "etag": fmt.Sprint("e", n.id), "facts": map[string]any{"where": fmt.Sprint("vault-", n.id%3)},
	}
}

func (s *fourth) say(w http.ResponseWriter, status int, body any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(body)
}

func (s *fourth) refuse(w http.ResponseWriter, status int, code int) {
	s.say(w, status, map[string]any{"fault": map[string]any{"number": code, "says": fmt.Sprint("fault ", code)}})
}

var fourthPath = regexp.MustCompile(`^/(\w+)/(\d+)(?:/(\w+))?$`)

func (s *fourth) serve(w http.ResponseWriter, r *http.Request) {
	data, err := io.ReadAll(r.Body) // before it is locked: others look at it meanwhile
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	r.Body = io.NopCloser(bytes.NewReader(data))
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.URL.Path == "/token" {
		user, password, _ := r.BasicAuth()
		if user != "robot" || password != "pa%24s" && password != "pa$s" || r.PostFormValue("scope") != "read,write" ||
			r.PostFormValue("grant_type") != "client_credentials" {
			s.say(w, http.StatusUnauthorized, map[string]string{"error": "invalid_client"})
			return
		}
		s.next++
		s.token = fmt.Sprint("token-", s.next)
		s.say(w, http.StatusOK, map[string]any{"access_token": s.token, "expires_in": "600"})
		return
	}
	if r.Header.Get("Authorization") != "Bearer "+s.token || r.Header.Get("X-Client") != "heron" || r.URL.Query().Get("v") != "4" {
		s.refuse(w, http.StatusUnauthorized, 1)
		return
	}
	if id, ok := strings.CutPrefix(r.URL.Path, "/sessions/"); ok {
		s.session(w, r, id)
		return
	}
	if id, ok := strings.CutPrefix(r.URL.Path, "/tasks/"); ok {
		s.tasks[id]++
		state := "busy"
		if s.tasks[id] > 1 {
			state = "over"
		}
		s.say(w, http.StatusOK, map[string]any{"state": state})
		return
	}
	found := fourthPath.FindStringSubmatch(r.URL.Path)
	if found == nil {
		s.rest(w, r)
		return
	}
	id, _ := strconv.Atoi(found[2])
	n := s.nodes[id]
	if n == nil {
		s.refuse(w, http.StatusBadRequest, 404)
		return
	}
	switch r.Method + " " + found[1] + " " + found[3] {
	case "GET nodes ":
		s.say(w, http.StatusOK, s.shown(n))
	case "GET nodes children":
		s.children(w, r, n)
	case "GET nodes data":
		if n.dir || r.URL.Query().Get("vault") != fmt.Sprint("vault-", n.id%3) {
			s.refuse(w, http.StatusBadRequest, 404)
			return
		}
		_, _ = w.Write(n.data) // whatever Range says
	case "POST nodes label":
		s.relabel(w, n, n.parent, r.FormValue("label"))
	case "POST nodes up":
		up, _ := strconv.Atoi(r.FormValue("up"))
		s.relabel(w, n, up, n.name)
	case "DELETE nodes ":
		delete(s.nodes, id)
		s.next++
		w.Header().Set("X-Task", fmt.Sprint("task-", s.next))
		w.WriteHeader(http.StatusAccepted)
	default:
		s.refuse(w, http.StatusBadRequest, 2)
	}
}

// children is a page of two, one value a line, with the next at its end.
func (s *fourth) children(w http.ResponseWriter, r *http.Request, n *fourthNode) {
	var ids []int
	for _, id := range slices.Sorted(maps.Keys(s.nodes)) {
		if child := s.nodes[id]; id != 1 && child.parent == n.id {
			ids = append(ids, id)
		}
	}
	from, _ := strconv.Atoi(r.URL.Query().Get("from"))
	w.Header().Set("Content-Type", "application/x-ndjson")
	encoder := json.NewEncoder(w)
	const page = 2
	for _, id := range ids[min(from, len(ids)):min(from+page, len(ids))] {
		_ = encoder.Encode(s.shown(s.nodes[id]))
	}
	var later any
	if from+page < len(ids) {
		later = fmt.Sprintf("%s?v=4&from=%d", r.URL.Path, from+page)
	}
	_ = encoder.Encode(map[string]any{"later": later})
	_ = encoder.Encode(map[string]any{"end": true})
}

func (s *fourth) relabel(w http.ResponseWriter, n *fourthNode, up int, name string) {
	switch parent := s.nodes[up]; {
	case parent == nil || !parent.dir:
		s.refuse(w, http.StatusBadRequest, 404)
	case s.child(up, name) != nil:
		s.refuse(w, http.StatusBadRequest, 409)
	case name == s.refuseOnto && string(n.data) == "third":
		s.refuse(w, http.StatusBadRequest, 8)
	default:
		n.parent, n.name = up, name
		s.say(w, http.StatusOK, s.shown(n))
	}
}

// create makes an entry where nothing has its name.
func (s *fourth) create(w http.ResponseWriter, parent int, name string, dir bool, data []byte) {
	switch up := s.nodes[parent]; {
	case up == nil || !up.dir:
		s.refuse(w, http.StatusBadRequest, 404)
	case strings.ContainsAny(name, "<>") || strings.ToLower(name) != name:
		s.refuse(w, http.StatusBadRequest, 22)
	case s.child(parent, name) != nil:
		s.refuse(w, http.StatusBadRequest, 409)
	default:
		s.next++
		n := &fourthNode{id: s.next, parent: parent, name: name, dir: dir, data: data, made: time.Now()}
		s.nodes[n.id] = n
		s.say(w, http.StatusCreated, s.shown(n))
	}
}

// rest are the requests that name no entry.
func (s *fourth) rest(w http.ResponseWriter, r *http.Request) {
	parent, _ := strconv.Atoi(r.URL.Query().Get("up"))
	switch r.Method + " " + r.URL.Path {
	case "POST /folders":
		s.create(w, parent, r.URL.Query().Get("label"), true, nil)
	case "POST /form":
		_, parameters, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
		if err != nil {
			s.refuse(w, http.StatusBadRequest, 3)
			return
		}
		reader := multipart.NewReader(r.Body, parameters["boundary"])
		fields := map[string]string{}
		for part, err := reader.NextPart(); err == nil; part, err = reader.NextPart() {
			data, _ := io.ReadAll(part)
			fields[part.FormName()] = string(data)
		}
		if fields["check"] != "last" { // the content is not the last part
			s.refuse(w, http.StatusBadRequest, 4)
			return
		}
		parent, _ = strconv.Atoi(fields["up"])
		s.create(w, parent, fields["label"], false, []byte(fields["file"]))
	case "POST /sessions":
		size, _ := strconv.Atoi(r.Header.Get("X-Size"))
		s.next++
		id := fmt.Sprint("s", s.next)
		s.sessions[id] = &fourthSession{parent: parent, name: r.URL.Query().Get("label"), size: size}
		w.Header().Set("Location", "/sessions/"+id+"?v=4")
		w.WriteHeader(http.StatusCreated)
	default:
		s.refuse(w, http.StatusBadRequest, 5)
	}
}

var fourthRange = regexp.MustCompile(`^bytes (?:(\d+)-(\d+)|\*)/(\d+)$`)

// session takes ranges, each a multiple of 1,000 bytes but for the last.
func (s *fourth) session(w http.ResponseWriter, r *http.Request, id string) {
	u := s.sessions[id]
	span := fourthRange.FindStringSubmatch(r.Header.Get("Content-Range"))
	if u == nil || r.Method != http.MethodDelete && span == nil {
		s.refuse(w, http.StatusBadRequest, 404)
		return
	}
	if r.Method == http.MethodDelete {
		delete(s.sessions, id)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	data, err := io.ReadAll(r.Body)
	if span[1] != "" {
		first, _ := strconv.Atoi(span[1])
		last, _ := strconv.Atoi(span[2])
		final := last == u.size-1
		if err != nil || first != len(u.data) || len(data) != last-first+1 || !final && len(data)%1000 != 0 {
			s.refuse(w, http.StatusBadRequest, 6)
			return
		}
		if u.data = append(u.data, data...); final {
			delete(s.sessions, id)
			s.create(w, u.parent, u.name, false, u.data)
			return
		}
	}
	if len(u.data) > 0 {
		w.Header().Set("Range", fmt.Sprintf("bytes=0-%d", len(u.data)-1))
	}
	w.WriteHeader(http.StatusPermanentRedirect) // 308, and no Location: more is to come
}

const fourthDefinition = `
definition: 1
name: fourth
title: The fourth
options:
  - {name: at, title: Address, help: The address., required: true}
base: "{+option.at}"
send:
  headers: {X-Client: '"heron"'}
  query: {v: "4"}
sign-in:
  - way: client
    token: "{+option.at}/token"
    client-by: basic
    scopes: {full: [read, write]}
    scope-separator: ","
failures:
  words: .fault.says
  rules:
    - {when: .fault.number == 404, is: not-found}
    - {when: .fault.number == 409, is: exists}
    - {when: .fault.number == 22, is: name-refused}
addressed: id
start: '"1"'
entry:
  name: .label
  id: .no
  kind: .what
  size: .len
  modified: .stamp
  revision: .etag
  parent: .up
  facts: .facts
names:
  refused: ['[<>]']
  letter-case: lost
list:
  request: GET /nodes/{id}/children
  items: '.[] | select(.no)'
  next: {url: '[.[] | .later // empty] | first'}
look: {request: "GET /nodes/{id}"}
download:
  request: GET /nodes/{id}/data
  query: {vault: .facts.where}
  ranges: none
uploads:
  - up-to: 64KiB
    replaces: remove
    conditions: [absent]
    send:
      request: POST /form
      multipart:
        type: form-data
        parts:
          - {name: up, text: .parent.id}
          - {name: label, text: .name}
          - {name: file, file-name: '"content"', content-type: '"text/plain"', content: true}
          - {name: check, text: '"last"'}
  - replaces: remove
    conditions: [absent]
    begin:
      request: POST /sessions
      query: {up: .parent.id, label: .name}
      headers: {X-Size: .size}
    pieces: {size: 1MiB, multiple-of: "1000"}
    send:
      request: PUT {+kept.location}
      headers: {Content-Range: '"bytes \(.part.offset)-\(.part.last)/\(.size)"'}
      content: true
    ask:
      request: PUT {+kept.location}
      headers: {Content-Range: '"bytes */\(.size)"'}
      offset: 'if $headers.range then ($headers.range | split("-") | last | tonumber + 1) else 0 end'
    give-up: {request: "DELETE {+kept.location}"}
make-folder: {request: POST /folders, query: {up: .parent.id, label: .name}}
move:
  steps:
    - {when: .moves, request: "POST /nodes/{id}/up", form: {up: .to.parent.id}}
    - {when: .renames, request: "POST /nodes/{id}/label", form: {label: .to.name}}
remove:
  request: DELETE /nodes/{id}
  long:
    keep: {task: '$headers["x-task"]'}
    ask: {request: "GET /tasks/{kept.task}"}
    done: .state == "over"
    every: 1ms
`

// TestFourth tries the definition of the fourth service.
func TestFourth(t *testing.T) {
	t.Parallel()
	service, address := newFourth(t)
	definition, err := declared.Load("fourth.yaml", []byte(fourthDefinition))
	if err != nil {
		t.Fatal(err)
	}
	o := opening(t, "", store.FixedSecret("pa$s"), map[string]string{"at": address, "client-id": "robot"})
	delete(o.Options, "url")
	var notThere []string
	sum, err := declared.New(definition).Try(t.Context(), o, func(r declared.Result) {
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
	want := []string{
		"the owner is reported", "the space is reported", "areas are reported", "documents are exported", "a file and a folder of one name",
		"one of many creators wins", "numbered parts",
		"times are kept if declared", "copying within", "changes are reported", "removing keeps to the revision", "several are removed at once",
	}
	notThere = slices.DeleteFunc(notThere, func(part string) bool { return part == "one of many creators wins" })
	want = slices.DeleteFunc(want, func(part string) bool { return part == "one of many creators wins" }) // it depends on who is faster
	if !slices.Equal(notThere, want) {
		t.Errorf("not described are %q, want %q", notThere, want)
	}
	if len(service.nodes) != 1 || len(service.sessions) != 0 {
		t.Errorf("left are %d entries and %d sessions", len(service.nodes)-1, len(service.sessions))
	}
	fourthSwaps(t, service, definition, o)
	o.Secrets = store.FixedSecret("wrong")
	if _, err := declared.New(definition).Open(t.Context(), o); err == nil || !strings.Contains(err.Error(), "client id and its secret") {
		t.Errorf("a wrong client secret: %v", err)
	}
}

// fourthSwaps replaces a file where nothing replaces, and breaks off in between.
func fourthSwaps(t *testing.T, service *fourth, definition *declared.Definition, o store.Opening) {
	t.Helper()
	opened, err := declared.New(definition).Open(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	put := func(data string, condition store.Condition) error {
		_, err := opened.Write(t.Context(), store.Writing{Place: store.At("a.txt"), Size: int64(len(data)), If: condition, Run: "swap",
			Content: storetest.Text(data)})
		return err
	}
	names := func() (all []string) {
		service.mu.Lock()
		defer service.mu.Unlock()
		for _, n := range service.nodes {
			if n.id != 1 {
				all = append(all, n.name+"="+string(n.data))
			}
		}
		slices.Sort(all)
		return all
	}
	if err := put("first", store.Absent); err != nil {
		t.Fatal(err)
	}
	if err := put("second", store.Any); err != nil || !slices.Equal(names(), []string{"a.txt=second"}) {
		t.Errorf("%v: %q", err, names())
	}
	// The new one cannot get the name: the old one is there again.
	service.mu.Lock()
	service.refuseOnto = "a.txt"
	service.mu.Unlock()
	if err := put("third", store.Any); err == nil || !slices.Equal(names(), []string{"a.txt=second"}) {
		t.Errorf("%v: %q", err, names())
	}
	// A process that died between the two moves left both under names of ours.
	service.mu.Lock()
	for _, n := range service.nodes {
		if n.name == "a.txt" {
			n.name = store.ArrivingName("swap", "aside-a.txt")
		}
	}
	service.next++
	service.nodes[service.next] = &fourthNode{id: service.next, parent: 1, name: store.ArrivingName("swap", "0000000000000077"),
		data: []byte("third")}
	service.mu.Unlock()
	cleaned, err := store.Clean(t.Context(), opened, store.Cleaning{Run: "swap"})
	if err != nil || len(cleaned) != 2 || !slices.Equal(names(), []string{"a.txt=second"}) {
		t.Errorf("cleaned %+v, %v: %q", cleaned, err, names())
	}
	if again, err := store.Clean(t.Context(), opened, store.Cleaning{Run: "swap"}); err != nil || len(again) != 0 {
		t.Errorf("cleaned again: %+v, %v", again, err)
	}
}
