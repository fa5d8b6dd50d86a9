package standin

import (
	"encoding/base64"
	"fmt"
	"io"
	"net/http"
	"os"
	"strconv"
	"strings"
)

// tusUpload is one that was created and is not complete (tus 1.0).
type tusUpload struct {
	meta   map[string]string
	length int64
	file   *os.File
	offset int64
	busy   bool
}

// The uploads of tus 1.0: https://tus.io/protocols/resumable-upload

func tusHeaders(w http.ResponseWriter, r *http.Request) bool {
	w.Header().Set("Tus-Resumable", "1.0.0")
	if r.Header.Get("Tus-Resumable") != "1.0.0" {
		sedgeProblem(w, http.StatusPreconditionFailed, "tus", "Tus-Resumable: 1.0.0 is due")
		return false
	}
	return true
}

func (s *Sedge) tusCreate(w http.ResponseWriter, r *http.Request) {
	if !tusHeaders(w, r) {
		return
	}
	length, err := strconv.ParseInt(r.Header.Get("Upload-Length"), 10, 64)
	if err != nil || length < 0 {
		sedgeProblem(w, http.StatusBadRequest, "invalid", "Upload-Length is due")
		return
	}
	meta := map[string]string{}
	for _, pair := range strings.Split(r.Header.Get("Upload-Metadata"), ",") {
		key, value, _ := strings.Cut(strings.TrimSpace(pair), " ")
		raw, err := base64.StdEncoding.DecodeString(value)
		if err != nil {
			sedgeProblem(w, http.StatusBadRequest, "invalid", "Upload-Metadata is not base64")
			return
		}
		meta[key] = string(raw)
	}
	s.drive.mu.Lock()
	full := s.drive.full(length)
	s.drive.mu.Unlock()
	if full {
		sedgeProblem(w, http.StatusForbidden, "quota", "the storage is full")
		return
	}
	file, err := os.CreateTemp(s.drive.blobPath(""), "tus*")
	if err != nil {
		sedgeProblem(w, http.StatusInternalServerError, "internal", err.Error())
		return
	}
	id := newSecret()
	s.mu.Lock()
	s.tus[id] = &tusUpload{meta: meta, length: length, file: file}
	s.mu.Unlock()
	w.Header().Set("Location", "/v2/tus/"+id)
	w.WriteHeader(http.StatusCreated)
}

// upload with an id; s.mu is not held.
func (s *Sedge) tusOf(w http.ResponseWriter, r *http.Request) *tusUpload {
	s.mu.Lock()
	defer s.mu.Unlock()
	u := s.tus[r.PathValue("id")]
	if u == nil {
		w.WriteHeader(http.StatusNotFound)
	}
	return u
}

func (s *Sedge) tusHead(w http.ResponseWriter, r *http.Request) {
	if !tusHeaders(w, r) {
		return
	}
	if u := s.tusOf(w, r); u != nil {
		s.mu.Lock()
		defer s.mu.Unlock()
		w.Header().Set("Upload-Offset", strconv.FormatInt(u.offset, 10))
		w.Header().Set("Upload-Length", strconv.FormatInt(u.length, 10))
		w.Header().Set("Cache-Control", "no-store")
	}
}

// tusList tells the open uploads of whoever asks.
func (s *Sedge) tusList(w http.ResponseWriter, _ *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	list := []any{}
	for id, u := range s.tus {
		list = append(list, map[string]any{"upload_id": id, "label": u.meta["label"]})
	}
	answer(w, http.StatusOK, map[string]any{"uploads": list})
}

func (s *Sedge) tusDelete(w http.ResponseWriter, r *http.Request) {
	if !tusHeaders(w, r) {
		return
	}
	if u := s.tusOf(w, r); u != nil {
		s.mu.Lock()
		delete(s.tus, r.PathValue("id"))
		s.mu.Unlock()
		u.file.Close()
		os.Remove(u.file.Name())
		w.WriteHeader(http.StatusNoContent)
	}
}

func (s *Sedge) tusPatch(w http.ResponseWriter, r *http.Request) {
	if !tusHeaders(w, r) {
		return
	}
	u := s.tusOf(w, r)
	if u == nil {
		return
	}
	offset, err := strconv.ParseInt(r.Header.Get("Upload-Offset"), 10, 64)
	s.mu.Lock()
	ok := err == nil && offset == u.offset && !u.busy
	if ok {
		u.busy = true
	}
	s.mu.Unlock()
	switch {
	case r.Header.Get("Content-Type") != "application/offset+octet-stream":
		sedgeProblem(w, http.StatusUnsupportedMediaType, "tus", "application/offset+octet-stream is due")
		return
	case !ok:
		sedgeProblem(w, http.StatusConflict, "tus", "the offset is another")
		return
	}
	n, err := io.Copy(io.NewOffsetWriter(u.file, offset), io.LimitReader(r.Body, u.length-offset+1))
	s.mu.Lock()
	u.offset += min(n, u.length-offset)
	u.busy = false
	complete := u.offset == u.length && n <= u.length-offset
	s.mu.Unlock()
	switch {
	case err != nil || n > u.length-offset:
		sedgeProblem(w, http.StatusBadRequest, "tus", "the body is not what was announced")
	case complete:
		s.tusFinish(w, r, u)
	default:
		w.Header().Set("Upload-Offset", strconv.FormatInt(u.offset, 10))
		w.WriteHeader(http.StatusNoContent)
	}
}

// tusFinish makes the file of an upload that is complete.
func (s *Sedge) tusFinish(w http.ResponseWriter, r *http.Request, u *tusUpload) {
	if _, err := u.file.Seek(0, io.SeekStart); err != nil {
		sedgeProblem(w, http.StatusInternalServerError, "internal", err.Error())
		return
	}
	content, err := s.drive.keep(u.file)
	if err != nil {
		s.keepProblem(w, err)
		return
	}
	s.mu.Lock()
	delete(s.tus, r.PathValue("id"))
	s.mu.Unlock()
	u.file.Close()
	os.Remove(u.file.Name())
	modified, _ := strconv.ParseInt(u.meta["modified_ms"], 10, 64)
	w.Header().Set("Upload-Offset", strconv.FormatInt(u.length, 10))
	id := u.meta["replaces"]
	if id == "" {
		s.create(w, sedgeMeta{Title: u.meta["title"], Parent: u.meta["parent"], Modified: modified}, content)
		return
	}
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	n := s.node(id)
	switch {
	case n == nil || n.Kind != "file":
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such file")
	case u.meta["rev"] != "" && u.meta["rev"] != fmt.Sprint("r", n.Version):
		sedgeProblem(w, http.StatusPreconditionFailed, "rev", "the item has another rev")
	default:
		s.drive.replace(n, content, sedgeMeta{Modified: modified}.at())
		answer(w, http.StatusOK, s.shown(n))
	}
}
