package service

import (
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/core/view"
	"deftheron/service/accounts"
	"deftheron/service/annotations"
	"deftheron/service/live"
)

// openAnnotations has tags, comments and locks kept, and every change of an account held to
// the locks in it.
func (s *Service) openAnnotations(linked *accounts.Accounts, all *tree.Tree) {
	s.annotations = annotations.New(s.db, all, s.options.Log)
	s.annotations.AccountID = linked.ID
	s.annotations.UserOf = accounts.UserOf
	s.annotations.Changed = func(folder store.Address) { s.hub.Publish(live.Folder, folder.String()) }
	s.annotations.Unlocked = s.runner.Unlocked
	linked.Watcher = func(id string) view.Watcher { return s.annotations.Watcher(id) }
	s.runner.Annotations = s.annotations
}
