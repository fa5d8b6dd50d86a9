package standin

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Alder is a team folder service: addresses are paths in JSON, letter case is
// kept and does not count, and what is large goes by drafts.
type Alder struct {
	Control  *Control
	Consents *Consents

	drive  *drive
	mux    *http.ServeMux
	mu     sync.Mutex
	drafts map[string]*draft
	tasks  map[string]*task
	// TaskTime is how long an accepted operation takes.
	TaskTime time.Duration
}

// alderProblem is one of RFC 9457.
type alderProblem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail,omitempty"`
}

const (
	alderRoot  = "root"
	alderSmall = 2 << 20
	alderPage  = 500
)

// OpenAlder opens an Alder that keeps its data in a folder.
func OpenAlder(dir string) (*Alder, error) {
	d, err := openDrive(dir)
	if err != nil {
		return nil, err
	}
	a := &Alder{drive: d, mux: http.NewServeMux(), drafts: map[string]*draft{}, tasks: map[string]*task{}, TaskTime: 100 * time.Millisecond}
	a.Consents = &Consents{
		Title: "Alder", Colour: "#8a4b2a", Users: []string{"office@tolland.example", "permits@tolland.example"}, Shown: "/code",
		Scopes: map[string]string{"folders:view": "view the team's folders", "folders:edit": "edit the team's folders"},
	}
	a.Consents.begin()
	a.Consents.Register(Client{ID: AlderClient, Secret: "alder-app", Redirects: []string{Callback, "http://localhost/consent/callback"}})
	a.Control = newControl(a.Consents, d)
	d.root(alderRoot, "")
	for pattern, handler := range map[string]func(http.ResponseWriter, *http.Request){
		"GET /api/account": a.account, "POST /api/entry/describe": a.describe, "POST /api/folder/children": a.children,
		"GET /api/folder/children": a.more,
		"POST /api/folder/make":    a.makeFolder, "POST /api/entry/remove": a.remove, "POST /api/entry/move": a.move,
		"POST /api/entry/copy": a.copy,
		"GET /api/tasks/{id}":  a.task, "POST /api/content/read": a.read, "POST /api/content/write": a.write, "POST /api/drafts": a.draftMake,
		"GET /api/drafts": a.draftList, "GET /api/drafts/{id}": a.draftShow, "PUT /api/drafts/{id}": a.draftPut,
		"DELETE /api/drafts/{id}":       a.draftDelete,
		"POST /api/drafts/{id}/publish": a.publish, "POST /api/changes/mark": a.mark, "GET /api/changes": a.changes,
		"POST /api/entry/revisions": a.revisions,
		"POST /api/entry/people":    a.peopleOf, "POST /api/entry/invite": a.invite, "POST /api/entry/hand-over": a.handOver,
		"POST /api/team/find": a.findPerson,
	} {
		a.mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			a.Control.serve(w, r, pattern, a.guarded(pattern, handler))
		})
	}
	return a, nil
}

// Close keeps what is there for the next start.
func (a *Alder) Close() error { return a.drive.save() }

// ServeHTTP implements http.Handler.
func (a *Alder) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !strings.HasPrefix(r.URL.Path, "/api/") {
		a.Control.serve(w, r, r.Method+" "+r.URL.Path, func(w http.ResponseWriter, r *http.Request) {
			if !a.Consents.serve(w, r) {
				http.NotFound(w, r)
			}
		})
		return
	}
	a.mux.ServeHTTP(w, r)
}

// edits are the routes that need the scope to edit.
var edits = regexp.MustCompile(`make|remove|move|copy|write|drafts|invite|hand-over`)

func (a *Alder) guarded(pattern string, next http.HandlerFunc) http.HandlerFunc {
	scope := "folders:view"
	if edits.MatchString(pattern) {
		scope = "folders:edit"
	}
	return func(w http.ResponseWriter, r *http.Request) {
		user, status, why := a.Consents.allowed(r, scope)
		switch status {
		case 0:
			next(w, r.WithContext(context.WithValue(r.Context(), userKey{}, user)))
		case http.StatusForbidden:
			problem(w, status, "scope", why)
		case http.StatusTooManyRequests:
			w.Header().Set("Retry-After", "1")
			problem(w, status, "bandwidth", why)
		default:
			problem(w, status, "sign-in", why)
		}
	}
}

func problem(w http.ResponseWriter, status int, kind, detail string) {
	(&alderProblem{Type: "/problems/" + kind, Title: strings.ReplaceAll(kind, "-", " "), Status: status, Detail: detail}).write(w)
}

