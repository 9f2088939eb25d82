// Package waiting tells for whom a statement waits: while the one connection is kept
// waiting, a second one looks who holds what it waits for. How it looks is the engine's own:
//
//	w := waiting.Watch{First: 50 * time.Millisecond}
//	w.Report = func(who string) { fmt.Println("waits for", who) }
//	err := w.Run(ctx, look, func() error { return conn.Exec(ctx, "ALTER TABLE …") })
package waiting

import (
	"context"
	"errors"
	"fmt"
	"time"

	"erbario/internal/engine"
)

// After is how long a statement is kept waiting before that is reported; the same session
// is reported again after Again.
const (
	After = time.Second
	Again = 30 * time.Second
)

// TrackIntegrity is what is known of those for whom the statements of a connection wait.
type Watch struct {
	First  time.Duration    // nobody looks before: most statements are through
	Report func(who string) // is told; nil: nobody is

	who    string    // for whom the statement at hand waits
	since  time.Time // when the first of the tries began that had to wait
	told   string    // of whom the last report was
	toldAt time.Time
}

// Run runs a statement, and reports for whom it waits, if for anybody; so does its error
// where it waited too long. look gives that in words, "" for nobody; key is the same for the
// same session.
func (w *Watch) Run(ctx context.Context, look func(context.Context) (who, key string), run func() error) error {
	w.who = ""
	looking, stop := context.WithCancel(ctx)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for pause := w.First; ; pause = min(2*pause, After) {
			select {
			case <-looking.Done():
				return
			case <-time.After(pause):
			}
			if who, key := look(looking); who != "" {
				w.OnProgress(who, key)
			}
		}
	}()
	err := run()
	stop()
	<-ended
	if err == nil {
		w.since = time.Time{}
	} else if errors.Is(err, engine.ErrBusy) && w.who != "" {
		return fmt.Errorf("the database %w: %s", engine.ErrBusy, w.who)
	}
	return err
}

// OnProgress notes for whom the statement waits, and reports it when that has gone on.
func (w *Watch) OnProgress(who, key string) {
	w.who = who
	now := time.Now()
	if w.since.IsZero() {
		w.since = now
	}
	if w.Report == nil || now.Sub(w.since) < After || key == w.told && now.Sub(w.toldAt) < Again {
		return
	}
	w.told, w.toldAt = key, now
	w.Report(who)
}
