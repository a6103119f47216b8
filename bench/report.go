package main

import (
	"fmt"
	"image/color"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"

	"yellowfield/internal/dbms"
)

// writeReports writes one report for MariaDB and MySQL, one for PostgreSQL and one for
// exports, of what was measured.
func writeReports(path string, size float64, runs int, results []result) error {
	isPostgres := func(r result) bool { return strings.HasPrefix(r.Server, dbms.PostgreSQL.Title()) }
	exports := slices.DeleteFunc(slices.Clone(results), func(r result) bool { return !r.Export })
	if err := writeExports(strings.TrimSuffix(path, ".md")+"-exports.md", size, runs, exports); err != nil {
		return err
	}
	results = slices.DeleteFunc(slices.Clone(results), func(r result) bool { return r.Export })
	own := slices.DeleteFunc(slices.Clone(results), func(r result) bool { return !isPostgres(r) })
	if err := writeReport(path, size, runs, shapes, slices.DeleteFunc(slices.Clone(results), isPostgres), wide); err != nil {
		return err
	}
	return writeReport(strings.TrimSuffix(path, ".md")+"-postgresql.md", size, runs, postgresShapes, own,
		"PostgreSQL's stock client commits every statement by itself, or with -1 makes one transaction of a script. Ours is one transaction, or goes by several sessions where most rows are long COPYs, and with --fast.\n\n")
}

// wide says what the time of dumps with many tables goes into, as a trace of both has it.
const wide = "Where tables are many and rows few (wide schema, dumped), the definitions take the time, and not the rows: a CREATE TABLE takes the server 2 to 9 ms (its file, the dictionary, the binary log, each on the disk), which is half of such an import on MySQL and a third on MariaDB. One session makes them in the order of the script while the others send rows and build keys; on MySQL it also waits for the rows of a table that a foreign key refers to, a sixth of the time. More sessions that define tables gained a quarter at most with two of them, and are not used: the order of errors would be another.\n\n"

// writeReport writes the tables, the machine and the plot.
func writeReport(path string, size float64, runs int, shapes []shape, results []result, remark string) error {
	if len(results) == 0 {
		return nil
	}
	var b strings.Builder
	b.WriteString("# How fast imports are\n\nWritten by `make bench`; no figure of a table is typed in by hand.\n\n")
	fmt.Fprintf(&b, "Each dump is imported %d times by the server's stock client and by `yellowfield import`, in turn, into an empty database of the same private server, as the same account; before each the server writes what it still has. The figures are medians of the whole command, the fastest and the slowest run in brackets; ours reads the script twice, the first time to refuse or name what would go wrong: **first pass** is that part, measured by itself. After the first runs the two databases are compared: the definition of every object and the checksum of every table.\n\n%s", runs, remark)
	b.WriteString("**limit** is what the server itself takes for the same rows, measured in the same run: tables without keys, rows by LOAD DATA LOCAL or COPY from memory, keys then, a table a core; no script is read, and no program started. In brackets how much of it ours reaches. Filling a table in bulk, which MariaDB does for us, can be faster.\n\n")
	b.WriteString(measuredHere(size))
	picture := strings.TrimSuffix(path, ".md") + ".png"
	fmt.Fprintf(&b, "![Times faster than the stock client](%s)\n\n", filepath.Base(picture))
	for _, with := range []settings{usual, generous} {
		of := slices.DeleteFunc(slices.Clone(results), func(r result) bool { return r.Settings != with.name })
		if len(of) > 0 {
			fmt.Fprintf(&b, "Settings that are %s: %s.\n\n", with.name, with.about)
			table(&b, "stock client", of)
			b.WriteByte('\n')
		}
	}
	b.WriteString("The dumps:\n\n")
	for _, s := range shapes {
		fmt.Fprintf(&b, "- **%s** (%s): %s\n", s.name, sum(s), s.about)
	}
	b.WriteString("\nThe eight characters name what the generator writes, so that two reports can be told to speak of the same dumps.\n")
	if err := os.WriteFile(path, []byte(b.String()), 0o644); err != nil {
		return err
	}
	first := results[0].Settings
	return draw(picture, slices.DeleteFunc(slices.Clone(results), func(r result) bool { return r.Settings != first }))
}