func (p *alderProblem) write(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p)
}

func failed(status int, kind, detail string) *alderProblem {
	return &alderProblem{Type: "/problems/" + kind, Title: strings.ReplaceAll(kind, "-", " "), Status: status, Detail: detail}
}

var (
	alderRefused  = regexp.MustCompile("[\\\\:*?\"<>|\x00-\x1f]|[. ]$")
	alderReserved = regexp.MustCompile(`(?i)^(con|prn|aux|nul|com[0-9]|lpt[0-9])(\.|$)`)
)

// at is what is at a path, and its parent where it is not there. a.drive.mu is
// held.
func (a *Alder) at(path string) (n, parent *node, name string, wrong *alderProblem) {
	if path != "" && (!strings.HasPrefix(path, "/") || strings.HasSuffix(path, "/") || strings.Contains(path, "//")) {
		return nil, nil, "", failed(http.StatusBadRequest, "bad-path", "a path is empty, or begins with / and does not end with it")
	}
	n = a.drive.Nodes[alderRoot]
	if path == "" {
		return n, nil, "", nil
	}
	steps := strings.Split(path[1:], "/")
	for i, step := range steps {
		if alderRefused.MatchString(step) || alderReserved.MatchString(step) || len(step) > 255 {
			return nil, nil, "", failed(http.StatusBadRequest, "name-refused", fmt.Sprintf("%q cannot be a name", step))
		}
		if n.Kind != "folder" {
			return nil, nil, "", failed(http.StatusNotFound, "not-found", "a step of the path is not a folder")
		}
		parent = n
		n = nil
		for _, id := range a.drive.children[parent.ID] {
			if strings.EqualFold(a.drive.Nodes[id].Name, step) {
				n = a.drive.Nodes[id]
			}
		}
		if n == nil && i < len(steps)-1 {
			return nil, nil, "", failed(http.StatusNotFound, "not-found", "there is no folder "+step)
		}
	}
	return n, parent, steps[len(steps)-1], nil
}

// found is at, of what has to be there.
func (a *Alder) found(path string) (*node, *alderProblem) {
	n, _, _, wrong := a.at(path)
	if wrong == nil && n == nil {
		wrong = failed(http.StatusNotFound, "not-found", "there is nothing at "+path)
	}
	return n, wrong
}

func (a *Alder) shown(n *node) map[string]any {
	entry := map[string]any{"path": a.drive.path(n), "folder": n.Kind == "folder", "entry": n.ID, "shared": n.Shares.any()}
	if n.Kind == "file" {
		sum, _ := hex.DecodeString(n.SHA256)
		entry["length"], entry["revision"] = n.Size, strconv.FormatInt(n.Version, 36)
		entry["modified"] = n.Modified.UTC().Format(http.TimeFormat)
		entry["digest"] = base64.StdEncoding.EncodeToString(sum)
	}
	return entry
}

func (a *Alder) account(w http.ResponseWriter, r *http.Request) {
	a.drive.mu.Lock()
	defer a.drive.mu.Unlock()
	allowance := int64(50 << 30)
	if a.drive.quota > 0 {
		allowance = a.drive.quota
	}
	answer(w, http.StatusOK, map[string]any{"holder": r.Context().Value(userKey{}), "number": "alder-1", "allowance": allowance,
		"in_use": a.drive.used})
}

func (a *Alder) describe(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Path string `json:"path"`
	}
	if !given(w, r, &asked) {
		return
	}
	a.drive.mu.Lock()
	defer a.drive.mu.Unlock()
	n, wrong := a.found(asked.Path)
	if wrong != nil {
		wrong.write(w)
		return
	}
	answer(w, http.StatusOK, a.shown(n))
}

func (a *Alder) children(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Path string `json:"path"`
	}
	if given(w, r, &asked) {
		a.page(w, r, asked.Path, 0)
	}
}

// more is a further page; its address was in the Link header of the one before.
func (a *Alder) more(w http.ResponseWriter, r *http.Request) {
	raw, err := base64.RawURLEncoding.DecodeString(r.URL.Query().Get("mark"))
	path, text, ok := strings.Cut(string(raw), "\x00")
	from, number := strconv.Atoi(text)
	if err != nil || !ok || number != nil {
		problem(w, http.StatusBadRequest, "bad-mark", "the mark is not one of ours")
		return
	}
	a.page(w, r, path, from)
}

