package standin

import (
	"context"
	"encoding/base64"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Sedge is a document drive: entries have ids, two may have one name, and some
// documents exist only inside it.
type Sedge struct {
	Control  *Control
	Consents *Consents

	drive *drive
	org   *organisation
	mu    sync.Mutex
	tus   map[string]*tusUpload
	mux   *http.ServeMux
}

// Sedge's areas, by the id of the folder that everything in one is in.
var sedgeAreas = []struct{ id, label, root string }{
	{"own", "My files", "root-own"}, {"team-rivers", "Rivers team", "root-rivers"}, {"team-office", "Office team", "root-office"},
}

const (
	sedgePage  = 1000
	sedgeSmall = 4 << 20 // the most bytes of an upload in one request
)

// The default app registrations of the stand-ins.
const (
	SedgeClient = "heron-shared"
	AlderClient = "heron"
)

// Callback is the redirect address that is registered for this program, on
// loopback.
const Callback = "http://127.0.0.1/consent/callback"

// OpenSedge opens a Sedge that keeps its data in a folder.
func OpenSedge(dir string) (*Sedge, error) {
	d, err := openDrive(dir)
	if err != nil {
		return nil, err
	}
	org, err := openOrganisation(dir)
	if err != nil {
		return nil, err
	}
	s := &Sedge{drive: d, org: org, tus: map[string]*tusUpload{}, mux: http.NewServeMux()}
	s.Consents = &Consents{
		Title: "Sedge", Colour: "#5b7a2c", Users: []string{"field-office@fenmere.example", "surveys@fenmere.example"}, Rotates: true, Pkce: true,
		Devices: true,
		Scopes:  map[string]string{"items.read": "see and download your files", "items.write": "add, change and remove your files"},
	}
	s.Consents.begin()
	s.Consents.Asserted = org.asserted
	s.Consents.Register(Client{ID: SedgeClient, Redirects: []string{Callback, "http://localhost/consent/callback"}, PerSecond: 20})
	s.Control = newControl(s.Consents, d)
	for _, area := range sedgeAreas {
		d.root(area.root, area.label)
	}
	for pattern, handler := range map[string]func(http.ResponseWriter, *http.Request){
		"GET /v2/me": s.me, "GET /v2/areas": s.areas, "GET /v2/organisation/members": s.listMembers, "GET /v2/items": s.list,
		"POST /v2/items": s.make, "GET /v2/items/{id}": s.item,
		"PATCH /v2/items/{id}": s.patch, "DELETE /v2/items/{id}": s.remove, "GET /v2/items/{id}/bytes": s.download,
		"PUT /v2/items/{id}/bytes":   s.replace,
		"POST /v2/items/{id}/copies": s.copy, "POST /v2/upload": s.upload, "GET /v2/items/{id}/export": s.export, "GET /v2/changes": s.changes,
		"GET /v2/changes/start": s.changesStart, "POST /v2/tus": s.tusCreate, "HEAD /v2/tus/{id}": s.tusHead, "PATCH /v2/tus/{id}": s.tusPatch,
		"DELETE /v2/tus/{id}": s.tusDelete, "GET /v2/tus": s.tusList,
		"GET /v2/items/{id}/access": s.access, "POST /v2/items/{id}/access": s.grant, "PUT /v2/items/{id}/owner": s.own,
		"GET /v2/people": s.people,
	} {
		s.mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			s.Control.serve(w, r, pattern, s.guarded(pattern, handler))
		})
	}
	return s, nil
}

// Close keeps what is there for the next start.
func (s *Sedge) Close() error { return s.drive.save() }

// ServeHTTP implements http.Handler.
func (s *Sedge) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !strings.HasPrefix(r.URL.Path, "/v2/") {
		s.Control.serve(w, r, r.Method+" "+r.URL.Path, func(w http.ResponseWriter, r *http.Request) {
			if !s.Consents.serve(w, r) {
				http.NotFound(w, r)
			}
		})
		return
	}
	s.mux.ServeHTTP(w, r)
}

// guarded lets a request through that is signed in with the scope it needs.
func (s *Sedge) guarded(pattern string, next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		scope := "items.read"
		if !strings.HasPrefix(pattern, "GET ") && !strings.HasPrefix(pattern, "HEAD ") {
			scope = "items.write"
		}
		user, status, why := s.Consents.allowed(r, scope)
		switch status {
		case 0:
			next(w, r.WithContext(context.WithValue(r.Context(), userKey{}, user)))
		case http.StatusForbidden:
			sedgeProblem(w, status, "scope_missing", why)
		case http.StatusTooManyRequests:
			sedgeProblem(w, status, "rate", why) // without a Retry-After
		default:
			sedgeProblem(w, status, "token", why)
		}
	}
}

type userKey struct{}

func sedgeProblem(w http.ResponseWriter, status int, reason, message string) {
	answer(w, status, map[string]any{"error": map[string]string{"reason": reason, "message": message}})
}

