package api

import (
	"context"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/files"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/accounts"
	"deftheron/service/content"
)

// readContent answers with a file, or with ranges of it (RFC 9110, section 14).
func (s *Server) readContent(c *gin.Context) {
	ctx := c.Request.Context()
	node, located, err := s.fileAt(ctx, c.Query("address"), c.Query("at"))
	if err != nil {
		refuse(c, problem(err))
		return
	}
	if node.Kind == store.KindDocument {
		s.readExport(c, node, located)
		return
	}
	s.sendFile(c, node, located, c.Query("download") != "")
}

// sendFile answers with a file, or ranges of it.
func (s *Server) sendFile(c *gin.Context, node tree.Node, located tree.Located, download bool) {
	ctx := c.Request.Context()
	kind, shows := content.TypeOf(node.Name)
	header := c.Writer.Header()
	header.Set("Content-Type", kind)
	header.Set("Content-Security-Policy", content.Policy)
	if download || !shows {
		header.Set("Content-Disposition", disposition(node.Name))
	}
	if node.Revision != "" {
		header.Set("ETag", content.Tag(c.Request, node.Revision))
	}
	transfer := s.Runner.Transfers.Begin(c.Query("transfer"), node.Address.String(), false, node.Size)
	defer transfer.End()
	file := content.Open(ctx, located.Store, store.Reading{Place: located.Place, Revision: node.Revision}, node.Size, transfer.Add)
	defer file.Close()
	if node.Size < 0 {
		s.readUnsized(c, file)
		return
	}
	if c.Request.Method == http.MethodGet && node.Size > 0 {
		// Opened before anything is answered, so that an error is one.
		if err := file.Begin(c.GetHeader("Range")); err != nil {
			for _, name := range []string{"Content-Disposition", "ETag"} {
				header.Del(name)
			}
			refuse(c, problem(err))
			return
		}
	}
	var modified time.Time
	if node.Modified.Unix() > 0 {
		modified = node.Modified
	}
	http.ServeContent(c.Writer, c.Request, "", modified, file)
	if err := file.Err(); err != nil && ctx.Err() == nil {
		s.Log.WarnContext(c.Request.Context(), "the download of a file failed", "address", node.Address.String(), "error", err)
		panic(http.ErrAbortHandler) // broken off, it cannot be taken for whole
	}
}

func (s *Server) readUnsized(c *gin.Context, file *content.File) {
	if err := file.Begin(""); err != nil {
		refuse(c, problem(err))
		return
	}
	c.Status(http.StatusOK)
	if _, err := io.Copy(c.Writer, file); err != nil {
		panic(http.ErrAbortHandler)
	}
}

// readExport answers with a document in the format as= names, else its default.
func (s *Server) readExport(c *gin.Context, node tree.Node, located tree.Located) {
	format := node.Exports[0]
	if wanted := c.Query("as"); wanted != "" {
		at := slices.IndexFunc(node.Exports, func(f store.Format) bool { return f.Name == wanted })
		if at < 0 {
			var names []string
			for _, format := range node.Exports {
				names = append(names, format.Name)
			}
			refuse(c, problem(store.Errorf(store.ErrRefused, "%s cannot be exported as %q; use one of %s", node.Address, wanted,
				strings.Join(names, ", "))))
			return
		}
		format = node.Exports[at]
	}
	body, err := store.Export(c.Request.Context(), located.Store, located.Place, node.Revision, format.Name)
	if err != nil {
		refuse(c, problem(err))
		return
	}
	defer body.Close()
	name := store.ExportName(node.Name, format.Name)
	kind, shows := content.TypeOf(name)
	header := c.Writer.Header()
	header.Set("Content-Type", kind)
	header.Set("Content-Security-Policy", content.Policy)
	header.Set("X-Export", format.Name)
	if c.Query("download") != "" || !shows {
		header.Set("Content-Disposition", disposition(name))
	}
	transfer := s.Runner.Transfers.Begin(c.Query("transfer"), node.Address.String(), false, -1)
	defer transfer.End()
	c.Status(http.StatusOK)
	if c.Request.Method == http.MethodHead {
		return
	}
	if _, err := io.Copy(c.Writer, store.NewStream(body, "", transfer.Add)); err != nil {
		if c.Request.Context().Err() == nil {
			s.Log.WarnContext(c.Request.Context(), "the export of a document failed", "address", node.Address.String(), "error", err)
		}
		panic(http.ErrAbortHandler)
	}
}

