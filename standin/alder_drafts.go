package standin

import (
	"io"
	"net/http"
	"os"
	"regexp"
	"strconv"
)

type draft struct {
	label    string
	file     *os.File
	received int64
	busy     bool
}

func (a *Alder) draftMake(w http.ResponseWriter, r *http.Request) {
	var asked struct {
		Label string `json:"label"`
	}
	if !given(w, r, &asked) {
		return
	}
	file, err := os.CreateTemp(a.drive.blobPath(""), "draft*")
	if err != nil {
		problem(w, http.StatusInternalServerError, "internal", err.Error())
		return
	}
	id := newSecret()
	a.mu.Lock()
	a.drafts[id] = &draft{label: asked.Label, file: file}
	a.mu.Unlock()
	answer(w, http.StatusCreated, map[string]any{"draft": id})
}

func (a *Alder) draftList(w http.ResponseWriter, _ *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	list := []any{}
	for id, d := range a.drafts {
		list = append(list, map[string]any{"draft": id, "label": d.label})
	}
	answer(w, http.StatusOK, map[string]any{"drafts": list})
}

// draftOf is a draft by its id. a.mu is held.
func (a *Alder) draftOf(w http.ResponseWriter, r *http.Request) *draft {
	d := a.drafts[r.PathValue("id")]
	if d == nil {
		problem(w, http.StatusNotFound, "not-found", "there is no such draft")
	}
	return d
}

func (a *Alder) draftShow(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if d := a.draftOf(w, r); d != nil {
		answer(w, http.StatusOK, map[string]any{"draft": r.PathValue("id"), "received": d.received})
	}
}

var draftRange = regexp.MustCompile(`^bytes (\d+)-(\d+)/\*$`)

func (a *Alder) draftPut(w http.ResponseWriter, r *http.Request) {
	span := draftRange.FindStringSubmatch(r.Header.Get("Content-Range"))
	if span == nil {
		problem(w, http.StatusBadRequest, "bad-range", "Content-Range: bytes FIRST-LAST/* is due")
		return
	}
	first, _ := strconv.ParseInt(span[1], 10, 64)
	last, _ := strconv.ParseInt(span[2], 10, 64)
	a.mu.Lock()
	d := a.draftOf(w, r)
	if d == nil {
		a.mu.Unlock()
		return
	}
	ok := first == d.received && last >= first && r.ContentLength == last-first+1 && !d.busy
	d.busy = d.busy || ok
	a.mu.Unlock()
	if !ok {
		problem(w, http.StatusRequestedRangeNotSatisfiable, "bad-range",
			"the range does not begin where the draft ends, or is not as long as it says")
		return
	}
	n, err := io.Copy(io.NewOffsetWriter(d.file, first), r.Body)
	a.mu.Lock()
	defer a.mu.Unlock()
	d.busy = false
	if err != nil || n != last-first+1 {
		problem(w, http.StatusBadRequest, "bad-range", "the range broke off")
		return
	}
	d.received += n
	answer(w, http.StatusOK, map[string]any{"received": d.received})
}

func (a *Alder) dropDraft(id string, d *draft) {
	a.mu.Lock()
	delete(a.drafts, id)
	a.mu.Unlock()
	d.file.Close()
	os.Remove(d.file.Name())
}

func (a *Alder) draftDelete(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	d := a.draftOf(w, r)
	a.mu.Unlock()
	if d != nil {
		a.dropDraft(r.PathValue("id"), d)
		w.WriteHeader(http.StatusNoContent)
	}
}

func (a *Alder) publish(w http.ResponseWriter, r *http.Request) {
	var asked publishing
	if !given(w, r, &asked) {
		return
	}
	a.mu.Lock()
	d := a.draftOf(w, r)
	a.mu.Unlock()
	if d == nil {
		return
	}
	content, err := a.drive.keep(io.NewSectionReader(d.file, 0, d.received))
	if err != nil {
		a.keepProblem(w, err)
		return
	}
	entry, wrong := a.put(asked, content)
	if wrong != nil {
		wrong.write(w)
		return
	}
	a.dropDraft(r.PathValue("id"), d)
	answer(w, http.StatusOK, entry)
}
