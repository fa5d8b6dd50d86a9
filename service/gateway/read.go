package gateway

import (
	"fmt"
	"io"
	"net/http"
	"time"

	"deftheron/core/store"
	"deftheron/service/content"
)

// read answers with a file, or ranges of it (RFC 9110, section 14).
func (g *Gateway) read(q *request) error {
	self, err := g.find(q.ctx, q.place)
	if err != nil {
		return err
	}
	header := q.w.Header()
	header.Set("Content-Security-Policy", content.Policy)
	switch self.node.Kind {
	case store.KindFolder:
		header.Set("Content-Type", "text/plain; charset=utf-8")
		_, _ = fmt.Fprintf(q.w, "%s is a folder of Deft Heron. Open this address as a network drive (WebDAV) to see what is in it.\n",
			self.place.address)
		return nil
	case store.KindFile:
	default:
		return fail(http.StatusForbidden, "", "%s holds no content of its own; open it at its provider", self.place.address)
	}
	located, err := g.treeOf(q.place).Locate(q.ctx, q.place.address)
	if err != nil {
		return err
	}
	node := self.node
	kind, _ := content.TypeOf(node.Name)
	header.Set("Content-Type", kind)
	if node.Revision != "" {
		header.Set("ETag", content.Tag(q.Request, node.Revision))
	}
	counted, ended := g.Service.Transfer(q.place.address, false, node.Size)
	defer ended()
	reading := store.Reading{Place: located.Place, Revision: node.Revision}
	file := content.Open(q.ctx, located.Store, reading, node.Size, counted)
	defer file.Close()
	if q.Method == http.MethodGet && node.Size != 0 {
		if err := file.Begin(q.Header.Get("Range")); err != nil {
			return err
		}
	}
	if node.Size < 0 {
		return g.readUnsized(q, file)
	}
	var modified time.Time
	if node.Modified.Unix() > 0 {
		modified = node.Modified
	}
	http.ServeContent(q.w, q.Request, "", modified, file)
	if err := file.Err(); err != nil && q.ctx.Err() == nil {
		g.Log.Warn("the reading of a file broke off", "address", q.place.address.String(), "error", err)
		panic(http.ErrAbortHandler) // broken off, nobody takes it for whole
	}
	return nil
}

// readUnsized answers with a file whose size is known only once it was read, such as an export.
func (g *Gateway) readUnsized(q *request, file *content.File) error {
	q.w.Header().Set("Accept-Ranges", "none")
	q.w.WriteHeader(http.StatusOK)
	if q.Method == http.MethodHead {
		return nil
	}
	if _, err := io.Copy(q.w, file); err != nil {
		panic(http.ErrAbortHandler)
	}
	return nil
}
