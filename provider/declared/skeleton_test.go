package declared_test

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"deftheron/core/store"
	"deftheron/provider/declared"
	"deftheron/provider/declared/skeleton"
)

// plainService is the service that the skeletons guess at: one drive, told an entry in
// each of four ways.
type plainService struct {
	mu    sync.Mutex
	nodes map[string]*plainNode // by id
	made  int
}

type plainNode struct {
	ID       string    `json:"id"`
	Parent   string    `json:"parent"`
	Name     string    `json:"name"`
	Type     string    `json:"type"`
	Size     int       `json:"size"`
	Modified time.Time `json:"modified"`
	Revision string    `json:"revision"`
	SHA256   string    `json:"sha256,omitempty"`
	data     []byte
}

func (s *plainService) child(parent, name string) *plainNode {
	for _, node := range s.nodes {
		if node.Parent == parent && node.Name == name {
			return node
		}
	}
	return nil
}

// at is the node of a path, and the id and name it has or would have.
func (s *plainService) at(path string) (node *plainNode, parent, name string) {
	node = s.nodes["root"]
	for step := range strings.SplitSeq(strings.Trim(path, "/"), "/") {
		if step == "" {
			continue
		}
		if node == nil {
			return nil, "", ""
		}
		parent, name = node.ID, step
		node = s.child(node.ID, step)
	}
	return node, parent, name
}

func (s *plainService) fill(node *plainNode, data []byte) {
	sum := sha256.Sum256(data)
	s.made++
	node.data, node.Size, node.SHA256 = data, len(data), hex.EncodeToString(sum[:])
	node.Revision, node.Modified = fmt.Sprint("r", s.made), time.Now().UTC()
}

func (s *plainService) add(parent, name, kind string) *plainNode {
	s.made++
	node := &plainNode{ID: fmt.Sprint("n", s.made), Parent: parent, Name: name, Type: kind}
	s.nodes[node.ID] = node
	return node
}

