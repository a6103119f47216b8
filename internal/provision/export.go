package provision

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/export"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/host"
	"yellowfield/internal/load"
	"yellowfield/internal/state"
)

func (r *run) export(ctx context.Context) error {
	r.plan = r.emptyPlan()
	chosen := r.app.All()
	if name := r.options.Export.Database; name != "" {
		chosen = []*estate.Database{r.app.DatabaseFor(name)}
	}
	if len(chosen) > 1 && (r.options.Export.File != "" || r.options.Export.Out != nil) {
		return r.Estate.Fault(fault.Invalid, r.path("databases"), "name one with --database, or leave the file out", "app %s has %d databases, and one file is named", r.app.Name, len(chosen))
	}
	for _, d := range chosen {
		if !r.exists(d.Name) {
			return &stepError{stepExport, r.Estate.Fault(fault.Invalid, r.path(d.Path()), "yellowfield provision "+r.app.Name+" makes it", "the database %s does not exist", d.Name)}
		}
		path := r.options.Export.File
		if path == "" && r.options.Export.Out == nil {
			var err error
			if path, err = r.exportPath("", d); err != nil {
				return &stepError{stepExport, err}
			}
		}
		if _, err := r.planExport(ctx, d, exporting{step: stepExport, path: path}); err != nil {
			return r.tellPlanFaults(&stepError{stepExport, err})
		}
	}
	return r.carryOut(ctx)
}

// exportsFolder is where exports lie that name no file; nobody else may write to it.
func (r *run) exportsFolder() (string, error) {
	folder := filepath.Join(r.Base.allExports(), r.app.Name)
	if r.options.DryRun {
		return folder, nil
	}
	who, err := state.MakeExports(folder)
	if err == nil && who != "" {
		err = r.Estate.Fault(fault.Protected, "exports", "name a folder that only root and this user can write to", "exports are not written to %s: %s", folder, who)
	}
	return folder, err
}

// exportPath names a new file in the folder of exports; begin is how its name does.
func (r *run) exportPath(begin string, d *estate.Database) (string, error) {
	folder, err := r.exportsFolder()
	if err != nil {
		return "", err
	}
	return filepath.Join(folder, begin+d.Name+"-"+time.Now().UTC().Format("20060102T150405.000Z")+".sql.zst"), nil
}

// exporting is one export in a plan.
type exporting struct {
	step string // that it is a part of
	path string // empty for Options.Export.Out
	// automatic says that a command makes it of what it is about to change; it is kept for a
	// while, and what it does not hold is no finding.
	automatic bool
	until     string // how long that is, where it is not the usual time
	export.Options
}

// planExport looks what a database holds, and adds its export. leftOut is what that will not
// hold.
func (r *run) planExport(ctx context.Context, d *estate.Database, e exporting) (leftOut []string, err error) {
	if e.Keep == nil {
		e.Keep = r.belongs(d)
	}
	if e.path != "" {
		if err := export.CheckName(e.path); err != nil {
			return nil, err
		}
	}
	reader, err := r.readerOf(ctx, d)
	if err != nil {
		return nil, err
	}
	row := Row{Step: e.step, Outcome: Written, Place: placeOf(e.path)}
	begin := "export of " + d.Name
	if e.automatic {
		begin += ", kept " + cmp.Or(e.until, "for "+figures.Counted(int(keepsRemoved.Hours()/24), "day", "days"))
	}
	if reader.Server == nil { // a dry run makes no account, and the catalogue has to do
		row.Facts = begin + ", read " + reader.who + ": " + inventory(r.plan.contents[d.Name])
		r.plan.change(row, exportWritten.Of(d.Name, exportState{}, exportState{Path: e.path, Automatic: e.automatic}), nil)
		return nil, nil
	}
	exporter := r.exporterOf(reader.Server, d.Name)
	survey, err := r.lookBefore(ctx, exporter, e)
	if err != nil {
		return nil, err
	}
	for _, left := range survey.LeftOut {
		leftOut = append(leftOut, left.String())
		if what := "not in the export: " + left.String() + ": " + left.Why; e.automatic {
			r.plan.note(e.step, "", what)
		} else {
			r.plan.differs(e.step, estate.ShouldLook, "", what).mayAccept(estate.FindingNotExported, left.String())
		}
	}
	for _, remark := range survey.Remarks {
		r.plan.note(e.step, "", remark)
	}
	if r.servedFrom(e.path) {
		r.plan.note(e.step, "move it to another folder if a web server reads this one", e.path+" lies in the folder of an application")
	}
	row.Facts = begin + ", read " + reader.who + ": " + survey.Describe() + ", about " + figures.Size(survey.AboutBytes) + " of rows"
	var s *step
	s = r.planExportBy(row, d, e, func(ctx context.Context, d *effect.Doing[exportState]) (string, error) {
		_, facts, err := r.exportNow(ctx, s, d, exporter, e, leftOut)
		return begin + ": " + facts, err
	})
	return leftOut, nil
}

// exportState is an export as an effect has it. Once its run has ended it stands by itself.
type exportState struct {
	Path      string `json:"path,omitempty"`
	Automatic bool   `json:"automatic,omitempty"`
}

// exportNowBy writes an export.
type exportNowBy func(ctx context.Context, d *effect.Doing[exportState]) (facts string, err error)

func (r *run) planExportBy(row Row, d *estate.Database, e exporting, by exportNowBy) *step {
	return r.plan.change(row, exportWritten.Of(d.Name, exportState{}, exportState{Path: e.path, Automatic: e.automatic}), by)
}

