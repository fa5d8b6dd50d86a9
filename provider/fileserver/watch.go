package fileserver

import (
	"context"
	"sync"
	"time"
)

// patience is how long a cancelled call may go on before its connection is closed.
const patience = 2 * time.Second

// Watch calls cut some time after ctx has ended, unless stop is called before. Protocol
// libraries cannot cancel a call, and other calls may share the connection that cut
// closes.
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
