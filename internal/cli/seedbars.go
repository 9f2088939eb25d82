package cli

// This file shows how far a seed is: at a terminal a bar for each table, on
// standard error, which stay when they are full; elsewhere nothing, since the
// table at the end has a line for each.

import (
	"fmt"
	"time"

	prettybar "github.com/jedib0t/go-pretty/v6/progress"
	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/mattn/go-runewidth"

	"erbario/internal/engine"
)

// seedBars are the bars of a run.
type seedBars struct {
	writer prettybar.Writer
	bars   map[string]*prettybar.Tracker
	report func(engine.Progress)
}

func (a *app) watchSeed() *seedBars {
	b := &seedBars{bars: map[string]*prettybar.Tracker{}}
	if a.json || !isTerminal(a.err.w) {
		return b
	}
	w := prettybar.NewWriter()
	w.SetOutputWriter(a.err.w)
	w.SetAutoStop(false)
	w.SetTrackerLength(min(max(a.err.width()-68, 6), 24))
	w.SetUpdateFrequency(100 * time.Millisecond)
	w.SetSortBy(prettybar.SortByNone)
	w.SetTrackerPosition(prettybar.PositionRight)
	s := prettybar.StyleDefault
	s.Visibility.Percentage = true
	s.Visibility.Time = true
	s.Visibility.Value = false
	s.Visibility.ETA = true
	s.Visibility.Speed = true
	s.Visibility.SpeedOverall = false
	s.Visibility.TrackerOverall = false
	s.Options.Separator = "  "
	s.Options.DoneString = ""
	s.Options.PercentFormat = "%3.0f%%"
	s.Options.SpeedSuffix = " rows/s"
	s.Options.ETAPrecision = time.Second
	s.Options.ETAString = "left"
	s.Options.TimeDonePrecision = 10 * time.Millisecond
	s.Options.TimeInProgressPrecision = time.Second
	s.Chars = prettybar.StyleChars{
		BoxLeft:    "[",
		BoxRight:   "]",
		Finished:   "=",
		Finished25: " ",
		Finished50: " ",
		Finished75: " ",
		Unfinished: " ",
	}
	if a.err.colour {
		s.Colors = prettybar.StyleColors{
			Message: text.Colors{text.Bold},
			Speed:   text.Colors{text.Faint},
			Time:    text.Colors{text.Faint},
		}
	}
	w.SetStyle(s)
	b.writer = w
	go w.Render()
	// All tables are told before the first row, so that their names and numbers line
	// up; a table with nothing to make has no bar.
	var list []engine.Progress
	b.report = func(p engine.Progress) {
		switch {
		case p.Total == 0:
		case p.Done == 0:
			list = append(list, p)
		default:
			b.show(w, list)
			list = nil
			t := b.bars[p.Table]
			if !t.IsStarted() {
				t.Start()
			}
			t.SetValue(p.Done)
			if p.Done >= p.Total {
				t.MarkAsDone()
			}
		}
	}
	return b
}

// show adds a bar for each table.
func (b *seedBars) show(w prettybar.Writer, list []engine.Progress) {
	name, total := 0, 0
	for _, p := range list {
		name, total = max(name, runewidth.StringWidth(cell(p.Table))), max(total, len(thousands(p.Total)))
	}
	for _, p := range list {
		t := &prettybar.Tracker{
			Message:    fmt.Sprintf("%s  %*s rows", runewidth.FillRight(cell(p.Table), name), total, thousands(p.Total)),
			Total:      p.Total,
			Units:      prettybar.Units{Formatter: thousands},
			DeferStart: true,
		}
		b.bars[p.Table] = t
		w.AppendTracker(t)
	}
}

// end draws the bars a last time.
func (b *seedBars) end() {
	if b.writer == nil {
		return
	}
	b.writer.Stop()
	for b.writer.IsRenderInProgress() {
		time.Sleep(5 * time.Millisecond)
	}
}
