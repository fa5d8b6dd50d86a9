package api

import (
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"os"
	"path"
	"strings"

	"deftheron/core/files"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/runner"
	"deftheron/service/share"
)

const (
	// mostDropped is how many files may be sent in one request.
	mostDropped = 100
	// mostNames is how many names are tried for a file whose name is taken.
	mostNames = 100
)

func (s *Server) dropPage(o *opening) share.Page {
	return share.Page{Title: "Send files", DropOff: true, Largest: o.link.Left(), Expires: o.row.ExpiresAt}
}

// dropOff takes files that are sent to a link. What arrives whole stays, whatever becomes of
// the rest.
func (s *Server) dropOff(o *opening) {
	page := s.dropPage(o)
	fail := func(status int, say string) {
		page.Say, page.Failed = say, true
		o.c.Header("Connection", "close") // the rest is not read
		s.sharePage(o.c, status, page)
	}
	if o.row.Mode != share.DropOff {
		s.sharePage(o.c, http.StatusMethodNotAllowed, share.Page{Title: "Not allowed", Say: "No files can be sent to this link.", Failed: true})
		return
	}
	o.c.Request.Body = http.MaxBytesReader(o.c.Writer, o.c.Request.Body, o.row.MostBytes+1<<20)
	parts, err := o.c.Request.MultipartReader()
	if err != nil {
		fail(http.StatusUnsupportedMediaType, "Choose files and send them with the form.")
		return
	}
	for len(page.Sent) < mostDropped {
		part, err := parts.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			fail(http.StatusBadRequest, "The upload broke off. The files that are listed have arrived; send the others again.")
			return
		}
		if part.FileName() == "" {
			continue
		}
		name, err := s.takeFile(o, part)
		page.Largest = o.link.Left()
		if err != nil {
			fail(dropStatus(err), fmt.Sprintf("%s was not taken: %s.", fileName(part), dropWords(err)))
			return
		}
		page.Sent = append(page.Sent, name)
	}
	page.Say = "Thank you. These files have arrived:"
	if len(page.Sent) == 0 {
		fail(http.StatusUnprocessableEntity, "There was no file. Choose at least one.")
		return
	}
	s.sharePage(o.c, http.StatusOK, page)
}

// fileName is the name of a file that is sent: the last step of what the browser says.
func fileName(part *multipart.Part) string {
	name := part.FileName()
	return path.Base(strings.ReplaceAll(name, `\`, "/"))
}

func dropStatus(err error) int {
	switch store.KindOf(err) {
	case store.ErrTooLarge:
		return http.StatusRequestEntityTooLarge
	case store.ErrNoSpace:
		return http.StatusInsufficientStorage
	case store.ErrNameRefused, store.ErrRefused, store.ErrExists:
		return http.StatusUnprocessableEntity
	case store.ErrTryAgain:
		return http.StatusBadRequest
	}
	return http.StatusServiceUnavailable
}

// dropWords say why a file was not taken, and nothing about the place.
func dropWords(err error) string {
	switch store.KindOf(err) {
	case store.ErrTooLarge:
		return "it is larger than what may be sent here"
	case store.ErrNoSpace:
		return "no more may be sent here"
	case store.ErrNameRefused:
		return "its name is not allowed; give it another"
	case store.ErrExists:
		return "there are too many files of its name; give it another"
	case store.ErrTryAgain:
		return "the upload broke off; send it again"
	}
	return "it could not be stored now; try again later"
}

// takeFile stores one file, under a name that is free.
func (s *Server) takeFile(o *opening, part *multipart.Part) (string, error) {
	name := fileName(part)
	if err := store.CheckName(name); err != nil || strings.HasPrefix(name, ".") || name == "/" {
		return name, store.Errorf(store.ErrNameRefused, "%q is not a name for a file here", name)
	}
	kept, size, err := s.keepPart(o, part)
	if err != nil {
		return name, err
	}
	defer kept.Close()
	ending := path.Ext(name)
	for n := 1; n <= mostNames; n++ {
		as := name
		if n > 1 {
			as = fmt.Sprintf("%s (%d)%s", strings.TrimSuffix(name, ending), n, ending)
		}
		if _, err := kept.Seek(0, io.SeekStart); err != nil {
			return name, err
		}
		err := s.store(o, as, kept, size)
		if store.KindOf(err) == store.ErrExists {
			continue
		}
		if err != nil {
			o.link.Return(size)
			return name, err
		}
		s.note(o, "upload", as, size)
		return as, nil
	}
	o.link.Return(size)
	return name, store.Errorf(store.ErrExists, "no name is free for %q", name)
}

// store writes a file that has arrived into the folder.
func (s *Server) store(o *opening, name string, kept io.ReadSeeker, size int64) error {
	address := o.root.Child(name)
	if err := tree.CheckChange(o.ctx, address); err != nil {
		return err
	}
	located, err := s.Tree.Locate(o.ctx, address)
	if err != nil {
		return err
	}
	if located.Store.Traits().ReadOnly {
		return store.Errorf(store.ErrRefused, "the account is read only")
	}
	if err := runner.CheckChange(address, located.Place); err != nil {
		return err
	}
	if err := located.Store.Traits().NameError(located.Place.Folder.Path, name); err != nil {
		return err
	}
	defer s.changed(located)
	run, ended, err := s.Runner.TrackUpload(o.ctx, address)
	if err != nil {
		return err
	}
	defer ended()
	_, err = files.Write(o.ctx, located.Store, files.Putting{Place: located.Place, Size: size, If: store.Absent, Run: run,
		Body: io.NopCloser(kept), Scratch: s.Scratch, Counted: func(int) {}})
	return err
}

// keepPart keeps a file that is sent on this machine, until all of it is here: a part of it
// never gets into the folder.
func (s *Server) keepPart(o *opening, part io.Reader) (*os.File, int64, error) {
	file, err := os.CreateTemp(s.Scratch, "dropped-*")
	if err != nil {
		return nil, 0, err
	}
	fail := func(err error) (*os.File, int64, error) {
		return nil, 0, errors.Join(err, file.Close())
	}
	if err := os.Remove(file.Name()); err != nil { // it ends with its last reader
		return fail(err)
	}
	left := o.link.Left()
	size, err := io.Copy(file, io.LimitReader(part, max(0, left)+1))
	switch {
	case err != nil:
		return fail(store.Errorf(store.ErrTryAgain, "the upload broke off: %w", err))
	case size > left && left < o.row.LargestFile:
		return fail(store.Errorf(store.ErrNoSpace, "no more may be sent to the link"))
	case size > left:
		return fail(store.Errorf(store.ErrTooLarge, "the file is larger than may be sent to the link"))
	}
	if err := o.link.Reserve(size); err != nil {
		return fail(err)
	}
	return file, size, nil
}