// shown is an item as Sedge tells it.
func (s *Sedge) shown(n *node) map[string]any {
	item := map[string]any{
		"item_id": n.ID, "title": n.Name, "parent_id": n.Parent, "type": "file", "created_at": n.Created.UTC().Format(time.RFC3339Nano),
		"modified_ms": n.Modified.UnixMilli(), "rev": fmt.Sprint("r", n.Version), "in_trash": n.Trashed, "shared": n.Shares.any(),
	}
	switch {
	case n.Kind == "folder":
		item["type"] = "folder"
	case n.Kind != "file":
		item["type"], item["document_type"] = "document", n.Kind
	default:
		item["bytes"], item["md5"] = strconv.FormatInt(n.Size, 10), n.MD5
	}
	return item
}

func (s *Sedge) me(w http.ResponseWriter, r *http.Request) {
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	limit := any(nil)
	if s.drive.quota > 0 {
		limit = s.drive.quota
	}
	answer(w, http.StatusOK, map[string]any{
		"account": "acct-" + r.Context().Value(userKey{}).(string), "mail": r.Context().Value(userKey{}),
		"storage": map[string]any{"used": s.drive.used, "limit": limit},
	})
}

func (s *Sedge) areas(w http.ResponseWriter, r *http.Request) {
	list := []any{}
	mail, _ := r.Context().Value(userKey{}).(string)
	if one, ok := s.org.of(mail); ok {
		s.drive.root(one.root(), "My files")
		answer(w, http.StatusOK, map[string]any{"areas": []any{map[string]any{"area_id": "own", "label": "My files", "root": one.root()}}})
		return
	}
	for _, area := range sedgeAreas {
		list = append(list, map[string]any{"area_id": area.id, "label": area.label, "root": area.root})
	}
	answer(w, http.StatusOK, map[string]any{"areas": list})
}

// folder is a folder that is there. s.drive.mu is held.
func (s *Sedge) node(id string) *node {
	n := s.drive.Nodes[id]
	if n == nil || !s.drive.there(n) {
		return nil
	}
	return n
}

func (s *Sedge) list(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	size, err := strconv.Atoi(query.Get("page_size"))
	if err != nil || size < 1 || size > sedgePage {
		sedgeProblem(w, http.StatusBadRequest, "invalid", "page_size is from 1 to 1000")
		return
	}
	from := 0
	if token := query.Get("page_token"); token != "" {
		raw, _ := base64.RawURLEncoding.DecodeString(token) // what is wrong in it is no number
		if from, err = strconv.Atoi(strings.TrimPrefix(string(raw), "at ")); err != nil {
			sedgeProblem(w, http.StatusBadRequest, "invalid", "the page token is not one of ours")
			return
		}
	}
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	parent := s.node(query.Get("parent"))
	if parent == nil || parent.Kind != "folder" {
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such folder")
		return
	}
	title, named := query.Get("title"), query.Has("title")
	items, ids := []any{}, s.drive.children[parent.ID]
	for ; from < len(ids) && len(items) < size; from++ {
		n := s.drive.Nodes[ids[from]]
		if !named || n.Name == title {
			items = append(items, s.shown(n))
		}
	}
	body := map[string]any{"items": items, "next_page_token": nil}
	if from < len(ids) {
		body["next_page_token"] = base64.RawURLEncoding.EncodeToString([]byte(fmt.Sprint("at ", from)))
	}
	answer(w, http.StatusOK, body)
}

func (s *Sedge) item(w http.ResponseWriter, r *http.Request) {
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	n := s.drive.Nodes[r.PathValue("id")]
	if n == nil {
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such item")
		return
	}
	item := s.shown(n)
	item["in_trash"] = !s.drive.there(n)
	answer(w, http.StatusOK, item)
}

// sedgeMeta is what says of a new item.
type sedgeMeta struct {
	Title    string `json:"title"`
	Parent   string `json:"parent"`
	Type     string `json:"type"`
	Modified int64  `json:"modified_ms"`
}

func (m sedgeMeta) at() time.Time {
	if m.Modified == 0 {
		return time.Time{}
	}
	return time.UnixMilli(m.Modified)
}

// fits says why there cannot be such an item. s.drive.mu is held.
func (s *Sedge) fits(m sedgeMeta) (int, string, string) {
	parent := s.node(m.Parent)
	switch {
	case m.Title == "" || len(m.Title) > 1024:
		return http.StatusBadRequest, "bad_title", "a title has 1 to 1024 bytes"
	case parent == nil || parent.Kind != "folder":
		return http.StatusNotFound, "not_found", "there is no such folder"
	}
	return 0, "", ""
}