// ServeHTTP brings the four ways to one, and does it.
func (s *plainService) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(r.Body) // not while others wait
	if err != nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	answer := func(status int, body any) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(body)
	}
	fail := func(status int, code string) {
		answer(status, map[string]any{"error": map[string]any{"code": code, "message": code}})
	}
	if r.Header.Get("Authorization") != "Bearer plain" {
		fail(401, "not_signed_in")
		return
	}
	what, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/v1/"), "/")
	var asked struct {
		Path, From, To, After, Revision, ID, Parent, Name string
		Absent                                            bool
	}
	arguments := []byte(r.Header.Get("X-Arguments"))
	if len(arguments) == 0 && r.Method == "POST" && !(what == "folders") {
		arguments = body
	}
	if len(arguments) > 0 {
		if err := json.Unmarshal(arguments, &asked); err != nil {
			fail(400, err.Error())
			return
		}
	}
	operation := r.Method + " " + what
	for alias, means := range map[string]string{
		"POST list": "GET folders", "POST look": "GET entries", "POST read": "GET files", "POST write": "PUT files",
		"POST make-folder": "PUT folders", "POST remove": "DELETE entries",
	} {
		if operation == alias {
			operation = means
		}
	}
	query := r.URL.Query()
	after := query.Get("after") + asked.After
	match := strings.Trim(r.Header.Get("If-Match"), `"`) + asked.Revision
	absent := asked.Absent || r.Header.Get("If-None-Match") == "*"
	var node *plainNode
	parent, name := "", ""
	switch known := s.nodes[rest]; {
	case query.Has("path"):
		node, parent, name = s.at(query.Get("path"))
	case asked.Path != "":
		node, parent, name = s.at(asked.Path)
	case query.Has("name"):
		parent, name, absent = rest, query.Get("name"), true
		node = s.child(parent, name)
		if operation == "POST folders" {
			operation = "PUT files"
		}
	case known != nil:
		node = known
	default:
		node, parent, name = s.at(rest)
	}
	switch operation {
	case "GET folders":
		if node == nil || node.Type != "folder" {
			fail(404, "not_there")
			return
		}
		var inside []*plainNode
		for _, child := range s.nodes {
			if child.Parent == node.ID {
				inside = append(inside, child)
			}
		}
		slices.SortFunc(inside, func(a, b *plainNode) int { return strings.Compare(a.ID, b.ID) })
		from, _ := strconv.Atoi(after)
		const page = 5
		end := min(len(inside), from+page)
		var next any
		if end < len(inside) {
			next = strconv.Itoa(end)
		}
		answer(200, map[string]any{"entries": append([]*plainNode{}, inside[from:end]...), "next": next})
	case "GET entries", "GET files":
		switch {
		case node == nil || operation == "GET files" && node.Type != "file":
			fail(404, "not_there")
		case operation == "GET entries":
			answer(200, node)
		default:
			http.ServeContent(w, r, "", time.Time{}, strings.NewReader(string(node.data)))
		}
	case "PUT files", "PUT folders":
		var kind string
		if operation == "PUT files" {
			kind = "file"
		} else {
			kind = "folder"
		}
		switch {
		case node == nil && s.nodes[parent] == nil:
			fail(404, "no_folder")
		case node != nil && (absent || node.Type != kind || kind == "folder"):
			fail(409, "name_taken")
		case match != "" && (node == nil || node.Revision != match):
			fail(412, "changed")
		default:
			if node == nil {
				node = s.add(parent, name, kind)
			}
			if kind == "file" {
				s.fill(node, body)
			}
			answer(200, node)
		}
	case "POST moves":
		node, parent, name = s.nodes[asked.ID], asked.Parent, asked.Name
		there := s.child(parent, name)
		if asked.From != "" {
			node, _, _ = s.at(asked.From)
			there, parent, name = s.at(asked.To)
		}
		switch {
		case node == nil || s.nodes[parent] == nil:
			fail(404, "not_there")
		case there != nil:
			fail(409, "name_taken")
		default:
			node.Parent, node.Name = parent, name
			answer(200, node)
		}
	case "DELETE entries":
		switch {
		case node == nil:
			fail(404, "not_there")
		case match != "" && node.Revision != match:
			fail(412, "changed")
		default:
			delete(s.nodes, node.ID)
			answer(200, map[string]any{})
		}
	default:
		fail(405, "unknown_operation")
	}
}

// TestSkeletons tries each skeleton against the service that it guesses at.
func TestSkeletons(t *testing.T) {
	t.Parallel()
	for _, style := range skeleton.Styles() {
		t.Run(style, func(t *testing.T) {
			t.Parallel()
			service := &plainService{nodes: map[string]*plainNode{"root": {ID: "root", Type: "folder"}}}
			server := httptest.NewServer(service)
			defer server.Close()
			text, err := skeleton.Text(style, "plain")
			if err != nil {
				t.Fatal(err)
			}
			definition, err := declared.Load("plain.yaml", []byte(text))
			if err != nil {
				t.Fatal(err)
			}
			sum, err := declared.New(definition).Try(t.Context(), opening(t, server.URL, store.FixedSecret("plain"), nil), func(r declared.Result) {
				if r.Outcome == declared.Fails {
					t.Errorf("%s: %q %+v", r.Part, r.Notes, r.Exchange)
				}
			})
			if err != nil || sum.Works < 20 || sum.Left != "" || len(service.nodes) != 1 {
				t.Errorf("%+v, %v; %d entries are left", sum, err, len(service.nodes)-1)
			}
		})
	}
	if _, err := skeleton.Text("by guess", "plain"); err == nil || !strings.Contains(err.Error(), "path-in-body") {
		t.Errorf("an unknown style: %v", err)
	}
	if _, err := skeleton.Text("ids", "My Cloud"); err == nil || !strings.Contains(err.Error(), "lower-case") {
		t.Errorf("a name that cannot be: %v", err)
	}
}
