package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"strconv"
	"time"
)

func (s *Sedge) download(w http.ResponseWriter, r *http.Request) {
	s.drive.mu.Lock()
	n := s.node(r.PathValue("id"))
	if n == nil || n.Kind != "file" {
		s.drive.mu.Unlock()
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such file")
		return
	}
	kept := *n
	s.drive.mu.Unlock()
	if !s.current(w, r, &kept) {
		return
	}
	file, err := s.drive.open(kept.Blob)
	if err != nil {
		sedgeProblem(w, http.StatusInternalServerError, "internal", err.Error())
		return
	}
	defer file.Close()
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("ETag", fmt.Sprintf(`"r%d"`, kept.Version))
	r.Header.Del("If-Match")
	http.ServeContent(w, r, "", time.Time{}, file)
}

// upload takes a small file: multipart/related of its JSON and its bytes.
func (s *Sedge) upload(w http.ResponseWriter, r *http.Request) {
	kind, parameters, err := mime.ParseMediaType(r.Header.Get("Content-Type"))
	if err != nil || kind != "multipart/related" {
		sedgeProblem(w, http.StatusUnsupportedMediaType, "invalid", "multipart/related is due")
		return
	}
	if r.ContentLength > sedgeSmall+64<<10 {
		sedgeProblem(w, http.StatusRequestEntityTooLarge, "too_large", "larger files go by tus")
		return
	}
	reader := multipart.NewReader(r.Body, parameters["boundary"])
	var meta sedgeMeta
	part, err := reader.NextPart()
	if err == nil {
		decoder := json.NewDecoder(part)
		decoder.DisallowUnknownFields()
		err = decoder.Decode(&meta)
	}
	if err == nil {
		part, err = reader.NextPart()
	}
	if err != nil {
		sedgeProblem(w, http.StatusBadRequest, "invalid", err.Error())
		return
	}
	content, err := s.drive.keep(part)
	if err != nil {
		s.keepProblem(w, err)
		return
	}
	if _, err := reader.NextPart(); err != io.EOF {
		sedgeProblem(w, http.StatusBadRequest, "invalid", "two parts are due")
		return
	}
	s.create(w, meta, content)
}

func (s *Sedge) keepProblem(w http.ResponseWriter, err error) {
	if errors.Is(err, errQuota) {
		sedgeProblem(w, http.StatusForbidden, "quota", "the storage is full")
		return
	}
	sedgeProblem(w, http.StatusBadRequest, "invalid", err.Error())
}

func (s *Sedge) create(w http.ResponseWriter, meta sedgeMeta, content blob) *node {
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	if status, reason, why := s.fits(meta); status != 0 {
		sedgeProblem(w, status, reason, why)
		return nil
	}
	n := s.drive.add(&node{
		Parent: meta.Parent, Name: meta.Title, Kind: "file", Size: content.size, MD5: content.md5, Blob: content.name, Modified: meta.at(),
	})
	answer(w, http.StatusCreated, s.shown(n))
	return n
}

// replace takes new bytes of a file, on condition of its rev.
func (s *Sedge) replace(w http.ResponseWriter, r *http.Request) {
	if r.ContentLength < 0 || r.ContentLength > sedgeSmall {
		sedgeProblem(w, http.StatusRequestEntityTooLarge, "too_large", "larger files go by tus")
		return
	}
	content, err := s.drive.keep(r.Body)
	if err != nil {
		s.keepProblem(w, err)
		return
	}
	modified, _ := strconv.ParseInt(r.URL.Query().Get("modified_ms"), 10, 64)
	s.drive.mu.Lock()
	defer s.drive.mu.Unlock()
	n := s.node(r.PathValue("id"))
	if n == nil || n.Kind != "file" {
		sedgeProblem(w, http.StatusNotFound, "not_found", "there is no such file")
		return
	}
	if s.current(w, r, n) {
		s.drive.replace(n, content, sedgeMeta{Modified: modified}.at())
		answer(w, http.StatusOK, s.shown(n))
	}
}