func (s *Sedge) make(w http.ResponseWriter, r *http.Request) {
	var meta sedgeMeta
	if !given(w, r, &meta) {
		return
	}
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	if status, reason, why := s.fits(meta); status != 0 {
		sedgeProblem(w, status, reason, why)
		return
	}
	if meta.Type != "folder" {
		sedgeProblem(w, http.StatusBadRequest, "invalid", "only folders are made here")
		return
	}
	answer(w, http.StatusCreated, s.shown(s.drive.add(&node{Parent: meta.Parent, Name: meta.Title, Kind: "folder"})))
}

func (s *Sedge) patch(w http.ResponseWriter, r *http.Request) {
	var change struct {
		Title  *string `json:"title"`
		Parent *string `json:"parent"`
	}
	if !given(w, r, &change) {
		return
	}
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	n := s.node(r.PathValue("id"))
	if n == nil || n.Parent == "" {
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such item")
		return
	}
	meta := sedgeMeta{Title: n.Name, Parent: n.Parent}
	if change.Title != nil {
		meta.Title = *change.Title
	}
	if change.Parent != nil {
		meta.Parent = *change.Parent
	}
	if status, reason, why := s.fits(meta); status != 0 {
		sedgeProblem(w, status, reason, why)
		return
	}
	for at := s.drive.Nodes[meta.Parent]; at != nil; at = s.drive.Nodes[at.Parent] {
		if at == n {
			sedgeProblem(w, http.StatusBadRequest, "cycle", "a folder cannot be moved into itself")
			return
		}
	}
	s.drive.move(n, meta.Parent, meta.Title)
	answer(w, http.StatusOK, s.shown(n))
}

// current reports whether If-Match holds, and answers where it does not.
func (s *Sedge) current(w http.ResponseWriter, r *http.Request, n *node) bool {
	match := r.Header.Get("If-Match")
	if match != "" && match != fmt.Sprintf(`"r%d"`, n.Version) {
		sedgeProblem(w, http.StatusPreconditionFailed, "rev", "the item has another rev")
		return false
	}
	return true
}

func (s *Sedge) remove(w http.ResponseWriter, r *http.Request) {
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	n := s.node(r.PathValue("id"))
	if n == nil || n.Parent == "" {
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such item")
		return
	}
	if !s.current(w, r, n) {
		return
	}
	n.Trashed = true
	s.drive.note(n, true)
	w.WriteHeader(http.StatusNoContent)
}

func (s *Sedge) copy(w http.ResponseWriter, r *http.Request) {
	var meta sedgeMeta
	if !given(w, r, &meta) {
		return
	}
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	n := s.node(r.PathValue("id"))
	if n == nil || n.Kind == "folder" {
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such file")
		return
	}
	if status, reason, why := s.fits(meta); status != 0 {
		sedgeProblem(w, status, reason, why)
		return
	}
	twin := *n
	twin.ID, twin.Parent, twin.Name, twin.Old, twin.Shares = "", meta.Parent, meta.Title, nil, shares{}
	answer(w, http.StatusCreated, s.shown(s.drive.add(&twin)))
}

// export reads a document in a format.
func (s *Sedge) export(w http.ResponseWriter, r *http.Request) {
	s.drive.mu.Lock()
	n := s.node(r.PathValue("id"))
	if n == nil || n.Kind == "file" || n.Kind == "folder" {
		s.drive.mu.Unlock()
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such document")
		return
	}
	kept := *n
	s.drive.mu.Unlock()
	data, media, err := exportDocument(kept.Kind, kept.Name, kept.Text, r.URL.Query().Get("as"))
	if err != nil {
		sedgeProblem(w, http.StatusBadRequest, "format", err.Error())
		return
	}
	w.Header().Set("Content-Type", media)
	w.WriteHeader(http.StatusOK)
	for chunk := range slices.Chunk(data, 4<<10) { // without a length, as exports are made on the way
		_, _ = w.Write(chunk)
		if flusher, ok := w.(http.Flusher); ok {
			flusher.Flush()
		}
	}
}

func (s *Sedge) changesStart(w http.ResponseWriter, _ *http.Request) {
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	answer(w, http.StatusOK, map[string]any{"cursor": fmt.Sprint("c", s.drive.Sequence)})
}

func (s *Sedge) changes(w http.ResponseWriter, r *http.Request) {
	sequence, err := strconv.ParseInt(strings.TrimPrefix(r.URL.Query().Get("cursor"), "c"), 10, 64)
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	list, ok := s.drive.since(sequence, 500)
	if err != nil || !ok {
		sedgeProblem(w, http.StatusGone, "cursor", "the cursor is no longer known")
		return
	}
	items := []any{}
	for _, one := range list {
		sequence = one.Sequence
		n := s.drive.Nodes[one.ID]
		change := map[string]any{"item_id": one.ID, "removed": n == nil || !s.drive.there(n)}
		if n != nil {
			change["item"] = s.shown(n)
		}
		items = append(items, change)
	}
	answer(w, http.StatusOK, map[string]any{"changes": items, "next_cursor": fmt.Sprint("c", sequence),
		"has_more": sequence < s.drive.Sequence})
}