// exportWritten is one kind of change, see init.
var exportWritten = effect.Define[*run, exportState](&kinds, "export")

func init() {
	exportWritten.Means(effect.Spec[*run, exportState]{
		Object: func(c effect.Change[exportState]) string { return "export of " + c.Subject },
		Do: func(_ *run, ctx context.Context, d *effect.Doing[exportState]) (string, error) {
			return d.Material.(exportNowBy)(ctx, d)
		},
		Undo: func(_ *run, _ context.Context, c effect.Change[exportState]) error {
			if c.After.Automatic || c.After.Path == "" { // somebody may still want it
				return nil
			}
			return state.RemoveExport(c.After.Path)
		},
		Look: func(*run, context.Context, effect.Change[exportState]) (effect.Standing, error) {
			return effect.NotDone, nil
		},
	})
}

// lookBefore tells what an export will hold, once there is room for it.
func (r *run) lookBefore(ctx context.Context, exporter export.Exporter, e exporting) (*export.Survey, error) {
	survey, err := exporter.Look(ctx, e.Options)
	if err != nil {
		return nil, r.exportFailed(ctx, err)
	}
	return survey, r.hasRoom(e.path, survey)
}

// exportNow writes an export, and has the step and the journal tell of it.
func (r *run) exportNow(ctx context.Context, s *step, d *effect.Doing[exportState], exporter export.Exporter, e exporting, leftOut []string) (report *export.Report, facts string, err error) {
	report, stored, err := r.writeExport(ctx, exporter, e)
	if err != nil {
		return nil, "", err
	}
	d.Touched = true
	s.Seconds = report.Elapsed.Seconds()
	s.Row.Export = &ExportReport{Database: d.Subject, Stored: stored, Unpacked: report.Bytes, Tables: report.Counts["TABLE"], Rows: report.Rows, Sessions: report.Lanes, LeftOut: leftOut}
	if e.path == "" {
		return report, report.Describe() + ", " + figures.Size(report.Bytes), nil
	}
	return report, report.Describe() + ", " + figures.Size(stored.Bytes), r.journal.Record(state.Entry{Event: state.Intended, Step: e.step, Object: "export of " + d.Subject, Copy: stored.Path})
}

func placeOf(path string) *fault.Place {
	if path == "" {
		return nil
	}
	return &fault.Place{File: path}
}

// belongs says what of a database is the app's: all, or in a shared one what has its prefix.
func (r *run) belongs(d *estate.Database) func(string) bool {
	if !r.app.Shared || d != &r.app.Database || r.app.Prefix == "" {
		return nil
	}
	return func(name string) bool { return strings.HasPrefix(name, r.app.Prefix) }
}

// hasRoom refuses an export that the disk would hardly hold: rows as the server keeps them
// take more than half of that as SQL, and seldom less than a tenth of it packed.
func (r *run) hasRoom(path string, survey *export.Survey) error {
	if path == "" {
		return nil
	}
	folder := filepath.Dir(path)
	const packs = 10
	needs := survey.AboutBytes / 2
	if filepath.Ext(path) != ".sql" {
		needs = survey.AboutBytes / packs
	}
	if room, known := host.Room(folder); known && room < needs {
		return fault.At(fault.Failed, fault.Place{File: path}, "make room there, or name another file, or another folder with exports: in the estate file",
			"there is no room for the export: %s are free in %s, and the database holds %s of rows", figures.Size(room), folder, figures.Size(survey.AboutBytes))
	}
	return nil
}

// servedFrom reports whether a file lies in the folder of an application.
func (r *run) servedFrom(path string) bool {
	return path != "" && slices.ContainsFunc(estate.Names(r.Estate.Apps), func(name string) bool {
		folder := r.Estate.Apps[name].Folder
		_, inside := host.Below(folder, path)
		return folder != "" && inside
	})
}

// writeExport writes an export to a file, or for no path to who asked for it.
func (r *run) writeExport(ctx context.Context, exporter export.Exporter, e exporting) (report *export.Report, stored atomicfile.Stored, err error) {
	progress := func(p export.Progress) {
		if r.Listener.Progress != nil {
			r.Listener.Progress(r.result.Header, load.Progress{Name: "export", Length: max(p.BytesExpected, 1), BytesRead: min(p.Bytes, p.BytesExpected), Rows: p.Rows, RowsExpected: p.RowsExpected, Table: p.Table, Elapsed: p.Elapsed})
		}
	}
	if e.path == "" {
		report, err = exporter.Export(ctx, r.options.Export.Out, e.Options, progress)
		return report, stored, r.exportFailed(ctx, err)
	}
	file, err := export.Create(e.path)
	if err != nil {
		return nil, stored, err
	}
	if report, err = exporter.Export(ctx, file, e.Options, progress); err != nil {
		file.Discard()
		return nil, stored, r.exportFailed(ctx, err)
	}
	stored, err = file.Finish()
	return report, stored, err
}

// exportFailed says what a server said as a fault with its next step.
func (r *run) exportFailed(ctx context.Context, err error) error {
	var known *fault.Error
	var spoken *dbms.ServerError
	switch {
	case err == nil || errors.As(err, &known):
		return err
	case ctx.Err() != nil:
		return fault.Stopped(ctx.Err())
	case errors.As(err, &spoken):
		return fault.New(fault.Failed, "the statement was: "+spoken.Statement, "server %s: %v", r.app.Server, err).With(err)
	}
	return fault.New(fault.Failed, "run the command again", "the export was given up: %v", err).With(err)
}
