package api

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"unicode"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/listing"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/core/view"
	"deftheron/service/content"
	"deftheron/service/live"
)

// readArchive answers with files and folders as one ZIP archive, made while it
// is sent: nothing is kept, and nothing is compressed. One that breaks off has
// no directory at its end and cannot be taken for whole.
func (s *Server) readArchive(c *gin.Context) {
	ctx := c.Request.Context()
	addresses := c.QueryArray("address")
	nodes := make([]tree.Node, len(addresses))
	places := make([]tree.Located, len(addresses))
	for i, text := range addresses {
		address, err := store.ParseAddress(text)
		if err == nil {
			places[i], err = s.Tree.Locate(ctx, address)
		}
		if err == nil {
			nodes[i], err = s.Tree.Stat(ctx, address)
		}
		if err != nil {
			refuse(c, problem(s.explain(ctx, address, err)))
			return
		}
	}
	if len(nodes) == 0 {
		refuse(c, &contract.Problem{Status: http.StatusUnprocessableEntity, Detail: "There is no address to fetch.",
			Remedy: "Give at least one as address=/account/folder."})
		return
	}
	s.sendArchive(c, nodes, places)
}

// sendArchive answers with entries as one archive.
func (s *Server) sendArchive(c *gin.Context, nodes []tree.Node, places []tree.Located) {
	ctx := c.Request.Context()
	name := nodes[0].Name
	if len(nodes) > 1 {
		name = fmt.Sprintf("%s and %d more", name, len(nodes)-1)
	}
	header := c.Writer.Header()
	header.Set("Content-Type", "application/zip")
	header.Set("Content-Security-Policy", content.Policy)
	header.Set("Content-Disposition", disposition(name+".zip"))
	c.Status(http.StatusOK)
	transfer := s.Runner.Transfers.Begin(c.Query("transfer"), nodes[0].Address.String(), false, -1)
	defer transfer.End()
	packer := &packer{zip: zip.NewWriter(c.Writer), transfer: transfer, taken: map[string]int{}}
	for i, node := range nodes {
		if err := packer.add(ctx, places[i], node); err != nil {
			if ctx.Err() == nil {
				s.Log.WarnContext(c.Request.Context(), "an archive failed", "address", node.Address.String(), "error", err)
			}
			panic(http.ErrAbortHandler)
		}
	}
	if err := packer.zip.Close(); err != nil {
		panic(http.ErrAbortHandler)
	}
}

type packer struct {
	zip      *zip.Writer
	transfer *live.Transfer
	taken    map[string]int // names at the top
}

// add adds one entry with all that is in it, under its own name.
func (p *packer) add(ctx context.Context, located tree.Located, node tree.Node) error {
	top := archiveName(node.Name)
	if p.taken[top]++; p.taken[top] > 1 {
		top = fmt.Sprintf("%s (%d)", top, p.taken[top])
	}
	// Documents go in as their default exports, and twins under names of their own.
	located.Store = view.Exports(located.Store, nil)
	if len(node.Exports) > 0 {
		format := node.Exports[0].Name
		body, err := store.Export(ctx, located.Store, located.Place, node.Revision, format)
		if err != nil {
			return err
		}
		return p.pack(body, store.ExportName(top, format), node.Entry)
	}
	if node.Kind != store.KindFolder {
		return p.file(ctx, located.Store, located.Place, node.Entry, top)
	}
	if err := p.folder(top, node.Entry); err != nil {
		return err
	}
	folder := located.Place.AsFolder()
	for listed, err := range listing.Flat(ctx, located.Store, folder) {
		if err != nil {
			return err
		}
		path := top
		for _, step := range listed.Below.Names() {
			path += "/" + archiveName(step)
		}
		path += "/" + archiveName(listed.Name)
		if listed.Kind == store.KindFolder {
			err = p.folder(path, listed.Entry)
		} else {
			err = p.file(ctx, located.Store, listed.Ref(store.Folder{Path: folder.Path + listed.Below}), listed.Entry, path)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// archiveName is a name that no program that unpacks takes for a step, or for a drive, and
// that does nothing to the terminal which it lists it at.
func archiveName(name string) string {
	switch name {
	case "":
		return "%"
	case ".", "..":
		return strings.ReplaceAll(name, ".", "%2E")
	}
	var escaped strings.Builder
	for i, c := range []byte(name) {
		drive := c == ':' && i == 1 && unicode.IsLetter(rune(name[0]))
		if c == '/' || c == '\\' || c < ' ' || c == 0x7f || drive {
			fmt.Fprintf(&escaped, "%%%02X", c)
		} else {
			escaped.WriteByte(c)
		}
	}
	return escaped.String()
}

func (p *packer) folder(path string, entry store.Entry) error {
	_, err := p.zip.CreateHeader(&zip.FileHeader{Name: path + "/", Modified: entry.Modified})
	return err
}

func (p *packer) file(ctx context.Context, s store.Store, place store.Ref, entry store.Entry, path string) error {
	if entry.Kind != store.KindFile {
		return nil // a link, a socket, a document: it has no bytes
	}
	body, err := s.Open(ctx, store.Reading{Place: place, Revision: entry.Revision})
	if err != nil {
		return err
	}
	return p.pack(body, path, entry)
}

// pack adds a body as a file, and closes it.
func (p *packer) pack(body io.ReadCloser, path string, entry store.Entry) error {
	defer body.Close()
	w, err := p.zip.CreateHeader(&zip.FileHeader{Name: path, Modified: entry.Modified, Method: zip.Store})
	if err != nil {
		return err
	}
	_, err = io.Copy(w, store.NewStream(body, "", p.transfer.Add))
	return err
}

func disposition(name string) string {
	return "attachment; filename*=UTF-8''" + url.PathEscape(strings.ToValidUTF8(strings.ReplaceAll(name, "/", "_"), "_"))
}