// fileAt finds a file as it was at a time; an empty one is now.
func (s *Server) fileAt(ctx context.Context, text, moment string) (node tree.Node, located tree.Located, err error) {
	address, err := store.ParseAddress(text)
	if err != nil {
		return node, located, err
	}
	at, err := parseAt(moment)
	if err != nil {
		return node, located, err
	}
	all := s.Runner.TreeAt(at)
	if node, err = all.Stat(ctx, address); err != nil {
		return node, located, s.explain(ctx, address, err)
	}
	switch node.Kind {
	case store.KindFolder:
		return node, located, store.Errorf(store.ErrRefused, "%s is a folder; name a file, or get the whole folder", address)
	case store.KindOther:
		return node, located, store.Errorf(store.ErrRefused,
			"%s is a link, a socket or a device, and holds no content of its own; name what it points to", address)
	case store.KindDocument:
		if len(node.Exports) == 0 {
			return node, located, store.Errorf(store.ErrRefused, "%s exists only inside the service that made it; export it there", address)
		}
	}
	located, err = all.Locate(ctx, address)
	return node, located, err
}

// drainAtMost is how much of an upload that was refused is read on, so that the
// browser gets to see why.
const drainAtMost = 64 << 20

// writeContent writes the body to a file, under a condition: by default the file
// must not exist; If-Match names the revision that may be replaced, or "*" for any
// (RFC 9110, section 13.1).
func (s *Server) writeContent(c *gin.Context) {
	put, located, err := s.receive(c)
	if err != nil {
		_, _ = io.CopyN(io.Discard, c.Request.Body, drainAtMost)
		refuse(c, problem(err))
		return
	}
	entry := entryOf(tree.Node{Address: located.Address, Entry: put.Entry})
	c.Header("ETag", contract.EntityTag(put.Revision))
	c.JSON(http.StatusCreated, contract.Uploaded{Entry: entry, Verification: put.Verification, Received: put.Received.Hex})
}

func (s *Server) receive(c *gin.Context) (put files.Put, located tree.Located, err error) {
	ctx := accounts.ByUser(c.Request.Context(), person(c.Request.Context()).User)
	if located, err = s.place(ctx, c.Query("address"), c.QueryArray("name")...); err != nil {
		return put, located, err
	}
	condition, err := conditionOf(c.Request.Header)
	if err != nil {
		return put, located, err
	}
	if !condition.IsAbsent() {
		if err := s.Runner.CheckLoss(ctx, located.Address); err != nil {
			return put, located, err
		}
	}
	var modified time.Time
	if text := c.Query("modified"); text != "" {
		if modified, err = time.Parse(time.RFC3339Nano, text); err != nil {
			return put, located, remedy.Errorf("modified=%q is not a time; write it as 2026-03-01T12:00:00Z", text)
		}
	}
	defer s.changed(located)
	run, ended, err := s.Runner.TrackUpload(ctx, located.Address)
	if err != nil {
		return put, located, err
	}
	defer ended()
	transfer := s.Runner.Transfers.Begin(c.Query("transfer"), located.Address.String(), true, c.Request.ContentLength)
	defer transfer.End()
	put, err = files.Write(ctx, located.Store, files.Putting{
		Place: located.Place, Size: c.Request.ContentLength, Modified: modified, If: condition, Run: run,
		Body: content.Body{ReadCloser: c.Request.Body}, Scratch: s.Scratch, Counted: transfer.Add,
	})
	put.Name = located.Address.Name()
	switch store.KindOf(err) {
	case store.ErrExists:
		err = store.Errorf(store.ErrExists, "%s already exists; choose another name, or replace it", located.Address)
	case store.ErrNotFound:
		err = store.Errorf(store.ErrTryAgain, "the folder of %s went away meanwhile: %w; send it again", located.Address, err)
	}
	return put, located, err
}

func conditionOf(header http.Header) (store.Condition, error) {
	match := strings.TrimSpace(header.Get("If-Match"))
	switch {
	case match == "" || header.Get("If-None-Match") == "*":
		return store.Absent, nil
	case match == "*":
		return store.Any, nil
	}
	revision, ok := contract.RevisionOfTag(match)
	if !ok {
		return store.Condition{}, remedy.Errorf("%s is not an entity tag of this service; take the ETag that it gave", match)
	}
	return store.AtRevision(revision), nil
}