func measuredHere(size float64) string {
	return fmt.Sprintf("Machine: %s; measured on %s with sizes times %g.\n\n", machine(), time.Now().Format("2 January 2006"), size)
}

func writeExports(path string, size float64, runs int, results []result) error {
	if len(results) == 0 {
		return nil
	}
	var b strings.Builder
	b.WriteString("# How fast exports are\n\nWritten by `make bench`; nothing here is typed in by hand.\n\n")
	fmt.Fprintf(&b, "What was imported for the [other reports](performance.md) is written %d times by the server's dump program and by `yellowfield export`, in turn, as the same account, to a file that is not packed: tables, rows, routines, triggers, events, of one moment. The figures are medians of the whole command. Ours looks first what the export will hold, has the disk take the file, and reads it back; the last one is loaded again, and compared with what the other database holds. What comes before the rows takes about a tenth of a second, which is all that can be seen where there are few.\n\n", runs)
	b.WriteString(measuredHere(size))
	table(&b, "dump program", results)
	return os.WriteFile(path, []byte(b.String()), 0o644)
}

func table(b *strings.Builder, against string, results []result) {
	exports := results[0].Export
	fmt.Fprintf(b, "| server | dump | size | %s | yellowfield | times faster | MiB/s | peak memory | ", against)
	if !exports {
		b.WriteString("limit | first pass | ")
	}
	b.WriteString("result |\n|---|---|---:|---:|---:|---:|---:|---:|")
	if !exports {
		b.WriteString("---:|---:|")
	}
	b.WriteString("---|\n")
	const mega = 1 << 20
	for _, r := range results {
		outcome := "equal"
		if len(r.Differences) > 0 {
			outcome = fmt.Sprintf("%d objects differ", len(r.Differences))
		}
		fmt.Fprintf(b, "| %s | %s | %.1f MiB | %s | %s | %.1f | %.1f | %.0f MiB | ", r.Server, r.Shape, float64(r.Bytes)/mega,
			r.Stock, r.Ours, r.ratio(), float64(r.Bytes)/mega/r.Ours.Median, float64(r.Memory)/mega)
		if !exports {
			limit := "|"
			if r.Limit > 0 {
				limit = fmt.Sprintf("%.2f s (%.2f) |", r.Limit, r.Limit/r.Ours.Median)
			}
			fmt.Fprintf(b, "%s %.1f %% | ", limit, 100*r.FirstPass/r.Ours.Median)
		}
		fmt.Fprintf(b, "%s |\n", outcome)
	}
}

// String writes "2.31 s (2.25 to 2.40)".
func (s spread) String() string {
	return fmt.Sprintf("%.2f s (%.2f to %.2f)", s.Median, s.Least, s.Most)
}

var modelName = regexp.MustCompile(`(?m)^model name\s*: (.*)$`)

func machine() string {
	text := fmt.Sprintf("%d cores", runtime.NumCPU())
	if cpu, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		if m := modelName.FindSubmatch(cpu); m != nil {
			text += " (" + strings.TrimSpace(string(m[1])) + ")"
		}
	}
	if memory, err := os.ReadFile("/proc/meminfo"); err == nil {
		var kilobytes int64
		if _, err := fmt.Sscanf(string(memory), "MemTotal: %d kB", &kilobytes); err == nil {
			text += fmt.Sprintf(", %d GiB of memory", kilobytes>>20)
		}
	}
	return text
}

