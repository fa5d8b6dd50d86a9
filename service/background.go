package service

import (
	"context"
	"sync"
)

// inBackground begins what goes on beside the answers to requests, until the context ends.
func (s *Service) inBackground(watching context.Context) *sync.WaitGroup {
	background := &sync.WaitGroup{}
	background.Go(func() { s.hub.Watch(watching, s.runner) })
	background.Go(func() { s.linked.Watch(watching) })
	background.Go(func() { s.keepIndex(watching) })
	background.Go(func() { s.shares.Run(watching) })
	background.Go(func() { s.annotations.Run(watching) })
	background.Go(func() { s.backups.Run(watching) })
	background.Go(func() { s.linked.KeepUsage(watching) })
	background.Go(func() { s.runner.Tidy(watching) })
	background.Go(func() { s.runner.KeepRehearsals(watching) })
	background.Go(func() { s.notifications.Run(watching) })
	background.Go(func() { s.audit.Run(watching, s.options.KeepAudit) })
	return background
}
