package api

import (
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/contract"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/content"
	"deftheron/service/preview"
)

// previewSizes are the sizes that a preview can be asked for in.
var previewSizes = map[string]int{"": preview.Small, "small": preview.Small, "large": preview.Large}

// readPreview answers with a small picture of a file.
func (s *Server) readPreview(c *gin.Context) {
	size, ok := previewSizes[c.Query("size")]
	if !ok {
		refuse(c, problem(store.Errorf(store.ErrRefused, "%q is not a size of previews; use small or large", c.Query("size"))))
		return
	}
	ctx := c.Request.Context()
	node, located, err := s.fileAt(ctx, c.Query("address"), c.Query("at"))
	if err != nil {
		refuse(c, problem(err))
		return
	}
	link, err := s.Accounts.ID(ctx, located.Name)
	if err != nil {
		refuse(c, problem(err))
		return
	}
	at, err := s.Previews.Make(ctx, preview.Key{
		Account: located.Name, Link: link, Place: located.Place.String(), Revision: revisionOf(node), Size: size,
	}, node.Name, node.Size, func(ctx context.Context) (io.ReadCloser, error) {
		return located.Store.Open(ctx, store.Reading{Place: located.Place, Revision: node.Revision})
	})
	switch {
	case errors.Is(err, preview.ErrNone):
		refuse(c, &contract.Problem{Status: http.StatusNotFound, Cause: contract.CauseNoPreview, Detail: contract.Sentence(err.Error()),
			Remedy: "Download the file to open it with a program."})
		return
	case err != nil:
		refuse(c, problem(err))
		return
	}
	file, err := os.Open(at)
	if err != nil {
		refuse(c, problem(err))
		return
	}
	defer file.Close()
	header := c.Writer.Header()
	header.Set("Content-Security-Policy", content.Policy)
	header.Set("Cache-Control", "private, max-age=3600")
	header.Set("ETag", contract.EntityTag(revisionOf(node)+strconv.Itoa(size)))
	http.ServeContent(c.Writer, c.Request, "", time.Time{}, file) // the type is found in the content: PNG or JPEG
}

// revisionOf is the revision of a file, or what stands for it where its account has none.
func revisionOf(node tree.Node) string {
	if node.Revision != "" {
		return node.Revision
	}
	return strconv.FormatInt(node.Size, 10) + " " + strconv.FormatInt(node.Modified.UnixNano(), 10)
}
