package provision

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

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/export"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
)

// stream is an export that is read like a file, while it is being made. failed gives what
// ended it too early, which its reader meets as the end of the script within a literal.
func (r *run) stream(ctx context.Context, exporter export.Exporter, name string) (source script.Source, failed func() error) {
	var why atomic.Pointer[error]
	failed = func() error {
		if err := why.Load(); err != nil {
			return r.exportFailed(ctx, *err)
		}
		return nil
	}
	return script.Source{Path: name, Name: name, Stream: true, LongestStatement: longestOfExports, Opener: func(string) (*os.File, error) {
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
func (r *run) checkTransfer(ctx context.Context) error {
	old := r.from.old
	errs := []error{r.checkEvents(ctx)}
	for _, d := range r.app.All() {
		reader, err := old.readerOf(ctx, old.app.All()[slices.Index(r.app.All(), d)])
		if err != nil {
			return err
		}
		if reader.Server == nil {
			continue // a dry run makes no account
		}
		exporter := old.exporterOf(reader.Server, d.Name)
		survey, err := exporter.Look(ctx, export.Options{})
		if err != nil {
			return r.exportFailed(ctx, err)
		}
		for _, left := range survey.LeftOut {
			errs = append(errs, fault.New(fault.Protected, "drop it, or move it by hand first", "%s cannot be moved: %s", left, left.Why))
		}
		r.plan.note(stepSQL, "", d.Name+": "+survey.Describe()+", about "+figures.Size(survey.AboutBytes)+" of rows")
		if err := r.rehearse(ctx, exporter, d); err != nil {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// checkEvents tells if what runs by itself there would not do so here.
func (r *run) checkEvents(ctx context.Context) error {
	old, note := r.from.old, r.from.note
	if len(note.Events) == 0 {
		return nil
	}
	ran, err := old.view.server.(dbms.Freezes).RunsEvents(ctx)
	if err != nil || !ran {
		return err
	}
	runs, err := r.view.server.(dbms.Freezes).RunsEvents(ctx)
	if err == nil && !runs {
		r.plan.differs(stepSQL, estate.ShouldLook, "write event_scheduler = ON into its settings, and SET GLOBAL event_scheduler = ON until it is restarted", "server "+r.app.Server+" runs no events: "+some(note.events()))
	}
	return err
}

// rehearsalTime is for how long an import is tried.
const rehearsalTime = 3 * time.Second

// rehearse reads what will come, tries its import for a while in a scratch database, and
// tells how long the application will be able to read only.
func (r *run) rehearse(ctx context.Context, exporter export.Exporter, d *estate.Database) error {
	const (
		passes   = 3 // it is read once before its import, and twice to be compared, on about as many cores
		attempts = 2 // the application is at work: what was read once may be different now
	)
	importer, err := r.importerFor(ctx, load.Target{Database: d.Name, Charset: d.Charset})
	if err != nil {
		return err
	}
	for range attempts {
		began := time.Now()
		source, failed := r.stream(ctx, exporter, d.Name+" on "+r.from.old.app.Server)
		survey, checked := importer.Check(ctx, source, r.options.Move.loading())
		if checked == nil {
			checked = refusals([]*wantedScript{{survey: survey}})
		}
		if checked = cmp.Or(failed(), checked); checked != nil {
			return checked
		}
		reading := passes * time.Since(began)
		if r.options.DryRun {
			r.plan.note(stepSQL, "", fmt.Sprintf("the application can only read meanwhile: about %.1f s, and the time of an import, which a dry run does not try", reading.Seconds()))
			return nil
		}
		var importing time.Duration
		var how string
		if importing, how, err = r.tryImport(ctx, exporter, survey, d); err == nil {
			r.plan.note(stepSQL, "", fmt.Sprintf("the application can only read meanwhile: about %.1f s (%s)", (reading+importing).Seconds(), how))
			return nil
		}
	}
	f := *fault.As(err)
	f.What = "an import into a scratch database failed: " + f.What
	return &f
}

// tryImport imports into a scratch database, as an account with no rights beside it, and
// tells how long the whole takes, and how that is known.
func (r *run) tryImport(ctx context.Context, exporter export.Exporter, survey *load.Survey, d *estate.Database) (whole time.Duration, how string, err error) {
	defer r.endReaders(ctx)
	scratch, err := r.scratchDatabase(ctx, d.Charset, d.Collation)
	if err != nil {
		return 0, "", err
	}
	importer, err := r.importerFor(ctx, load.Target{Database: scratch.database, Charset: d.Charset})
	if err != nil {
		return 0, "", err
	}
	limited, cancel := context.WithTimeout(ctx, rehearsalTime)
	defer cancel()
	var last load.Progress
	began := time.Now()
	source, failed := r.stream(limited, exporter, "a sample of "+d.Name)
	_, err = r.withLogin(importer, scratch.Server).Import(limited, source, survey, r.options.Move.loading(), func(p load.Progress) { last = p })
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
func (r *run) transfer(ctx context.Context, doing *effect.Doing[importState], of *importing) (string, error) {
	began := time.Now()
	old, d := r.from.old, of.source.into
	defer old.endReaders(ctx)
	reader, err := old.shortLived(ctx, d.Name, old.view.server.Reading(old.plan.contents[d.Name]), "")
	if err != nil {
		return "", err
	}
	exporter := old.exporterOf(reader.Server, d.Name)
	login, err := r.ownLogin(ctx, r.app.Accounts[0], d)
	if err != nil {
		return "", err
	}
	defer login.Close()
	importer, err := r.importerFor(ctx, load.Target{Database: d.Name, Charset: d.Charset})
	if err != nil {
		return "", err
	}
	source, failed := r.stream(ctx, exporter, d.Name+" on "+old.app.Server)
	options := r.options.Move.loading()
	survey, err := importer.Check(ctx, source, options)
	if err = cmp.Or(failed(), err); err != nil {
		return "", err
	}
	w := &wantedScript{into: d, Source: source, importer: importer, survey: survey, options: options}
	r.plan.scripts = append(r.plan.scripts, w)
	if err := r.noteUnfinished(w); err != nil {
		return "", err
	}
	doing.Touched = true
	report, err := r.importScript(ctx, login, w)
	if err = cmp.Or(failed(), err); err != nil {
		return "", err
	}
	want, err := exporter.Export(ctx, io.Discard, export.Options{Sums: true}, nil)
	if err != nil {
		return "", r.exportFailed(ctx, err)
	}
	got, err := r.exporterOf(login, d.Name).Export(ctx, io.Discard, export.Options{Sums: true}, nil)
	if err != nil {
		return "", r.exportFailed(ctx, err)
	}
	same := releaseOf(old.view.server) == releaseOf(r.view.server)
	if differences := export.Differences(want.Comparable(same), got.Comparable(same)); len(differences) > 0 {
		return "", fault.New(fault.Protected, "report this, with the two definitions", "what arrived of %s is not what was sent: %s", d.Name, some(differences))
	}
	of.step.Seconds = time.Since(began).Seconds()
	return fmt.Sprintf("%s from %s: %s, compared", d.Name, old.app.Server, report.Describe()), r.importIsOver(d)
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
