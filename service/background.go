package service

import (
	"context"
	"runtime/debug"
	"sync"
	"time"
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
	background.Go(func() { s.giveMemoryBack(watching) })
	return background
}

// giveMemoryBack gives the system back what runs have taken, a few seconds after the last has ended.
func (s *Service) giveMemoryBack(watching context.Context) {
	const every = 3 * time.Second
	ticker := time.NewTicker(every)
	defer ticker.Stop()
	moved := false
	for {
		select {
		case <-watching.Done():
			return
		case <-ticker.C:
		}
		moves := s.runner.Moving()
		if moved && !moves {
			debug.FreeOSMemory()
		}
		moved = moves
	}
}
