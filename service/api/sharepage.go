package api

import (
	"context"
	"crypto/rand"
	"errors"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/content"
	"deftheron/service/records"
	"deftheron/service/runner"
	"deftheron/service/share"
)

// Who opens a share link has no account: each request is bounded in how many there are at
// once, over all and of one link, and how long it may take; failed ones are slowed down.
const (
	mostShareRequests     = 128
	mostShareRequestsEach = 32
	shareTime             = 6 * time.Hour
	mostShareEntries      = 1000
	shareCookie           = "heron_share_"
)

// shareTurns counts the requests of share links.
type shareTurns struct {
	mu   sync.Mutex
	all  int
	each map[string]int
}

func (t *shareTurns) take(link string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.each == nil {
		t.each = map[string]int{}
	}
	if t.all >= mostShareRequests || t.each[link] >= mostShareRequestsEach {
		return false
	}
	t.all++
	t.each[link]++
	return true
}

func (t *shareTurns) give(link string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.all--
	if t.each[link]--; t.each[link] == 0 {
		delete(t.each, link)
	}
}

// opening is a request by a share link.
type opening struct {
	c    *gin.Context
	ctx  context.Context
	link *share.Link
	row  records.ShareLink
	root store.Address
	from string
}

func (s *Server) sharePolicy(nonce string) string {
	return "default-src 'none'; style-src 'nonce-" + nonce + "'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
}

// shared answers a request of a share link.
func (s *Server) shared(c *gin.Context) {
	header := c.Writer.Header()
	header.Set("Cache-Control", "no-store")
	header.Set("X-Robots-Tag", "noindex")
	header.Set("Referrer-Policy", "same-origin") // browsers say no origin of a form without
	from := visitorOf(c.Request).From
	if !s.sameOrigin(c.Request) {
		s.sharePage(c, http.StatusForbidden, share.Page{Title: "Not allowed", Say: "The request comes from a page elsewhere.", Failed: true})
		return
	}
	link, err := s.Shares.Find(c.Request.Context(), c.Param("token"), s.Access.Now())
	if err != nil {
		s.noLink(c, from, err)
		return
	}
	row := link.Row()
	if !s.shareTurns.take(row.ID) {
		header.Set("Retry-After", "5")
		s.sharePage(c, http.StatusTooManyRequests, share.Page{Title: "Busy", Say: "Too many people use this link now. Try again in a minute.",
			Failed: true})
		return
	}
	defer s.shareTurns.give(row.ID)
	ctx, cancel := context.WithTimeout(c.Request.Context(), shareTime)
	defer cancel()
	o := &opening{c: c, link: link, row: row, from: from}
	if err := s.scopeOfLink(ctx, o); err != nil {
		s.noLink(c, from, err)
		return
	}
	defer s.endWithLink(o, cancel)()
	cookie, _ := c.Request.Cookie(shareCookie + row.ID)
	open := cookie != nil && link.Opened(cookie.Value, s.Access.Now())
	if !open && link.NeedsPassword() {
		s.unlock(o)
		return
	}
	if !open && !s.countOpening(o) {
		return
	}
	switch {
	case c.Request.Method == http.MethodPost:
		s.dropOff(o)
	case row.Mode == share.DropOff:
		s.sharePage(c, http.StatusOK, s.dropPage(o))
	default:
		s.showShared(o)
	}
}

// scopeOfLink gives a request the present grants of the link's maker, and finds the shared entry.
// The error is share.ErrNone if it is not available any more.
func (s *Server) scopeOfLink(ctx context.Context, o *opening) error {
	scope, err := s.Access.ScopeOf(ctx, o.row.User)
	if err != nil {
		return err
	}
	ctx = runner.WithOwner(tree.WithScope(ctx, scope), o.row.User)
	ctx = context.WithValue(ctx, visitorKey{}, visitorOf(o.c.Request))
	if o.root, err = store.ParseAddress(o.row.Address); err != nil {
		return err
	}
	id, err := s.Accounts.ID(ctx, o.root.Account)
	if err != nil || id != o.row.Link || tree.CheckSeen(ctx, o.root) != nil {
		return share.ErrNone
	}
	o.ctx = ctx
	o.c.Request = o.c.Request.WithContext(ctx)
	return nil
}

// endWithLink ends a request when its link is revoked meanwhile.
func (s *Server) endWithLink(o *opening, cancel context.CancelFunc) func() {
	done := make(chan struct{})
	go func() {
		ticker := time.NewTicker(time.Second)
		defer ticker.Stop()
		for {
			select {
			case <-done:
				return
			case <-o.ctx.Done():
				return
			case <-ticker.C:
				if !o.link.Good(s.Access.Now()) {
					cancel()
					return
				}
			}
		}
	}()
	return func() { close(done) }
}

