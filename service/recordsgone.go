package service

import (
	"context"
	"time"

	"deftheron/core/retry"
)

// recordsEvery is the interval of the checks that the records are still at their place.
const recordsEvery = 2 * time.Second

// recordsGone tells when the records are not at their place any more.
func (s *Service) recordsGone(ctx context.Context) <-chan error {
	gone := make(chan error, 1)
	go func() {
		for retry.Sleep(ctx, recordsEvery) == nil {
			if err := s.db.Check(); err != nil {
				gone <- err
				return
			}
		}
	}()
	return gone
}
