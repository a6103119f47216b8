package lifecycle

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"yellowfield/internal/content"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/export"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/work"
)

// stream is an export that is read like a file while it is being written. failed gives the
// error that ended it early, which its reader would take for a script that ends within a
// literal.
func stream(r *work.Run, ctx context.Context, exporter export.Exporter, name string) (source script.Source, failed func() error) {
	var why atomic.Pointer[error]
	failed = func() error {
		if err := why.Load(); err != nil {
			return content.ExportFailed(r, ctx, *err)
		}
		return nil
	}
	return script.Source{Path: name, Name: name, Stream: true, LongestStatement: content.LongestOfExports, Opener: func(string) (*os.File, error) {
		out, in, err := os.Pipe()
		if err != nil {
			return nil, err
		}
		go func() {
			// One session, so that each time comes out the same.
			if _, err := exporter.Export(ctx, in, export.Options{Lanes: 1}, nil); err != nil && !errors.Is(err, syscall.EPIPE) { // else its reader has gone
				why.Store(&err)
				_, _ = io.WriteString(in, "\n'")
			}
			_ = in.Close()
		}()
		return out, nil
	}}, failed
}

// checkTransfer reads what will come once, as long as nothing stands still: what this server
// lacks for it is found before anything is changed.
func checkTransfer(r *work.Run, ctx context.Context) error {
	old := r.From.Old
	errs := []error{checkEvents(r, ctx)}
	for _, d := range r.App.All() {
		reader, err := old.ReaderOf(ctx, old.App.All()[slices.Index(r.App.All(), d)])
		if err != nil {
			return err
		}
		if reader.Server == nil {
			continue // a dry run makes no account
		}
		exporter := old.ExporterOf(reader.Server, d.Name)
		survey, err := exporter.Look(ctx, export.Options{})
		if err != nil {
			return content.ExportFailed(r, ctx, err)
		}
		for _, left := range survey.LeftOut {
			errs = append(errs, fault.New(fault.Protected, "drop it, or move it by hand first", "%s cannot be moved: %s", left, left.Why))
		}
		r.Plan.Note(work.StepSQL, "", d.Name+": "+survey.Describe()+", about "+figures.Size(survey.AboutBytes)+" of rows")
		if err := rehearse(r, ctx, exporter, d); err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// checkEvents tells if what runs by itself there would not do so here.
func checkEvents(r *work.Run, ctx context.Context) error {
	old, note := r.From.Old, r.From.Note
	if len(note.Events) == 0 {
		return nil
	}
	ran, err := old.View.Server.(dbms.Freezes).RunsEvents(ctx)
	if err != nil || !ran {
		return err
	}
	runs, err := r.View.Server.(dbms.Freezes).RunsEvents(ctx)
	if err == nil && !runs {
		r.Plan.Differs(work.StepSQL, estate.ShouldLook, "write event_scheduler = ON into its settings, and SET GLOBAL event_scheduler = ON until it is restarted", "server "+r.App.Server+" runs no events: "+work.JoinSome(note.EventNames()))
	}
	return err
}

// rehearsalTime is for how long an import is tried.
const rehearsalTime = 3 * time.Second

// rehearse reads what will come, tries its import for a while in a scratch database, and
// tells how long the application will be able to read only.
func rehearse(r *work.Run, ctx context.Context, exporter export.Exporter, d *estate.Database) error {
	const (
		passes   = 3 // it is read once before its import and twice for the comparison, on about as many cores
		attempts = 2 // the application is at work: what was read once may be different now
	)
	importer, err := r.ImporterFor(ctx, load.Target{Database: d.Name, Charset: d.Charset})
	if err != nil {
		return err
	}
	for range attempts {
		began := time.Now()
		source, failed := stream(r, ctx, exporter, d.Name+" on "+r.From.Old.App.Server)
		survey, checked := importer.Check(ctx, source, r.Options.Move.Loading())
		if checked == nil {
			checked = content.Refusals([]*work.WantedScript{{Survey: survey}})
		}
		if checked = cmp.Or(failed(), checked); checked != nil {
			return checked
		}
		reading := passes * time.Since(began)
		if r.Options.DryRun {
			r.Plan.Note(work.StepSQL, "", fmt.Sprintf("the application can only read meanwhile: about %.1f s, and the time of an import, which a dry run does not try", reading.Seconds()))
			return nil
		}
		var importing time.Duration
		var how string
		if importing, how, err = tryImport(r, ctx, exporter, survey, d); err == nil {
			r.Plan.Note(work.StepSQL, "", fmt.Sprintf("the application can only read meanwhile: about %.1f s (%s)", (reading+importing).Seconds(), how))
			return nil
		}
	}
	f := *fault.As(err)
	f.What = "an import into a scratch database failed: " + f.What
	return &f
}

// tryImport imports into a scratch database, as an account with no rights beside it, and
// tells how long the whole takes, and how that is known.
func tryImport(r *work.Run, ctx context.Context, exporter export.Exporter, survey *load.Survey, d *estate.Database) (whole time.Duration, how string, err error) {
	defer r.EndReaders(ctx)
	scratch, err := r.ScratchDatabase(ctx, d.Charset, d.Collation)
	if err != nil {
		return 0, "", err
	}
	importer, err := r.ImporterFor(ctx, load.Target{Database: scratch.Database, Charset: d.Charset})
	if err != nil {
		return 0, "", err
	}
	limited, cancel := context.WithTimeout(ctx, rehearsalTime)
	defer cancel()
	var last load.Progress
	began := time.Now()
	source, failed := stream(r, limited, exporter, "a sample of "+d.Name)
	_, err = r.WithLogin(importer, scratch.Server).Import(limited, source, survey, r.Options.Move.Loading(), func(p load.Progress) { last = p })
	took := time.Since(began)
	switch {
	case ctx.Err() != nil:
		return 0, "", fault.Stopped(ctx.Err())
	case limited.Err() != nil && last.BytesRead > 0:
		share := float64(survey.Length) / float64(last.BytesRead)
		return time.Duration(share * float64(took)), fmt.Sprintf("an import of %s into a scratch database took %.1f s", figures.Size(last.BytesRead), took.Seconds()), nil
	case limited.Err() != nil:
		return took, "and the time of an import, of which nothing was through in a scratch database by then", nil
	}
	return took, fmt.Sprintf("an import into a scratch database took %.1f s", took.Seconds()), cmp.Or(failed(), err)
}

// transfer brings a database's contents here, and compares.
func transfer(r *work.Run, ctx context.Context, doing *effect.Doing[content.ImportState], of *content.Importing) (string, error) {
	began := time.Now()
	old, d := r.From.Old, of.Source.Into
	defer old.EndReaders(ctx)
	reader, err := old.ShortLived(ctx, d.Name, old.View.Server.Reading(old.Plan.Contents[d.Name]), "")
	if err != nil {
		return "", err
	}
	exporter := old.ExporterOf(reader.Server, d.Name)
	login, err := r.OwnLogin(ctx, r.App.Accounts[0], d)
	if err != nil {
		return "", err
	}
	defer login.Close()
	importer, err := r.ImporterFor(ctx, load.Target{Database: d.Name, Charset: d.Charset})
	if err != nil {
		return "", err
	}
	source, failed := stream(r, ctx, exporter, d.Name+" on "+old.App.Server)
	options := r.Options.Move.Loading()
	survey, err := importer.Check(ctx, source, options)
	if err = cmp.Or(failed(), err); err != nil {
		return "", err
	}
	w := &work.WantedScript{Into: d, Source: source, Importer: importer, Survey: survey, Options: options}
	r.Plan.Scripts = append(r.Plan.Scripts, w)
	if err := content.NoteUnfinished(r, w); err != nil {
		return "", err
	}
	doing.Touched = true
	report, err := content.ImportScript(r, ctx, login, w)
	if err = cmp.Or(failed(), err); err != nil {
		return "", err
	}
	want, err := exporter.Export(ctx, io.Discard, export.Options{Sums: true}, nil)
	if err != nil {
		return "", content.ExportFailed(r, ctx, err)
	}
	got, err := r.ExporterOf(login, d.Name).Export(ctx, io.Discard, export.Options{Sums: true}, nil)
	if err != nil {
		return "", content.ExportFailed(r, ctx, err)
	}
	same := releaseOf(old.View.Server) == releaseOf(r.View.Server)
	if differences := export.Differences(want.Comparable(same), got.Comparable(same)); len(differences) > 0 {
		return "", fault.New(fault.Protected, "report this, with the two definitions", "what arrived of %s is not what was sent: %s", d.Name, work.JoinSome(differences))
	}
	of.Step.Seconds = time.Since(began).Seconds()
	return fmt.Sprintf("%s from %s: %s, compared", d.Name, old.App.Server, report.Describe()), content.ImportIsOver(r, d)
}

// releaseOf is what servers show definitions alike in: a product, and its version but for
// the last number, which counts corrections.
func releaseOf(s dbms.Server) string {
	about := s.About()
	version := about.Version
	if at := strings.LastIndexByte(version, '.'); at > 0 {
		version = version[:at]
	}
	return string(about.Product) + " " + version
}
