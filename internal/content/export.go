package content

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
	"yellowfield/internal/work"
)

func Export(r *work.Run, ctx context.Context) error {
	r.Plan = r.EmptyPlan()
	chosen := r.App.All()
	if name := r.Options.Export.Database; name != "" {
		chosen = []*estate.Database{r.App.DatabaseFor(name)}
	}
	if len(chosen) > 1 && (r.Options.Export.File != "" || r.Options.Export.Out != nil) {
		return r.Estate.Fault(fault.Invalid, r.Path("databases"), "name one with --database, or leave the file out", "app %s has %d databases, and one file is named", r.App.Name, len(chosen))
	}
	for _, d := range chosen {
		if !r.Exists(d.Name) {
			return work.AtStep(work.StepExport, r.Estate.Fault(fault.Invalid, r.Path(d.Path()), "yellowfield provision "+r.App.Name+" makes it", "the database %s does not exist", d.Name))
		}
		path := r.Options.Export.File
		if path == "" && r.Options.Export.Out == nil {
			var err error
			if path, err = ExportPath(r, "", d); err != nil {
				return work.AtStep(work.StepExport, err)
			}
		}
		if _, err := PlanExport(r, ctx, d, Exporting{Step: work.StepExport, Path: path}); err != nil {
			return r.TellPlanFaults(work.AtStep(work.StepExport, err))
		}
	}
	return r.CarryOut(ctx)
}

// exportsFolder is where exports go that name no file; nobody else may write to it.
func exportsFolder(r *work.Run) (string, error) {
	folder := filepath.Join(r.Engine.AllExports(), r.App.Name)
	if r.Options.DryRun {
		return folder, nil
	}
	who, err := state.MakeExports(folder)
	if err == nil && who != "" {
		err = r.Estate.Fault(fault.Protected, "exports", "name a folder that only root and this user can write to", "exports are not written to %s: %s", folder, who)
	}
	return folder, err
}

// ExportPath names a new file in the folder of exports; begin is the beginning of its name.
func ExportPath(r *work.Run, begin string, d *estate.Database) (string, error) {
	folder, err := exportsFolder(r)
	if err != nil {
		return "", err
	}
	return filepath.Join(folder, begin+d.Name+"-"+time.Now().UTC().Format("20060102T150405.000Z")+".sql.zst"), nil
}

// Exporting is one export in a plan.
type Exporting struct {
	Step string // that it is a part of
	Path string // empty for Options.Export.Out
	// Automatic says that a command makes it of what it is about to change; it is kept for a
	// while, and what it does not hold is no finding.
	Automatic bool
	Until     string // how long that is, where it is not the usual time
	export.Options
}

// PlanExport looks at what a database holds and plans its export. leftOut is what the export
// cannot hold.
func PlanExport(r *work.Run, ctx context.Context, d *estate.Database, e Exporting) (leftOut []string, err error) {
	if e.Keep == nil {
		e.Keep = belongs(r, d)
	}
	if e.Path != "" {
		if err := export.CheckName(e.Path); err != nil {
			return nil, err
		}
	}
	reader, err := r.ReaderOf(ctx, d)
	if err != nil {
		return nil, err
	}
	row := work.Row{Step: e.Step, Outcome: work.Written, Place: PlaceOf(e.Path)}
	begin := "export of " + d.Name
	if e.Automatic {
		begin += ", kept " + cmp.Or(e.Until, "for "+figures.Counted(int(work.KeepsRemoved.Hours()/24), "day", "days"))
	}
	if reader.Server == nil { // a dry run makes no account, so the catalogue has to suffice
		row.Facts = begin + ", read " + reader.Who + ": " + work.Inventory(r.Plan.Contents[d.Name])
		r.Plan.Change(row, ExportWritten.Of(d.Name, ExportState{}, ExportState{Path: e.Path, Automatic: e.Automatic}), nil)
		return nil, nil
	}
	exporter := r.ExporterOf(reader.Server, d.Name)
	survey, err := LookBefore(r, ctx, exporter, e)
	if err != nil {
		return nil, err
	}
	for _, left := range survey.LeftOut {
		leftOut = append(leftOut, left.String())
		if what := "not in the export: " + left.String() + ": " + left.Why; e.Automatic {
			r.Plan.Note(e.Step, "", what)
		} else {
			r.Plan.Differs(e.Step, estate.ShouldLook, "", what).MayAccept(estate.FindingNotExported, left.String())
		}
	}
	for _, remark := range survey.Remarks {
		r.Plan.Note(e.Step, "", remark)
	}
	if servedFrom(r, e.Path) {
		r.Plan.Note(e.Step, "move it to another folder if a web server reads this one", e.Path+" lies in the folder of an application")
	}
	row.Facts = begin + ", read " + reader.Who + ": " + survey.Describe() + ", about " + figures.Size(survey.AboutBytes) + " of rows"
	var s *work.Step
	s = PlanExportBy(r, row, d, e, func(ctx context.Context, d *effect.Doing[ExportState]) (string, error) {
		_, facts, err := ExportNow(r, ctx, s, d, exporter, e, leftOut)
		return begin + ": " + facts, err
	})
	return leftOut, nil
}

// ExportState is an export as an effect has it. Once its run has ended it stands by itself.
type ExportState struct {
	Path      string `json:"path,omitempty"`
	Automatic bool   `json:"automatic,omitempty"`
}

