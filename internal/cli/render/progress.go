package render

import (
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"yellowfield/internal/figures"
	"yellowfield/internal/load"
)

// Progress shows how far an import is: a bar on a terminal, else a line now
// and then. Done must be called before anything else is written.
type Progress struct {
	mutex  sync.Mutex // an import tells from several goroutines
	screen *Screen
	name   string
	bars   *mpb.Progress
	bar    *mpb.Bar
	// latest is read by the bar's own goroutine.
	latest atomic.Pointer[load.Progress]
	spoken time.Time
}

const (
	// showAfter keeps a bar from flickering up during short imports.
	showAfter  = 400 * time.Millisecond
	lineEvery  = 10 * time.Second
	refreshing = 150 * time.Millisecond
)

// NewProgress shows progress on the screen's standard error.
func NewProgress(s *Screen) *Progress { return &Progress{screen: s} }

// Update tells the newest state.
func (p *Progress) Update(now load.Progress) {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	if p.name != now.Name {
		p.done()
		p.name, p.spoken = now.Name, time.Now()
	}
	p.latest.Store(&now)
	switch {
	case now.Elapsed < showAfter:
	case p.screen.terminal:
		if p.bar == nil {
			p.begin()
		}
		p.bar.SetCurrent(now.BytesRead)
	case time.Since(p.spoken) >= lineEvery:
		p.spoken = time.Now()
		percent := 100.0
		if now.Length > 0 {
			percent = 100 * float64(now.BytesRead) / float64(now.Length)
		}
		p.screen.Say("%s: %.0f %%, %s of %s, %s", now.Name, percent, figures.Size(now.BytesRead), figures.Size(now.Length), counts(now))
	}
}

// counts says how much is done and how fast: rows, or statements where there
// are no rows to count, and the table that is being filled.
func counts(now load.Progress) string {
	n, noun := now.Rows, "rows"
	if n == 0 {
		n, noun = int64(now.Statements), "statements"
	}
	rate := float64(n) / max(now.Elapsed.Seconds(), 0.001)
	text := fmt.Sprintf("%s %s, %s/s", figures.Thousands(n), noun, figures.Thousands(int64(rate)))
	if now.Table != "" {
		const widestTable = 20
		text += ", " + ansi.Truncate(inert(now.Table), widestTable, "~")
	}
	return text
}

const (
	besideBar  = 74 // columns of the figures after the bar, at most
	widestBar  = 24
	shortest   = 4
	widestName = 30
)

func (p *Progress) begin() {
	name := ansi.Truncate(inert(filepath.Base(p.name)), min(widestName, p.screen.width-besideBar-shortest-4), "")
	width := min(widestBar, max(shortest, p.screen.width-besideBar-ansi.StringWidth(name)-4))
	p.bars = mpb.New(mpb.WithOutput(terminalOf(p.screen.Err)), mpb.WithWidth(width), mpb.WithRefreshRate(refreshing))
	p.bar = p.bars.New(p.latest.Load().Length, mpb.BarStyle().Lbound("").Filler("█").Tip("█").Padding("░").Rbound(""),
		mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(decor.Name("  "+name+" ")),
		mpb.AppendDecorators(decor.Any(func(decor.Statistics) string {
			now := p.latest.Load()
			return fmt.Sprintf(" %s, %s, %s left", part(now.BytesRead, now.Length), counts(*now), left(*now))
		})))
}

// part writes how many bytes of how many, in one unit: "1.0 of 2.7 MiB".
func part(read, total int64) string {
	whole := figures.Size(total)
	number, unit, _ := strings.Cut(whole, " ")
	size, _ := strconv.ParseFloat(number, 64)
	return fmt.Sprintf("%.1f of %s %s", size*float64(read)/float64(max(total, 1)), number, unit)
}

// left estimates the time left from the bytes read so far.
func left(now load.Progress) string {
	rest := now.Elapsed.Seconds() * float64(now.Length-now.BytesRead) / float64(max(now.BytesRead, 1))
	const minute = 60
	if rest >= minute {
		return fmt.Sprintf("%d min", int(rest/minute+0.5))
	}
	return fmt.Sprintf("%d s", int(rest+0.5))
}

// Done removes the bar.
func (p *Progress) Done() {
	p.mutex.Lock()
	defer p.mutex.Unlock()
	p.done()
}

func (p *Progress) done() {
	if p.bar != nil {
		p.bar.Abort(true)
		p.bars.Wait()
	}
	p.bar, p.bars, p.name = nil, nil, ""
}

// terminalOf gives the file below the screen's writers: the bar moves the cursor, which
// they must not see. What it shows of a script is made visible by itself.
func terminalOf(w io.Writer) io.Writer {
	if shows, ok := w.(visible); ok {
		w = shows.to
	}
	if filter, ok := w.(*colorprofile.Writer); ok {
		return filter.Forward
	}
	return w
}
