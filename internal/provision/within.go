package provision

import (
	"context"

	"yellowfield/internal/content"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/lifecycle"
	"yellowfield/internal/state"
	"yellowfield/internal/work"
)

// within holds the app's locks while work is done: a file lock here, and a
// lock on the server against other hosts.
func within(r *work.Run, ctx context.Context, do func(context.Context) error) error {
	c, err := reach(r, ctx)
	if err != nil {
		return err
	}
	release, err := r.LockHere(ctx)
	if err != nil {
		return err
	}
	defer release()
	if c.Admin != nil {
		r.WarnOfStrangers(c)
		release, holder, err := r.Lock(ctx, c.Admin, r.LockThere(), true)
		if err != nil {
			return err
		}
		if holder != nil {
			return fault.New(fault.Busy, work.TryLater+"; if nothing is at work there, end that session as the administrator: "+holder.End.String(),
				"someone else is working on app %s from another host or folder (%s)", r.App.Name, holder.Who)
		}
		defer release()
	}
	if err := r.ReadAgain(); err != nil {
		return err
	}
	if c.Admin != nil {
		if err := r.DropForgotten(ctx); err != nil {
			return err
		}
	}
	cut, err := r.State.CutOff(r.App.Name, r.Estate.Path)
	if err != nil {
		return err
	}
	r.Interrupted = cut
	if cut != nil && c.Admin != nil && !r.Options.DryRun {
		content.EndImports(r, ctx, c)
	}
	if err := r.LookFirst(ctx); err != nil {
		return err
	}
	if c.Admin == nil {
		defer r.View.Server.Close()
	}
	if cut != nil {
		tellCutOff(r, cut)
		if !r.Options.DryRun {
			if err := r.Sweep(); err != nil {
				return err
			}
		}
	}
	if err := lifecycle.FinishMove(r, ctx); err != nil {
		return err
	}
	if err := content.FinishEmptying(r, ctx); err != nil {
		return err
	}
	if err := do(ctx); err != nil || cut == nil || r.Options.DryRun || r.StillCut {
		return err
	}
	if err := cut.End(); err != nil {
		return fault.New(fault.Failed, "make room on the disk, or check the rights of this user", "the journal of a run that was cut off cannot be ended: %v", err).With(err)
	}
	return content.ForgetPutBack(r)
}

// tellCutOff tells of a run that was killed. A run that changes something goes on from
// what it finds; one that only looks says so.
func tellCutOff(r *work.Run, cut *state.CutOff) {
	facts := cut.Command + " of " + cut.Began.Local().Format("2006-01-02 15:04:05")
	switch {
	case cut.Last.Event == state.Left:
		facts += " could not take everything back"
	case cut.Last.Event == state.Intended && cut.Last.Object != "":
		facts += " was cut off while at work on: " + cut.Last.Object
	case cut.Last.Object != "":
		facts += " was cut off after: " + cut.Last.Object
	default:
		facts += " was cut off"
	}
	switch {
	case r.Options.UndoUnfinished:
		r.Tell(work.Row{Step: "server", Outcome: work.Note, Facts: facts})
	case r.Options.DryRun:
		r.Tell(work.Row{Step: "server", Outcome: work.Differs, Severity: estate.ShouldLook, Facts: facts, Remedy: "yellowfield provision " + r.App.Name + " goes on with it, and with --undo-unfinished takes it back"})
	default:
		r.Tell(work.Row{Step: "server", Outcome: work.Note, Facts: facts + "; this run goes on from what it has left"})
	}
}

// reach logs in as administrator. The first app on a server does so, and restores what a
// killed run has left changed there; if that fails, the first app says why, and the others
// only refer to it.
func reach(r *work.Run, ctx context.Context) (*work.Connection, error) {
	first, itself := r.SpeaksFor()
	server := r.Reached[r.App.Server]
	if r.IsAnew { // of which no other app waits to hear
		c, err := r.Arrive(ctx)
		if err == nil && c.Admin != nil {
			err = content.RestoreForgotten(r, ctx, c)
		}
		return c, err
	}
	if itself {
		c, err := r.Arrive(ctx)
		if err == nil && c.Admin != nil {
			err = content.RestoreForgotten(r, ctx, c)
		}
		server.Err = err
		close(server.Tried)
		return c, err
	}
	select {
	case <-server.Tried:
	case <-ctx.Done():
		return nil, fault.Stopped(ctx.Err())
	}
	if server.Err == nil {
		return r.Arrive(ctx)
	}
	r.Tell(work.Row{Step: "server", Outcome: work.Failed, See: first.Name, Facts: "server " + r.App.Server + " cannot be used: see app " + first.Name})
	r.Result.Exit = fault.Graver(r.Result.Exit, fault.As(server.Err).Class.ExitCode())
	return nil, work.Told(server.Err)
}