func (a *Alder) page(w http.ResponseWriter, _ *http.Request, path string, from int) {
	a.drive.mu.Lock()
	defer a.drive.mu.Unlock()
	n, wrong := a.found(path)
	if wrong == nil && n.Kind != "folder" {
		wrong = failed(http.StatusNotFound, "not-found", "it is not a folder")
	}
	if wrong != nil {
		wrong.write(w)
		return
	}
	ids := a.drive.children[n.ID]
	list := []any{}
	for ; from < len(ids) && len(list) < alderPage; from++ {
		list = append(list, a.shown(a.drive.Nodes[ids[from]]))
	}
	if from < len(ids) {
		mark := base64.RawURLEncoding.EncodeToString([]byte(fmt.Sprintf("%s\x00%d", path, from)))
		w.Header().Set("Link", `</api/folder/children?mark=`+mark+`>; rel="next"`)
	}
	answer(w, http.StatusOK, map[string]any{"children": list})
}

func (a *Alder) makeFolder(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Path string `json:"path"`
	}
	if !given(w, r, &asked) {
		return
	}
	a.drive.mu.Lock()
	defer a.drive.mu.Unlock()
	n, parent, name, wrong := a.at(asked.Path)
	if wrong == nil && n != nil {
		wrong = failed(http.StatusConflict, "name-taken", "something is at "+asked.Path)
	}
	if wrong != nil {
		wrong.write(w)
		return
	}
	answer(w, http.StatusCreated, a.shown(a.drive.add(&node{Parent: parent.ID, Name: name, Kind: "folder"})))
}

func (a *Alder) remove(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Path     string `json:"path"`
		Revision string `json:"revision"`
	}
	if !given(w, r, &asked) {
		return
	}
	a.drive.mu.Lock()
	defer a.drive.mu.Unlock()
	n, wrong := a.found(asked.Path)
	switch {
	case wrong != nil:
	case n.ID == alderRoot:
		wrong = failed(http.StatusBadRequest, "bad-path", "the root stays")
	case len(a.drive.children[n.ID]) > 0:
		wrong = failed(http.StatusConflict, "not-empty", "the folder is not empty")
	case asked.Revision != "" && asked.Revision != strconv.FormatInt(n.Version, 36):
		wrong = failed(http.StatusPreconditionFailed, "revision", "the entry has another revision")
	default:
		a.drive.drop(n)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	wrong.write(w)
}

// arguments reads the JSON part of a multipart body, and leaves the rest.
func arguments(w http.ResponseWriter, r *http.Request, to any) *multipart.Reader {
	kind, parameters, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || kind != "multipart/form-data" {
		problem(w, http.StatusUnsupportedMediaType, "bad-body", "multipart/form-data is due")
		return nil
	}
	reader := multipart.NewReader(r.Body, parameters["boundary"])
	part, err := reader.NextPart()
	if err == nil && part.FormName() != "arguments" {
		err = errors.New("the first part has to be called arguments")
	}
	if err == nil {
		decoder := json.NewDecoder(part)
		decoder.DisallowUnknownFields()
		err = decoder.Decode(to)
	}
	if err != nil {
		problem(w, http.StatusBadRequest, "bad-body", err.Error())
		return nil
	}
	return reader
}

func (a *Alder) read(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Path     string `json:"path"`
		Revision string `json:"revision"`
	}
	if arguments(w, r, &asked) == nil {
		return
	}
	a.drive.mu.Lock()
	n, wrong := a.found(asked.Path)
	switch {
	case wrong == nil && n.Kind != "file":
		wrong = failed(http.StatusNotFound, "not-found", "it is not a file")
	case wrong == nil && asked.Revision != "" && asked.Revision != strconv.FormatInt(n.Version, 36):
		wrong = failed(http.StatusPreconditionFailed, "revision", "the entry has another revision")
	}
	if wrong != nil {
		a.drive.mu.Unlock()
		wrong.write(w)
		return
	}
	kept := *n
	a.drive.mu.Unlock()
	file, err := a.drive.open(kept.Blob)
	if err != nil {
		problem(w, http.StatusInternalServerError, "internal", err.Error())
		return
	}
	defer file.Close()
	sum, _ := hex.DecodeString(kept.SHA256)
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Repr-Digest", "sha-256=:"+base64.StdEncoding.EncodeToString(sum)+":")
	w.Header().Set("ETag", `"`+strconv.FormatInt(kept.Version, 36)+`"`)
	http.ServeContent(w, &http.Request{Method: http.MethodGet, Header: http.Header{"Range": r.Header["Range"]}}, "", time.Time{}, file)
}

