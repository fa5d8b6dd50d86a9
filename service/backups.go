package service

import (
	"deftheron/core/store"
	"deftheron/core/tree"
	"deftheron/service/backup"
)

// openBackups prepares backups of the service itself, by hand and by a schedule.
func (s *Service) openBackups(all *tree.Tree, scratch, instance string) {
	s.fence = &backup.Fence{DB: s.db, Tree: all, Instance: instance, Log: s.options.Log, TakeOver: s.options.TakeOver}
	s.backups = &backup.Scheduler{
		Source: backup.Source{DB: s.db, Dir: s.options.Data, KeyFile: s.options.KeyFile, Scratch: scratch, Program: s.options.Version},
		Tree:   all, Instance: instance, Log: s.options.Log, Track: s.runner.TrackUpload,
		Changed: func(folder store.Address) {
			s.recent.Forget(folder.Account)
			if s.index != nil {
				s.index.Touched(folder)
			}
		},
	}
}
