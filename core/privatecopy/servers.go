package privatecopy

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// server is a program that runs in the copy until the copy is closed.
type server struct {
	ended chan struct{}
	err   error // why it ended
}

// start starts a program that goes on until the copy is closed.
func (b *bringing) start(ctx context.Context, program string, args ...string) *server {
	s := &server{ended: make(chan struct{})}
	b.servers = append(b.servers, s)
	go func() {
		defer close(s.ended)
		_, s.err = b.host.Run(context.WithoutCancel(ctx), program, args...)
	}()
	return s
}

// between is how long is waited between two questions whether a server answers.
const between = 20 * time.Millisecond

// until asks until the answer is nil, or the server or the context has ended.
func (s *server) until(ctx context.Context, clock interface {
	Wait(context.Context, time.Duration) error
}, name string, answers func() error) error {
	for {
		err := answers()
		if err == nil {
			return nil
		}
		select {
		case <-s.ended:
			return fmt.Errorf("%s of the copy ended: %w", name, errors.Join(s.err, ctx.Err()))
		default:
		}
		if ended := clock.Wait(ctx, between); ended != nil {
			return fmt.Errorf("%s of the copy did not answer (%v): %w", name, err, ended)
		}
	}
}
