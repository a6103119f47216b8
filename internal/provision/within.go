package provision

import (
	"context"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// within holds the app's locks while work is done: a file lock here, and a
// lock on the server against other hosts.
func (r *run) within(ctx context.Context, work func(context.Context) error) error {
	c, err := r.reach(ctx)
	if err != nil {
		return err
	}
	release, err := r.lockHere(ctx)
	if err != nil {
		return err
	}
	defer release()
	if c.admin != nil {
		r.warnOfStrangers(c)
		release, holder, err := r.lock(ctx, c.admin, "yellowfield:"+r.app.Database.Name, true)
		if err != nil {
			return err
		}
		if holder != nil {
			return fault.New(fault.Busy, tryLater+"; if nothing is at work there, end that session as the administrator: "+holder.End.String(),
				"someone else is working on app %s from another host or folder (%s)", r.app.Name, holder.Who)
		}
		defer release()
		if err := r.dropForgotten(ctx); err != nil {
			return err
		}
	}
	cut, err := r.State.CutOff(r.app.Name, r.Estate.Path)
	if err != nil {
		return err
	}
	r.cut = cut
	if cut != nil && c.admin != nil && !r.options.DryRun {
		r.endImports(ctx, c)
	}
	if err := r.lookFirst(ctx); err != nil {
		return err
	}
	if c.admin == nil {
		defer r.view.server.Close()
	}
	if cut != nil {
		r.tellCutOff(cut)
		if !r.options.DryRun {
			if err := r.sweep(); err != nil {
				return err
			}
		}
	}
	if err := r.finishMove(ctx); err != nil {
		return err
	}
	if err := r.finishEmptying(ctx); err != nil {
		return err
	}
	if err := work(ctx); err != nil || cut == nil || r.options.DryRun || r.stillCut {
		return err
	}
	if err := cut.End(); err != nil {
		return fault.New(fault.Failed, "make room on the disk, or check the rights of this user", "the journal of a run that was cut off cannot be ended: %v", err).With(err)
	}
	return nil
}

// tellCutOff tells of a run that was killed. A run that changes something goes on from
// what it finds; one that only looks says so.
func (r *run) tellCutOff(cut *state.CutOff) {
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
	case r.options.UndoUnfinished:
		r.tell(Row{Step: "server", Outcome: Note, Facts: facts})
	case r.options.DryRun:
		r.tell(Row{Step: "server", Outcome: Differs, Severity: estate.ShouldLook, Facts: facts, Remedy: "yellowfield provision " + r.app.Name + " goes on with it, and with --undo-unfinished takes it back"})
	default:
		r.tell(Row{Step: "server", Outcome: Note, Facts: facts + "; this run goes on from what it has left"})
	}
}

// reach logs in as administrator. The first app on a server tries it, and restores what a
// killed run has left changed there; where that fails it is told there why, and the others only
// say so.
func (r *run) reach(ctx context.Context) (*connection, error) {
	first, itself := r.speaksFor()
	server := r.reached[r.app.Server]
	if itself {
		c, err := r.arrive(ctx)
		if err == nil && c.admin != nil {
			err = r.restoreForgotten(ctx, c)
		}
		server.err = err
		close(server.tried)
		return c, err
	}
	select {
	case <-server.tried:
	case <-ctx.Done():
		return nil, fault.Stopped(ctx.Err())
	}
	if server.err == nil {
		return r.arrive(ctx)
	}
	r.tell(Row{Step: "server", Outcome: Failed, See: first.Name, Facts: "server " + r.app.Server + " cannot be used: see app " + first.Name})
	r.result.Exit = fault.Graver(r.result.Exit, fault.As(server.err).Class.ExitCode())
	return nil, &toldError{server.err}
}
