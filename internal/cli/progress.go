package cli

// This file shows how far a run is that copies or fills many rows, with the rate and the
// time left, and whom it waits for. The bar is drawn at a terminal alone, on standard
// error, and is gone when the copy is through.

import (
	"time"

	"github.com/schollz/progressbar/v3"

	"erbario/internal/engine"
)

// progress is the bar of the table that is being copied.
type progress struct {
	bar   *progressbar.ProgressBar
	table string
	show  func(engine.Progress) // nil where nobody looks
}

// watch shows the progress of what is done to a database until it ends.
func (a *app) watch(l *live) *progress {
	p := &progress{}
	if a.json {
		return p
	}
	if w, ok := engine.As[engine.Waiter](l.db); ok {
		w.OnWait(func(who string) {
			p.end()
			a.err.line(a.err.paint(styleWarn, "waits for ") + clean(who))
		})
	}
	if !isTerminal(a.err.w) {
		return p
	}
	p.show = func(s engine.Progress) {
		if p.table != s.Table {
			p.end()
			p.table = s.Table
			p.bar = progressbar.NewOptions64(
				s.Total,
				progressbar.OptionSetWriter(a.err.w),
				progressbar.OptionSetDescription("rows of "+cell(s.Table)),
				progressbar.OptionSetWidth(24),
				progressbar.OptionShowCount(),
				progressbar.OptionShowIts(),
				progressbar.OptionSetItsString("rows"),
				progressbar.OptionSetPredictTime(true),
				progressbar.OptionClearOnFinish(),
				progressbar.OptionSetTheme(
					progressbar.Theme{Saucer: "=", SaucerHead: ">", SaucerPadding: " ", BarStart: "[", BarEnd: "]"},
				),
			)
		}
		p.bar.Set64(s.Done)
		if s.Done >= s.Total {
			p.end()
		}
	}
	if r, ok := engine.As[engine.Reporter](l.db); ok {
		r.OnProgress(p.show)
	}
	return p
}

// counting shows how many of some things are done, at a terminal, once there are many; end takes it
// away.
func (a *app) counting(what string) (show func(done, all int), end func()) {
	const many = 200
	if a.json || !isTerminal(a.err.w) {
		return nil, func() {}
	}
	var bar *progressbar.ProgressBar
	show = func(done, all int) {
		if all < many {
			return
		}
		if bar == nil {
			bar = progressbar.NewOptions(all, progressbar.OptionSetWriter(a.err.w),
				progressbar.OptionSetDescription(what), progressbar.OptionSetWidth(24),
				progressbar.OptionShowCount(), progressbar.OptionClearOnFinish(),
				progressbar.OptionSetTheme(
					progressbar.Theme{Saucer: "=", SaucerHead: ">", SaucerPadding: " ", BarStart: "[", BarEnd: "]"},
				))
		}
		bar.Set(done)
	}
	return show, func() {
		if bar != nil {
			bar.Clear()
			bar.Exit()
		}
	}
}

// end takes the bar off the terminal.
func (p *progress) end() {
	if p.bar != nil {
		p.bar.Clear()
		p.bar.Exit()
	}
	p.bar, p.table = nil, ""
}

// slow says what a run is at, once a second has passed in which nothing else was said. done
// is called when that is over.
func (a *app) slow(what string) (done func()) {
	if a.json || !isTerminal(a.err.w) {
		return func() {}
	}
	timer := time.AfterFunc(time.Second, func() { a.err.line(a.err.paint(styleDim, what)) })
	return func() { timer.Stop() }
}