// noLink answers that there is no link, with a delay if links are being guessed.
func (s *Server) noLink(c *gin.Context, from string, err error) {
	if !errors.Is(err, share.ErrNone) {
		s.Log.ErrorContext(c.Request.Context(), "a share link could not be looked up", "error", err)
	} else if _, ok := s.Access.Failed(c.Request.Context(), "link "+from, ""); !ok {
		c.Header("Retry-After", "60")
		s.sharePage(c, http.StatusTooManyRequests, share.Page{Title: "Too many attempts", Say: "Try again in a minute.", Failed: true})
		return
	}
	s.sharePage(c, http.StatusNotFound, share.Page{Title: "Not found",
		Say: "This link does not exist, or is not good any more. Ask who sent it for another.", Failed: true})
}

// sharePage writes a page.
func (s *Server) sharePage(c *gin.Context, status int, page share.Page) {
	page.Nonce = rand.Text()
	c.Header("Content-Security-Policy", s.sharePolicy(page.Nonce))
	c.Header("Content-Type", "text/html; charset=utf-8")
	c.Status(status)
	if err := page.Write(c.Writer); err != nil {
		s.Log.DebugContext(c.Request.Context(), "a page of a share link broke off", "error", err)
	}
}

// unlock asks for the password of a link, or compares one.
func (s *Server) unlock(o *opening) {
	page := share.Page{Title: o.root.Name(), Locked: true}
	if o.c.Request.Method != http.MethodPost || !strings.HasPrefix(o.c.GetHeader("Content-Type"), "application/x-www-form-urlencoded") {
		page.Title = "This link has a password"
		s.sharePage(o.c, http.StatusUnauthorized, page)
		return
	}
	o.c.Request.Body = http.MaxBytesReader(o.c.Writer, o.c.Request.Body, 8<<10)
	err := s.Shares.Unlock(o.link, o.c.PostForm("password"))
	if err != nil {
		s.Shares.Note(o.link, records.ShareUse{At: s.Access.Now().UTC(), From: o.from, Client: visitorOf(o.c.Request).Client, What: "refused"})
		status := http.StatusUnauthorized
		if _, ok := s.Access.Failed(o.ctx, "link "+o.from, "link "+o.row.ID); !ok {
			status = http.StatusTooManyRequests
		}
		page.Title, page.Say, page.Failed = "This link has a password", "The password is not right.", true
		s.sharePage(o.c, status, page)
		return
	}
	if s.countOpening(o) {
		o.c.Redirect(http.StatusSeeOther, o.c.Request.URL.Path)
	}
}

// countOpening counts a use, unless there is none left.
func (s *Server) countOpening(o *opening) bool {
	cookie, err := s.Shares.Open(o.ctx, o.link, s.Access.Now())
	if err != nil {
		s.noLink(o.c, o.from, err)
		return false
	}
	s.Shares.Note(o.link, records.ShareUse{At: s.Access.Now().UTC(), From: o.from, Client: visitorOf(o.c.Request).Client, What: "opened"})
	// Lax, as people come from the mail that has the link; forms are held to their origin.
	http.SetCookie(o.c.Writer, &http.Cookie{Name: shareCookie + o.row.ID, Value: cookie, Path: SharePath, HttpOnly: true, Secure: s.Secure,
		SameSite: http.SameSiteLaxMode, MaxAge: int((24 * time.Hour).Seconds())})
	return true
}

// showShared answers with the entry at an address below the shared one.
func (s *Server) showShared(o *opening) {
	address, ok := o.below(o.c.Query("at"))
	if !ok {
		s.sharePage(o.c, http.StatusNotFound, share.Page{Title: "Not found", Say: "There is no such file here.", Failed: true})
		return
	}
	node, located, err := s.nodeAt(o.ctx, address)
	if err != nil {
		s.shareFailed(o, err)
		return
	}
	do := o.c.Query("do")
	download := o.row.Mode == share.Download
	switch {
	case do == "zip" && download && node.Kind == store.KindFolder:
		s.note(o, "archive", node.Name, 0)
		s.sendArchive(o.c, []tree.Node{node}, []tree.Located{located})
	case node.Kind == store.KindFolder:
		s.listShared(o, address, node)
	case do == "download" && download, do == "view":
		s.sendShared(o, node, located, do == "download")
	default:
		s.sharePage(o.c, http.StatusOK, s.filePage(o, node))
	}
}