// draw plots how many times faster than the stock client each import was.
func draw(path string, results []result) error {
	p := plot.New()
	p.Title.Text = "Times faster than the server's stock client"
	p.Y.Label.Text = "times faster (1 = as fast)"
	p.Y.Min = 0
	p.Title.Padding = vg.Points(8)
	colours := []color.Color{color.RGBA{0xd9, 0xa4, 0x06, 0xff}, color.RGBA{0x4a, 0x6c, 0x8c, 0xff}}
	servers := map[string]plotter.Values{}
	limits := map[string]plotter.Values{}
	var order, names []string
	for _, r := range results {
		if servers[r.Server] == nil {
			order = append(order, r.Server)
		}
		servers[r.Server] = append(servers[r.Server], r.ratio())
		limit := 0.0
		if r.Limit > 0 {
			limit = r.Stock.Median / r.Limit
		}
		limits[r.Server] = append(limits[r.Server], limit)
		if len(order) == 1 {
			names = append(names, strings.ReplaceAll(r.Shape, ", psql", "\npsql"))
		}
	}
	highest := 0.0
	for _, server := range order {
		highest = max(highest, slices.Max(servers[server]), slices.Max(limits[server]))
	}
	const width = 28
	named := false // the mark is to be in the legend
	for i, server := range order {
		bars, err := plotter.NewBarChart(servers[server], vg.Points(width))
		if err != nil {
			return err
		}
		bars.Color = colours[i%len(colours)]
		bars.LineStyle.Width = 0
		bars.Offset = vg.Points(width * (float64(i) - float64(len(order)-1)/2))
		labels := plotter.XYLabels{}
		for x, value := range servers[server] {
			above := value
			const nearby = 0.07 // of the height: the mark would go through the figure
			if limit := limits[server][x]; limit > value && limit-value < nearby*highest {
				above = limit
			}
			labels.XYs = append(labels.XYs, plotter.XY{X: float64(x), Y: above})
			labels.Labels = append(labels.Labels, fmt.Sprintf("%.1f", value))
		}
		figures, err := plotter.NewLabels(labels)
		if err != nil {
			return err
		}
		figures.Offset.X = bars.Offset - vg.Points(width/3)
		figures.Offset.Y = vg.Points(3)
		p.Add(bars, figures)
		p.Legend.Add(server, bars)
		for x, value := range limits[server] {
			if value == 0 {
				continue
			}
			mark := limitMark{float64(x), value, bars.Offset, vg.Points(width)}
			p.Add(mark)
			p.Y.Max = max(p.Y.Max, value)
			named = true
		}
	}
	if named {
		p.Legend.Add("the server itself", limitMark{})
	}
	same := plotter.NewFunction(func(float64) float64 { return 1 })
	same.Dashes = []vg.Length{vg.Points(4), vg.Points(4)}
	p.Add(same)
	p.Legend.Top = true
	p.NominalX(names...)
	p.X.Min, p.X.Max = -0.5, float64(len(names))-0.5 // room for the outer bars
	const headroom = 1.08
	p.Y.Max *= headroom
	return p.Save(vg.Points(860), vg.Points(420), path)
}

// limitMark is a line across a bar.
type limitMark struct {
	x, value      float64
	offset, width vg.Length
}

// Plot implements plot.Plotter.
func (m limitMark) Plot(c vgdraw.Canvas, p *plot.Plot) {
	x, y := p.Transforms(&c)
	at := x(m.x) + m.offset
	m.stroke(c, at-m.width/2, at+m.width/2, y(m.value))
}

// Thumbnail implements plot.Thumbnailer.
func (m limitMark) Thumbnail(c *vgdraw.Canvas) { m.stroke(*c, c.Min.X, c.Max.X, c.Center().Y) }

func (m limitMark) stroke(c vgdraw.Canvas, from, to, y vg.Length) {
	c.StrokeLine2(vgdraw.LineStyle{Color: color.Black, Width: vg.Points(2)}, from, y, to, y)
}
