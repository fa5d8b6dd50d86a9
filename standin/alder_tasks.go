package standin

import (
	"net/http"
	"strings"
	"time"
)

type task struct {
	done    chan struct{}
	problem *alderProblem
	entry   map[string]any
}

// transfer moves or copies; of folders it is accepted, and then asked about.
func (a *Alder) transfer(w http.ResponseWriter, r *http.Request, copies bool) {
	var asked struct {
		From string `json:"from"`
		To   string `json:"to"`
	}
	if !given(w, r, &asked) {
		return
	}
	carry := func() (map[string]any, *alderProblem) {
		a.drive.mu.Lock()
		defer a.drive.mu.Unlock()
		n, wrong := a.found(asked.From)
		if wrong != nil {
			return nil, wrong
		}
		there, parent, name, wrong := a.at(asked.To)
		switch {
		case wrong != nil:
			return nil, wrong
		case there != nil && (copies || there != n):
			return nil, failed(http.StatusConflict, "name-taken", "something is at "+asked.To)
		case n.Kind == "folder" && strings.HasPrefix(strings.ToLower(asked.To)+"/", strings.ToLower(asked.From)+"/") && there != n:
			return nil, failed(http.StatusConflict, "inside-itself", "a folder cannot go into itself")
		}
		if copies {
			return a.shown(a.double(n, parent.ID, name)), nil
		}
		a.drive.move(n, parent.ID, name)
		return a.shown(n), nil
	}
	a.drive.mu.Lock()
	n, _ := a.found(asked.From)
	slow := n != nil && n.Kind == "folder"
	a.drive.mu.Unlock()
	if !slow {
		if entry, wrong := carry(); wrong != nil {
			wrong.write(w)
		} else {
			answer(w, http.StatusOK, entry)
		}
		return
	}
	id, t := newSecret(), &task{done: make(chan struct{})}
	a.mu.Lock()
	a.tasks[id] = t
	a.mu.Unlock()
	time.AfterFunc(a.TaskTime, func() {
		t.entry, t.problem = carry()
		close(t.done)
	})
	w.Header().Set("Location", "/api/tasks/"+id)
	answer(w, http.StatusAccepted, map[string]any{"state": "running"})
}

// double copies a node with all below it. a.drive.mu is held.
func (a *Alder) double(n *node, parent, name string) *node {
	twin := *n
	twin.ID, twin.Parent, twin.Name, twin.Old = "", parent, name, nil
	made := a.drive.add(&twin)
	for _, id := range a.drive.children[n.ID] {
		a.double(a.drive.Nodes[id], made.ID, a.drive.Nodes[id].Name)
	}
	return made
}

func (a *Alder) move(w http.ResponseWriter, r *http.Request) { a.transfer(w, r, false) }
func (a *Alder) copy(w http.ResponseWriter, r *http.Request) { a.transfer(w, r, true) }

func (a *Alder) task(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	t := a.tasks[r.PathValue("id")]
	a.mu.Unlock()
	if t == nil {
		problem(w, http.StatusNotFound, "not-found", "there is no such task")
		return
	}
	select {
	case <-t.done:
		if t.problem != nil {
			answer(w, http.StatusOK, map[string]any{"state": "failed", "problem": t.problem})
			return
		}
		answer(w, http.StatusOK, map[string]any{"state": "finished", "entry": t.entry})
	default:
		answer(w, http.StatusOK, map[string]any{"state": "running"})
	}
}
