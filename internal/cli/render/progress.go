package render

import (
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"github.com/charmbracelet/colorprofile"
	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"

	"yellowfield/internal/load"
)

// Progress shows how far an import is: a bar on a terminal, else a line now
// and then. Done must be called before anything else is written.
type Progress struct {
	screen *Screen
	name   string
	bars   *mpb.Progress
	bar    *mpb.Bar
	// latest is read by the bar's own goroutine.
	latest atomic.Pointer[load.Progress]
	spoken time.Time
}

const (
	// showAfter spares short imports a bar that only flickers.
	showAfter  = 400 * time.Millisecond
	lineEvery  = 10 * time.Second
	refreshing = 150 * time.Millisecond
)

// NewProgress shows progress on the screen's standard error.
func NewProgress(s *Screen) *Progress { return &Progress{screen: s} }

// Update tells the newest state.
func (p *Progress) Update(now load.Progress) {
	if p.name != now.Source.Name {
		p.Done()
		p.name, p.spoken = now.Source.Name, time.Now()
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
		if now.BytesTotal > 0 {
			percent = 100 * float64(now.BytesRead) / float64(now.BytesTotal)
		}
		p.screen.Say("%s: %.0f %%, %s of %s, %s", now.Source.Name, percent, Size(now.BytesRead), Size(now.BytesTotal), counts(now))
	}
}

func counts(now load.Progress) string {
	rate := float64(now.Statements) / max(now.Elapsed.Seconds(), 0.001)
	return fmt.Sprintf("%s statements, %s/s", load.Thousands(int64(now.Statements)), load.Thousands(int64(rate)))
}

func (p *Progress) begin() {
	p.bars = mpb.New(mpb.WithOutput(terminalOf(p.screen.Err)), mpb.WithWidth(24), mpb.WithRefreshRate(refreshing))
	p.bar = p.bars.New(p.latest.Load().BytesTotal, mpb.BarStyle().Lbound("").Filler("█").Tip("█").Padding("░").Rbound(""),
		mpb.BarRemoveOnComplete(),
		mpb.PrependDecorators(decor.Name("  importing     "+p.name+" ")),
		mpb.AppendDecorators(
			decor.Any(func(decor.Statistics) string {
				now := p.latest.Load()
				return fmt.Sprintf(" %s of %s, %s, %s left", Size(now.BytesRead), Size(now.BytesTotal), counts(*now), left(*now))
			}),
		))
}

// left estimates the time left from the bytes read so far.
func left(now load.Progress) string {
	if now.BytesRead == 0 {
		return "?"
	}
	rest := float64(now.BytesTotal-now.BytesRead) / float64(now.BytesRead) * now.Elapsed.Seconds()
	return (time.Duration(rest) * time.Second).String()
}

// Done removes the bar.
func (p *Progress) Done() {
	if p.bar != nil {
		p.bar.Abort(true)
		p.bars.Wait()
	}
	p.bar, p.bars, p.name = nil, nil, ""
}

// terminalOf gives the file below a colour writer: the bar moves the cursor,
// which a colour filter must not see.
func terminalOf(w io.Writer) io.Writer {
	if filter, ok := w.(*colorprofile.Writer); ok {
		return filter.Forward
	}
	return w
}

// Size writes a number of bytes in binary units.
func Size(bytes int64) string {
	const unit = 1024
	if bytes < unit {
		return fmt.Sprintf("%d B", bytes)
	}
	value, prefix := float64(bytes)/unit, 0
	for value >= unit && prefix < 3 {
		value /= unit
		prefix++
	}
	return fmt.Sprintf("%.1f %ciB", value, "KMGT"[prefix])
}