func (s *Server) nodeAt(ctx context.Context, address store.Address) (tree.Node, tree.Located, error) {
	located, err := s.Tree.Locate(ctx, address)
	if err != nil {
		return tree.Node{}, located, err
	}
	node, err := s.Tree.Stat(ctx, address)
	return node, located, err
}

func (s *Server) listShared(o *opening, address store.Address, node tree.Node) {
	page := share.Page{Title: node.Name, Folder: true, Expires: o.row.ExpiresAt}
	if len(address.Steps) > len(o.root.Steps) {
		page.Up = o.url("", "")
		if parent := address.Parent(); len(parent.Steps) > len(o.root.Steps) {
			page.Up = o.url(o.pathOf(parent), "")
		}
	}
	at := ""
	if len(address.Steps) > len(o.root.Steps) {
		at = o.pathOf(address)
	}
	if o.row.Mode == share.Download {
		page.Archive = o.url(at, "zip")
	}
	for child, err := range s.Tree.List(o.ctx, address) {
		if err != nil {
			s.shareFailed(o, err)
			return
		}
		if len(page.Entries) == mostShareEntries {
			page.More = true
			break
		}
		if last := child.Address.Steps[len(child.Address.Steps)-1]; last.ID != "" {
			continue // of two entries of one name, neither can be told apart here
		}
		page.Entries = append(page.Entries, s.shareEntry(o, child))
	}
	s.sharePage(o.c, http.StatusOK, page)
}

func (s *Server) shareEntry(o *opening, node tree.Node) share.Entry {
	path := o.pathOf(node.Address)
	entry := share.Entry{Name: node.Name, Folder: node.Kind == store.KindFolder, Size: node.Size, Modified: node.Modified}
	_, shows := content.TypeOf(node.Name)
	switch {
	case entry.Folder:
		entry.Open = o.url(path, "")
	case node.Kind == store.KindFile && shows, node.Kind == store.KindDocument && len(node.Exports) > 0:
		entry.Open = o.url(path, "view")
	}
	if o.row.Mode == share.Download && (node.Kind == store.KindFile || len(node.Exports) > 0) {
		entry.Download = o.url(path, "download")
	}
	return entry
}

// filePage is the page of a single file.
func (s *Server) filePage(o *opening, node tree.Node) share.Page {
	entry := share.Entry{Name: node.Name, Size: node.Size, Modified: node.Modified}
	at := o.c.Query("at")
	_, shows := content.TypeOf(node.Name)
	if shows || len(node.Exports) > 0 {
		entry.Open = o.url(at, "view")
	}
	if o.row.Mode == share.Download {
		entry.Download = o.url(at, "download")
	}
	page := share.Page{Title: node.Name, Entries: []share.Entry{entry}, Expires: o.row.ExpiresAt}
	if entry.Open == "" && entry.Download == "" {
		page.Say, page.Failed = "Files of this kind cannot be shown in a browser, and the link does not allow downloads.", true
	}
	return page
}

// sendShared sends a file.
func (s *Server) sendShared(o *opening, node tree.Node, located tree.Located, download bool) {
	if _, shows := content.TypeOf(node.Name); !shows && !download && node.Kind != store.KindDocument {
		s.sharePage(o.c, http.StatusForbidden, s.filePage(o, node))
		return
	}
	s.note(o, "download", node.Name, max(0, node.Size))
	if node.Kind == store.KindDocument {
		s.readExport(o.c, node, located)
		return
	}
	s.sendFile(o.c, node, located, download)
}

func (s *Server) note(o *opening, what, name string, bytes int64) {
	s.Shares.Note(o.link, records.ShareUse{At: s.Access.Now().UTC(), From: o.from, Client: visitorOf(o.c.Request).Client, What: what,
		Name: name, Bytes: bytes})
	// In the audit log it is of nobody by name: whoever has the link.
	s.record(o.ctx, access.Event{Person: access.Person{Kind: access.KindShareLink, Token: o.row.ID}, Action: "share-link-" + what,
		Subject: strings.TrimSpace(o.root.String() + " " + name), Outcome: "done", Coalesced: what != "upload"})
}

// shareFailed answers only that the shared entry is not available now.
func (s *Server) shareFailed(o *opening, err error) {
	if store.KindOf(err) == store.ErrNotFound {
		s.sharePage(o.c, http.StatusNotFound, share.Page{Title: "Not found",
			Say: "What was shared here is not there any more. Ask who sent the link.", Failed: true})
		return
	}
	s.Log.Info("what a share link shares could not be read", "link", o.row.ID, "error", err)
	s.sharePage(o.c, http.StatusServiceUnavailable, share.Page{Title: "Not reachable",
		Say: "What was shared here cannot be reached now. Try again later.", Failed: true})
}