// exportNowBy writes an export.
type exportNowBy func(ctx context.Context, d *effect.Doing[ExportState]) (facts string, err error)

func PlanExportBy(r *work.Run, row work.Row, d *estate.Database, e Exporting, by exportNowBy) *work.Step {
	return r.Plan.Change(row, ExportWritten.Of(d.Name, ExportState{}, ExportState{Path: e.Path, Automatic: e.Automatic}), by)
}

// ExportWritten is one kind of change, see init.
var ExportWritten = effect.Define[*work.Run, ExportState](&work.Kinds, "export")

func init() {
	ExportWritten.Means(effect.Spec[*work.Run, ExportState]{
		Object: func(c effect.Change[ExportState]) string { return "export of " + c.Subject },
		Do: func(_ *work.Run, ctx context.Context, d *effect.Doing[ExportState]) (string, error) {
			return d.Material.(exportNowBy)(ctx, d)
		},
		Undo: func(_ *work.Run, _ context.Context, c effect.Change[ExportState]) error {
			if c.After.Automatic || c.After.Path == "" { // somebody may still want it
				return nil
			}
			return state.RemoveExport(c.After.Path)
		},
		Look: func(*work.Run, context.Context, effect.Change[ExportState]) (effect.Standing, error) {
			return effect.NotDone, nil
		},
	})
}

// LookBefore tells what an export will hold, once there is room for it.
func LookBefore(r *work.Run, ctx context.Context, exporter export.Exporter, e Exporting) (*export.Survey, error) {
	survey, err := exporter.Look(ctx, e.Options)
	if err != nil {
		return nil, ExportFailed(r, ctx, err)
	}
	return survey, hasRoom(r, e.Path, survey)
}

// ExportNow writes an export, and has the step and the journal tell of it.
func ExportNow(r *work.Run, ctx context.Context, s *work.Step, d *effect.Doing[ExportState], exporter export.Exporter, e Exporting, leftOut []string) (report *export.Report, facts string, err error) {
	report, stored, err := writeExport(r, ctx, exporter, e)
	if err != nil {
		return nil, "", err
	}
	d.Touched = true
	s.Seconds = report.Elapsed.Seconds()
	s.Row.Export = &work.ExportReport{Database: d.Subject, Stored: stored, Unpacked: report.Bytes, Tables: report.Counts["TABLE"], Rows: report.Rows, Sessions: report.Lanes, LeftOut: leftOut}
	if e.Path == "" {
		return report, report.Describe() + ", " + figures.Size(report.Bytes), nil
	}
	return report, report.Describe() + ", " + figures.Size(stored.Bytes), r.Journal.Record(state.Entry{Event: state.Intended, Step: e.Step, Object: "export of " + d.Subject, Copy: stored.Path})
}

func PlaceOf(path string) *fault.Place {
	if path == "" {
		return nil
	}
	return &fault.Place{File: path}
}

// belongs reports whether an object is the app's: all are, or in a shared database those with
// its prefix.
func belongs(r *work.Run, d *estate.Database) func(string) bool {
	if !r.App.Shared || d != &r.App.Database || r.App.Prefix == "" {
		return nil
	}
	return func(name string) bool { return strings.HasPrefix(name, r.App.Prefix) }
}

// hasRoom refuses an export for which the disk has too little room: as SQL, rows take more
// than half the size they have on the server, and packed seldom less than a tenth of it.
func hasRoom(r *work.Run, path string, survey *export.Survey) error {
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
func servedFrom(r *work.Run, path string) bool {
	return path != "" && slices.ContainsFunc(estate.Names(r.Estate.Apps), func(name string) bool {
		folder := r.Estate.Apps[name].Folder
		_, inside := host.Below(folder, path)
		return folder != "" && inside
	})
}

// writeExport writes an export to a file, or, without a path, to the caller's writer.
func writeExport(r *work.Run, ctx context.Context, exporter export.Exporter, e Exporting) (report *export.Report, stored atomicfile.Stored, err error) {
	progress := func(p export.Progress) {
		if r.Listener.Progress != nil {
			r.Listener.Progress(r.Result.Header, load.Progress{Name: "export", Length: max(p.BytesExpected, 1), BytesRead: min(p.Bytes, p.BytesExpected), Rows: p.Rows, RowsExpected: p.RowsExpected, Table: p.Table, Elapsed: p.Elapsed})
		}
	}
	if e.Path == "" {
		report, err = exporter.Export(ctx, r.Options.Export.Out, e.Options, progress)
		return report, stored, ExportFailed(r, ctx, err)
	}
	file, err := export.Create(e.Path)
	if err != nil {
		return nil, stored, err
	}
	if report, err = exporter.Export(ctx, file, e.Options, progress); err != nil {
		file.Discard()
		return nil, stored, ExportFailed(r, ctx, err)
	}
	stored, err = file.Finish()
	return report, stored, err
}

// ExportFailed says what a server said as a fault with its next step.
func ExportFailed(r *work.Run, ctx context.Context, err error) error {
	var known *fault.Error
	var spoken *dbms.ServerError
	switch {
	case err == nil || errors.As(err, &known):
		return err
	case ctx.Err() != nil:
		return fault.Stopped(ctx.Err())
	case errors.As(err, &spoken):
		return dbms.Explained(err)
	}
	return fault.New(fault.Failed, "run the command again", "the export was given up: %v", err).With(err)
}
