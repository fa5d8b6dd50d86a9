package standin

import (
	"cmp"
	"maps"
	"net/http"
	"slices"
	"strings"
)

// AlderTeam are the members of Alder's team, of whom each can own what is there, and
// AlderGuests those with whom it can only be shared.
var (
	AlderTeam = []string{"office@tolland.example", "permits@tolland.example", "surveyor-01@tolland.example", "surveyor-02@tolland.example",
		"ranger-01@tolland.example", "hydrologist-01@tolland.example"}
	AlderGuests = []string{"auditor@weir-board.example", "office-01@fenmere.example"}
)

// shares is the share list of a node.
type shares struct {
	Owner  string            `json:"owner,omitempty"`
	People map[string]string `json:"people,omitempty"` // what each may do, in the words of the service
	Links  int               `json:"links,omitempty"`
}

// any reports whether a listing says that there is a share list.
func (s shares) any() bool { return s.Owner != "" || len(s.People) > 0 || s.Links > 0 }

// raise gives a person one of the levels, the lowest first, unless they have a higher one.
func (s *shares) raise(person, level string, levels []string) bool {
	at := slices.Index(levels, level)
	if at < 0 {
		return false
	}
	if s.People == nil {
		s.People = map[string]string{}
	}
	if at > slices.Index(levels, s.People[person]) {
		s.People[person] = level
	}
	return true
}

// ShareWith sets the share list of an entry of one's own area, as a person would: what
// each person may do is reader, commenter or writer. An owner of "" is the account's.
func (s *Sedge) ShareWith(path []string, owner string, people map[string]string, links int) bool {
	return s.share(sedgeAreas[0].root, path, shares{owner, people, links})
}

// ShareFor is ShareWith, in the area of a member.
func (s *Sedge) ShareFor(mail string, path []string, people map[string]string) bool {
	one, ok := s.org.of(mail)
	return ok && s.share(one.root(), path, shares{People: people})
}

func (s *Sedge) share(at string, path []string, list shares) bool {
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	n := s.drive.Nodes[at]
	for _, name := range path {
		i := slices.IndexFunc(s.drive.children[n.ID], func(id string) bool { return s.drive.Nodes[id].Name == name })
		if i < 0 {
			return false
		}
		n = s.drive.Nodes[s.drive.children[n.ID][i]]
	}
	list.People = maps.Clone(list.People)
	n.Shares = list
	return true
}

// owner is whom a node belongs to, for a user who asks: what is in nobody's area is the
// user's own. s.drive.mu is held.
func (s *Sedge) owner(n *node, user any) any {
	if n.Shares.Owner != "" {
		return n.Shares.Owner
	}
	for ; n.Parent != ""; n = s.drive.Nodes[n.Parent] {
	}
	for _, mail := range s.Members() {
		if one, _ := s.org.of(mail); one.root() == n.ID {
			return mail
		}
	}
	return user
}

var sedgeLevels = []string{"reader", "commenter", "writer"}

// access answers GET /v2/items/{id}/access.
func (s *Sedge) access(w http.ResponseWriter, r *http.Request) {
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	n := s.node(r.PathValue("id"))
	if n == nil {
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such item")
		return
	}
	people, links := []any{}, []any{}
	for _, mail := range slices.Sorted(maps.Keys(n.Shares.People)) {
		people = append(people, map[string]any{"mail": mail, "role": n.Shares.People[mail]})
	}
	for range n.Shares.Links {
		links = append(links, map[string]any{"role": "reader"})
	}
	answer(w, http.StatusOK, map[string]any{"owner": s.owner(n, r.Context().Value(userKey{})), "people": people, "links": links})
}

// grant answers POST /v2/items/{id}/access.
func (s *Sedge) grant(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Mail   string `json:"mail"`
		Role   string `json:"role"`
		Notify bool   `json:"notify"`
	}
	if !given(w, r, &asked) {
		return
	}
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	n := s.node(r.PathValue("id"))
	switch {
	case n == nil:
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such item")
	case !s.knows(asked.Mail):
		sedgeProblem(w, http.StatusBadRequest, "person", asked.Mail+" has no account here")
	case !n.Shares.raise(strings.ToLower(asked.Mail), asked.Role, sedgeLevels):
		sedgeProblem(w, http.StatusBadRequest, "invalid", "a role is reader, commenter or writer")
	default:
		answer(w, http.StatusOK, s.shown(n))
	}
}

