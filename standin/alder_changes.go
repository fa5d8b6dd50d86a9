package standin

import (
	"net/http"
	"strconv"
	"strings"
	"time"
)

func (a *Alder) mark(w http.ResponseWriter, _ *http.Request) {
	a.drive.mu.Lock()
	defer a.drive.mu.Unlock()
	answer(w, http.StatusOK, map[string]any{"mark": strconv.FormatInt(a.drive.Sequence, 10)})
}

// changes answers at once where there are changes; else, with Prefer: wait=N
// (RFC 7240), when there is one or the time is over.
func (a *Alder) changes(w http.ResponseWriter, r *http.Request) {
	sequence, err := strconv.ParseInt(r.URL.Query().Get("since"), 10, 64)
	wait := 0
	if text, ok := strings.CutPrefix(r.Header.Get("Prefer"), "wait="); ok {
		wait, _ = strconv.Atoi(text)
	}
	deadline := time.After(time.Duration(min(wait, 60)) * time.Second)
	for {
		a.drive.mu.Lock()
		list, ok := a.drive.since(sequence, 500)
		woken, now := a.drive.woken, a.drive.Sequence
		shown := []any{}
		for _, one := range list {
			n := a.drive.Nodes[one.ID]
			if n == nil || one.Gone || a.drive.path(n) != one.Path {
				shown = append(shown, map[string]any{"path": one.Path, "gone": true})
			} else {
				shown = append(shown, map[string]any{"path": one.Path, "entry": a.shown(n)})
			}
			sequence = one.Sequence
		}
		a.drive.mu.Unlock()
		if err != nil || !ok {
			problem(w, http.StatusGone, "mark-lost", "the mark is no longer known")
			return
		}
		if len(shown) > 0 || wait == 0 {
			answer(w, http.StatusOK, map[string]any{"changes": shown, "mark": strconv.FormatInt(sequence, 10), "more": sequence < now})
			return
		}
		select {
		case <-woken:
		case <-deadline:
			wait = 0
		case <-r.Context().Done():
			return
		}
	}
}

// revisions tells the earlier revisions of a file.
func (a *Alder) revisions(w http.ResponseWriter, r *http.Request) {
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
	list := []any{}
	for _, one := range n.Old {
		list = append(list, map[string]any{"revision": strconv.FormatInt(one.Version, 36), "length": one.Size})
	}
	answer(w, http.StatusOK, map[string]any{"revisions": list})
}
