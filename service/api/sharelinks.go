package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"deftheron/contract"
	"deftheron/core/bandwidth"
	"deftheron/core/job"
	"deftheron/core/remedy"
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/access"
	"deftheron/service/messages"
	"deftheron/service/records"
	"deftheron/service/share"
)

func (s *Server) registerShareLinks(api huma.API) {
	add(api, http.MethodGet, "/share-links", "list-share-links", "List share links: one's own, or all for an owner", http.StatusOK,
		s.listShareLinks)
	add(api, http.MethodPost, "/share-links", "make-share-link", "Make a link for somebody without an account", http.StatusCreated,
		s.makeShareLink)
	add(api, http.MethodGet, "/share-links/{id}", "show-share-link", "Show a share link and its latest uses", http.StatusOK, s.showShareLink)
	add(api, http.MethodDelete, "/share-links/{id}", "revoke-share-link", "End a share link at once", http.StatusNoContent, s.revokeShareLink)
	add(api, http.MethodGet, "/share-settings", "show-share-settings", "Show whether share links are switched on", http.StatusOK,
		s.shareSettings)
	add(api, http.MethodPut, "/share-settings", "set-share-settings", "Switch share links on or off", http.StatusOK, s.setShareSettings)
}

// SharePath is below which links open what they share.
const SharePath = "/s/"

// ShareLinkInput names a link.
type ShareLinkInput struct {
	ID string `path:"id" doc:"The link's id."`
}

func (s *Server) makeShareLink(ctx context.Context, in *body[contract.NewShareLink]) (*body[contract.MadeShareLink], error) {
	who, asked := person(ctx), in.Body
	making := share.Asked{Mode: asked.Mode, User: who.User, By: who.Name, Note: asked.Note, Password: asked.Password, MostUses: asked.MostUses}
	if making.Mode == "" {
		making.Mode = share.Download
	}
	address, err := store.ParseAddress(asked.Address)
	if err != nil {
		return nil, err
	}
	if address.IsRoot() {
		return nil, remedy.Errorf("/ is the root of all accounts and cannot be shared; choose a folder of one")
	}
	node, err := s.Tree.Stat(ctx, address)
	if err != nil {
		return nil, s.explain(ctx, address, err)
	}
	if err := tree.CheckSeen(ctx, address); err != nil {
		return nil, err
	}
	if making.Mode == share.DropOff {
		if node.Kind != store.KindFolder {
			return nil, remedy.Errorf("%s is not a folder; files can be sent to a folder only", address)
		}
		if err := tree.CheckChange(ctx, address); err != nil {
			return nil, err
		}
	}
	making.Address = address
	if making.Account, err = s.Accounts.ID(ctx, address.Account); err != nil {
		return nil, err
	}
	now := s.Access.Now()
	if asked.For != "" {
		before, err := job.ParseAge(asked.For, now)
		if err != nil {
			return nil, remedy.Errorf("%q is not a time for which a link is good; write it as 7d, 8w, 6mo or 1y", asked.For)
		}
		making.For = now.Sub(before)
	}
	for text, to := range map[string]*int64{asked.LargestFile: &making.LargestFile, asked.MostBytes: &making.MostBytes} {
		if text != "" {
			if *to, err = bandwidth.ParseSize(text); err != nil {
				return nil, err
			}
		}
	}
	row, token, err := s.Shares.Make(ctx, making, now)
	if err != nil {
		return nil, err
	}
	base := s.BaseURL
	if s.Public != "" {
		base = s.Public
	}
	return &body[contract.MadeShareLink]{contract.MadeShareLink{ShareLink: shownLink(row, now), URL: base + SharePath + token}}, nil
}

func shownLink(row records.ShareLink, now time.Time) contract.ShareLink {
	shown := contract.ShareLink{ID: row.ID, Address: row.Address, Mode: row.Mode, State: "active", By: row.By, Note: row.Note,
		Password: row.Password != "", Created: row.CreatedAt, Expires: row.ExpiresAt, MostUses: row.MostUses, LargestFile: row.LargestFile,
		MostBytes: row.MostBytes, Uses: row.Uses, Bytes: row.Bytes, Used: row.UsedAt}
	switch {
	case row.RevokedAt != nil:
		shown.State = "revoked"
	case row.ExpiresAt != nil && !now.Before(*row.ExpiresAt):
		shown.State = "expired"
	case row.MostUses > 0 && row.Uses >= row.MostUses:
		shown.State = "used-up"
	}
	return shown
}

func (s *Server) listShareLinks(ctx context.Context, _ *none) (*body[[]contract.ShareLink], error) {
	if err := s.Shares.Flush(ctx); err != nil {
		return nil, err
	}
	who := person(ctx)
	user := who.User
	if who.Role == access.Owner {
		user = ""
	}
	rows, err := s.DB.ShareLinks(ctx, user)
	shown := []contract.ShareLink{}
	for _, row := range rows {
		if s.seesLink(ctx, row) {
			shown = append(shown, shownLink(row, s.Access.Now()))
		}
	}
	return &body[[]contract.ShareLink]{shown}, err
}

// seesLink reports whether who asks may see a link: its maker and owners may, as far as they
// see what it shares.
func (s *Server) seesLink(ctx context.Context, row records.ShareLink) bool {
	who := person(ctx)
	address, err := store.ParseAddress(row.Address)
	return err == nil && (who.Role == access.Owner || who.User == row.User) && tree.Sees(ctx, address) == tree.Seen
}

// linkOfID returns a link that who asks may see.
func (s *Server) linkOfID(ctx context.Context, id string) (records.ShareLink, error) {
	row, err := s.DB.ShareLink(ctx, id)
	if err == nil && !s.seesLink(ctx, row) {
		err = records.ErrNotFound
	}
	if errors.Is(err, records.ErrNotFound) {
		err = messages.With(store.Errorf(store.ErrNotFound, "there is no share link %q; look at the list", id), "heron share list")
	}
	return row, err
}

func (s *Server) showShareLink(ctx context.Context, in *ShareLinkInput) (*body[contract.UsedShareLink], error) {
	if err := s.Shares.Flush(ctx); err != nil {
		return nil, err
	}
	row, err := s.linkOfID(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	uses, err := s.DB.ShareUses(ctx, row.ID)
	shown := contract.UsedShareLink{ShareLink: shownLink(row, s.Access.Now()), Latest: []contract.ShareUse{}}
	for _, use := range uses {
		shown.Latest = append(shown.Latest, contract.ShareUse{At: use.At, From: use.From, Client: use.Client, What: use.What, Name: use.Name,
			Times: use.Times, Bytes: use.Bytes})
	}
	return &body[contract.UsedShareLink]{shown}, err
}

func (s *Server) revokeShareLink(ctx context.Context, in *ShareLinkInput) (*none, error) {
	if _, err := s.linkOfID(ctx, in.ID); err != nil {
		return nil, err
	}
	return &none{}, s.Shares.Revoke(ctx, in.ID, s.Access.Now())
}

func (s *Server) shareSettings(ctx context.Context, _ *none) (*body[contract.ShareSettings], error) {
	on, err := s.Shares.Enabled(ctx)
	return &body[contract.ShareSettings]{contract.ShareSettings{Enabled: on}}, err
}

func (s *Server) setShareSettings(ctx context.Context, in *body[contract.ShareSettings]) (*body[contract.ShareSettings], error) {
	if err := s.Shares.Enable(ctx, in.Body.Enabled); err != nil {
		return nil, err
	}
	return s.shareSettings(ctx, nil)
}