// publishing is where a file goes, and on which condition.
type publishing struct {
	Path     string  `json:"path"`
	Length   *int64  `json:"length"`
	Modified *string `json:"modified"`
	Expect   string  `json:"expect"` // absent, any, or a revision
}

// put makes the file of bytes that have arrived.
func (a *Alder) put(asked publishing, content blob) (map[string]any, *alderProblem) {
	if asked.Expect == "" {
		return nil, failed(http.StatusBadRequest, "bad-body", "expect is due: absent, any, or a revision")
	}
	if asked.Length != nil && *asked.Length != content.size {
		return nil, failed(http.StatusBadRequest, "bad-body", fmt.Sprintf("%d bytes have arrived, not %d", content.size, *asked.Length))
	}
	var modified time.Time
	if asked.Modified != nil {
		var err error
		if modified, err = time.Parse(time.RFC3339Nano, *asked.Modified); err != nil {
			return nil, failed(http.StatusBadRequest, "bad-body", "modified is not a time of RFC 3339")
		}
	}
	modified = modified.Truncate(time.Second)
	a.drive.mu.Lock()
	defer a.drive.mu.Unlock()
	n, parent, name, wrong := a.at(asked.Path)
	switch {
	case wrong != nil:
		return nil, wrong
	case n != nil && n.Kind == "folder", n != nil && asked.Expect == "absent":
		return nil, failed(http.StatusConflict, "name-taken", "something is at "+asked.Path)
	case asked.Expect != "absent" && asked.Expect != "any" && (n == nil || asked.Expect != strconv.FormatInt(n.Version, 36)):
		return nil, failed(http.StatusPreconditionFailed, "revision", "the entry has another revision")
	case a.drive.full(content.size):
		return nil, failed(http.StatusInsufficientStorage, "full", "the allowance is used up")
	case n != nil:
		a.drive.replace(n, content, modified)
		return a.shown(n), nil
	}
	made := &node{Parent: parent.ID, Name: name, Kind: "file", Size: content.size, SHA256: content.sha256, Blob: content.name,
		Modified: modified}
	return a.shown(a.drive.add(made)), nil
}

func (a *Alder) write(w http.ResponseWriter, r *http.Request) {
	var asked publishing
	reader := arguments(w, r, &asked)
	if reader == nil {
		return
	}
	part, err := reader.NextPart()
	if err != nil || part.FormName() != "content" {
		problem(w, http.StatusBadRequest, "bad-body", "the second part has to be called content")
		return
	}
	content, err := a.drive.keep(io.LimitReader(part, alderSmall+1))
	if err == nil && content.size > alderSmall {
		problem(w, http.StatusRequestEntityTooLarge, "too-large", "larger files go by drafts")
		return
	}
	if err == nil {
		_, err = reader.NextPart()
	}
	if err != io.EOF {
		a.keepProblem(w, err)
		return
	}
	a.published(w, asked, content)
}

func (a *Alder) keepProblem(w http.ResponseWriter, err error) {
	if errors.Is(err, errQuota) {
		problem(w, http.StatusInsufficientStorage, "full", "the allowance is used up")
		return
	}
	problem(w, http.StatusBadRequest, "bad-body", fmt.Sprint(err))
}

func (a *Alder) published(w http.ResponseWriter, asked publishing, content blob) {
	entry, wrong := a.put(asked, content)
	if wrong != nil {
		wrong.write(w)
		return
	}
	answer(w, http.StatusOK, entry)
}

// Put puts a file into a folder, as a person would.
func (a *Alder) Put(folder []string, name string, data []byte, modified time.Time) error {
	content, err := a.drive.keep(bytes.NewReader(data))
	if err != nil {
		return err
	}
	for i := range folder {
		path := "/" + strings.Join(folder[:i+1], "/")
		a.drive.mu.Lock()
		if n, parent, name, wrong := a.at(path); wrong == nil && n == nil {
			a.drive.add(&node{Parent: parent.ID, Name: name, Kind: "folder"})
		}
		a.drive.mu.Unlock()
	}
	at := modified.UTC().Format(time.RFC3339Nano)
	_, wrong := a.put(publishing{Path: "/" + strings.Join(append(append([]string(nil), folder...), name), "/"), Modified: &at, Expect: "any"},
		content)
	if wrong != nil {
		return fmt.Errorf("%s: %s", wrong.Title, wrong.Detail)
	}
	return nil
}
