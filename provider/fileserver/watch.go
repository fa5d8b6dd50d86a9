package fileserver

import (
	"context"
	"sync"
	"time"
)

// patience is how long a call that nobody waits for any more may go on before its
// connection is cut.
const patience = 2 * time.Second

// Watch calls cut a while after ctx is over, unless the function that it returns is
// called before: protocol libraries cannot be told to give a call up, and what a
// call of one breaks off in the middle, others may share.
func Watch(ctx context.Context, cut func()) (stop func()) {
	ended := make(chan struct{})
	unwatch := context.AfterFunc(ctx, func() {
		timer := time.NewTimer(patience)
		defer timer.Stop()
		select {
		case <-ended:
		case <-timer.C:
			cut()
		}
	})
	return sync.OnceFunc(func() {
		unwatch()
		close(ended)
	})
}
