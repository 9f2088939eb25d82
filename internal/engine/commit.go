package engine

// This file is about the end of a transaction: what was sent may go through although the
// run was stopped, or the connection was lost, before its answer came.

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// EndWait is how long the answer to a COMMIT is waited for after the run was stopped.
const EndWait = 8 * time.Second

// End runs f, which ends a transaction, to its end also where ctx is done: what was sent
// may have gone through. Where no answer comes, the error wraps ErrLost.
func End(ctx context.Context, f func(ctx context.Context) error) error {
	end, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	ended := make(chan struct{})
	defer close(ended)
	go func() {
		select {
		case <-ended:
			return
		case <-ctx.Done():
		}
		select {
		case <-ended:
		case <-time.After(EndWait):
			stop()
		}
	}()
	err := f(end)
	if err != nil && end.Err() != nil && !errors.Is(err, ErrLost) {
		return fmt.Errorf("%w: the server did not answer the COMMIT", ErrLost)
	}
	return err
}
