package cli

// This file shows how far a seed is: at a terminal a bar for each table, on
// standard error, which stay when they are full; elsewhere nothing, since the
// table at the end has a line for each.

import (
	"time"

	prettybar "github.com/jedib0t/go-pretty/v6/progress"
	"github.com/jedib0t/go-pretty/v6/text"

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
	w.SetTrackerLength(24)
	w.SetUpdateFrequency(100 * time.Millisecond)
	w.SetSortBy(prettybar.SortByNone)
	w.SetTrackerPosition(prettybar.PositionRight)
	w.SetNumTrackersExpected(0)
	s := prettybar.StyleDefault
	s.Visibility.Percentage = true
	s.Visibility.Time = false
	s.Visibility.ETA = true
	s.Visibility.Speed = true
	s.Visibility.SpeedOverall = false
	s.Visibility.TrackerOverall = false
	s.Options.Separator = "  "
	s.Options.DoneString = ""
	s.Options.PercentFormat = "%3.0f%%"
	s.Options.SpeedSuffix = " rows/s"
	s.Options.ETAPrecision = time.Second
	s.Options.TimeDonePrecision = 10 * time.Millisecond
	s.Chars = prettybar.StyleChars{BoxLeft: "[", BoxRight: "]", Finished: "=", Finished25: " ", Finished50: " ", Finished75: " ", Unfinished: " "}
	if a.err.colour {
		s.Colors = prettybar.StyleColors{Message: text.Colors{text.Bold}, Speed: text.Colors{text.Faint}, Time: text.Colors{text.Faint}}
	}
	w.SetStyle(s)
	b.writer = w
	go w.Render()
	b.report = func(p engine.Progress) {
		t := b.bars[p.Table]
		if t == nil {
			t = &prettybar.Tracker{Message: cell(p.Table), Total: p.Total, Units: prettybar.Units{Formatter: thousands}}
			b.bars[p.Table] = t
			w.AppendTracker(t)
		}
		t.SetValue(p.Done)
		if p.Done >= p.Total {
			t.MarkAsDone()
		}
	}
	return b
}

// end draws the bars a last time.
func (b *seedBars) end() {
	if b.writer == nil {
		return
	}
	for b.writer.IsRenderInProgress() && b.writer.LengthActive() > 0 && len(b.bars) == 0 {
		break
	}
	b.writer.Stop()
	for b.writer.IsRenderInProgress() {
		time.Sleep(5 * time.Millisecond)
	}
}