// own answers PUT /v2/items/{id}/owner.
func (s *Sedge) own(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Mail string `json:"mail"`
	}
	if !given(w, r, &asked) {
		return
	}
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	n := s.node(r.PathValue("id"))
	user := r.Context().Value(userKey{})
	switch {
	case n == nil:
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such item")
	case !s.knows(asked.Mail):
		sedgeProblem(w, http.StatusBadRequest, "person", asked.Mail+" has no account here")
	case user != Administrator && user != s.owner(n, user):
		sedgeProblem(w, http.StatusForbidden, "not_owner", "only the owner gives an item away")
	default:
		n.Shares.Owner = strings.ToLower(asked.Mail)
		delete(n.Shares.People, n.Shares.Owner)
		answer(w, http.StatusOK, s.shown(n))
	}
}

// people answers GET /v2/people.
func (s *Sedge) people(w http.ResponseWriter, r *http.Request) {
	found := []any{}
	if mail := r.URL.Query().Get("mail"); s.knows(mail) {
		found = append(found, map[string]any{"mail": strings.ToLower(mail)})
	}
	answer(w, http.StatusOK, map[string]any{"people": found})
}

func (s *Sedge) knows(mail string) bool {
	return slices.ContainsFunc(append(append(s.Members(), Administrator), s.Consents.Users...), func(known string) bool {
		return strings.EqualFold(known, mail)
	})
}

var alderLevels = []string{"view", "edit"}

// alderShare is what the requests about share lists hold.
type alderShare struct {
	Path  string `json:"path"`
	Who   string `json:"who"`
	May   string `json:"may"`
	To    string `json:"to"`
	Quiet bool   `json:"quiet"`
}

// shared finds what a request about share lists is about, and calls do; a.drive.mu is held
// meanwhile.
func (a *Alder) shared(w http.ResponseWriter, r *http.Request, do func(n *node, asked alderShare) *alderProblem) {
	var asked alderShare
	if !given(w, r, &asked) {
		return
	}
	a.drive.mu.Lock()
	defer a.drive.mu.Unlock()
	n, wrong := a.found(asked.Path)
	if wrong == nil {
		wrong = do(n, asked)
	}
	if wrong != nil {
		wrong.write(w)
		return
	}
	user, _ := r.Context().Value(userKey{}).(string)
	people := []any{}
	for _, who := range slices.Sorted(maps.Keys(n.Shares.People)) {
		people = append(people, map[string]any{"who": who, "may": n.Shares.People[who]})
	}
	answer(w, http.StatusOK, map[string]any{"holder": cmp.Or(n.Shares.Owner, user), "people": people, "links": n.Shares.Links})
}

// peopleOf answers POST /api/entry/people.
func (a *Alder) peopleOf(w http.ResponseWriter, r *http.Request) {
	a.shared(w, r, func(*node, alderShare) *alderProblem { return nil })
}

// invite answers POST /api/entry/invite.
func (a *Alder) invite(w http.ResponseWriter, r *http.Request) {
	a.shared(w, r, func(n *node, asked alderShare) *alderProblem {
		who := strings.ToLower(asked.Who)
		switch {
		case !slices.Contains(AlderTeam, who) && !slices.Contains(AlderGuests, who):
			return failed(http.StatusUnprocessableEntity, "nobody", asked.Who+" is neither of the team nor a guest")
		case !n.Shares.raise(who, asked.May, alderLevels):
			return failed(http.StatusBadRequest, "bad-level", "may is view or edit")
		}
		return nil
	})
}

// handOver answers POST /api/entry/hand-over.
func (a *Alder) handOver(w http.ResponseWriter, r *http.Request) {
	a.shared(w, r, func(n *node, asked alderShare) *alderProblem {
		to := strings.ToLower(asked.To)
		if !slices.Contains(AlderTeam, to) {
			return failed(http.StatusForbidden, "guest", asked.To+" is not of the team, and cannot hold entries")
		}
		n.Shares.Owner = to
		delete(n.Shares.People, to)
		return nil
	})
}

// findPerson answers POST /api/team/find.
func (a *Alder) findPerson(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Who string `json:"who"`
	}
	if !given(w, r, &asked) {
		return
	}
	who := strings.ToLower(asked.Who)
	guest := slices.Contains(AlderGuests, who)
	if !guest && !slices.Contains(AlderTeam, who) {
		problem(w, http.StatusNotFound, "nobody", asked.Who+" is neither of the team nor a guest")
		return
	}
	answer(w, http.StatusOK, map[string]any{"who": who, "guest": guest})
}

// ShareList is who owns an entry of Alder, and what each person may do with it.
func (a *Alder) ShareList(path string) (owner string, people map[string]string, ok bool) {
	a.drive.mu.Lock()
	defer a.drive.mu.Unlock()
	n, wrong := a.found(path)
	if wrong != nil {
		return "", nil, false
	}
	return n.Shares.Owner, maps.Clone(n.Shares.People), true
}
