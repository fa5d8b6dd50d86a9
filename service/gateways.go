package service

import (
	"strings"
	"time"

	"deftheron/core/tree"
	"deftheron/service/accounts"
	"deftheron/service/gateway"
)

// openGateway makes what serves the tree as WebDAV.
func (s *Service) openGateway(linked *accounts.Accounts, scratch string) {
	all := &tree.Tree{Accounts: gateway.Files(linked)}
	_, public, _ := strings.Cut(s.options.PublicURL, "://")
	s.gateway = &gateway.Gateway{PublicHost: public,
		Tree: all, Recent: &tree.Recent{Tree: all, Context: s.ctx, Noticed: linked.Noticed}, DB: s.db, Log: s.options.Log, Scratch: scratch,
		Now: time.Now,
	}
}

// forget has all listings of an account forgotten.
func (s *Service) forget(account string) {
	s.recent.Forget(account)
	if s.gateway != nil {
		s.gateway.Recent.Forget(account)
	}
}
