package provision

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/state"
)

// planChangesBack takes back what runs have changed, and not made, as far as their
// journals say what it was: rights, owners and modes, removed files, contents of settings
// files. What is otherwise now than the run has left it was changed by somebody since, and
// is refused; after a run that was cut off it may be in between.
func (r *run) planChangesBack(entries []state.Entry, cutOff bool) (errs []error) {
	seen := map[string]bool{}
	for _, e := range slices.Backward(entries) {
		key := e.Step + " " + e.Object
		if e.Event == state.Undone {
			seen[key] = true
		}
		if e.Event != state.Intended || e.Note != "" || seen[key] {
			continue
		}
		seen[key] = true
		switch {
		case e.Step == stepRights && e.Before+e.After != "":
			errs = append(errs, r.planRightsBack(e, cutOff))
		case e.Step == stepPHP:
			errs = append(errs, r.planDropInBack(e))
		case e.Step == stepOwnership && e.Before != "":
			errs = append(errs, r.planAttributesBack(e, cutOff))
		case e.Step == stepState && e.Before != "":
			errs = append(errs, r.planOpeningBack(e))
		case e.Step == stepInstaller && e.Copy == "":
			errs = append(errs, r.planRemovedBack(e, entries))
		case e.Step == stepSettings && e.After != "" && !cutOff:
			errs = append(errs, r.planContentBack(e, entries))
		}
	}
	return errs
}

// since refuses to take back what is not as a run has left it.
func since(what, has, left string) error {
	return fault.New(fault.Protected, "look at it, and change it by hand", "%s was changed since: it is %s, and the run has left %s", what, has, left)
}

func (r *run) planRightsBack(e state.Entry, cutOff bool) error {
	for _, account := range r.app.Accounts {
		for _, a := range r.accountsOf(account) {
			for _, d := range r.app.DatabasesOf(account) {
				if e.Object != rightsObject(a, d.Name) {
					continue
				}
				if cutOff && r.hasBegun(stepAccount, "account "+a.String()) {
					return nil // they go with it
				}
				grants := r.view.catalogue.Grants(a)
				held, _ := r.view.server.HeldOn(d.Name, grants)
				if !cutOff && held.String() != e.After {
					return &stepError{stepRights, since(e.Object, held.String(), e.After)}
				}
				var before dbms.Privileges
				if e.Before != "" {
					before = dbms.NewPrivileges(strings.Split(e.Before, ", ")...)
				}
				statements, lowers := r.view.server.ChangeRights(a, d.Name, grants, before)
				if len(statements) > 0 {
					r.takeBackBy(stepRights, e.Object, func(ctx context.Context) error {
						if err := r.view.server.Exec(ctx, statements...); err != nil || !lowers {
							return err
						}
						return r.view.server.EndSessions(ctx, a)
					})
				}
				return nil
			}
		}
	}
	return &stepError{stepRights, fault.New(fault.Protected, "change them by hand", "the estate file has no account and database any more for: %s", e.Object)}
}

func rightsObject(a dbms.Account, database string) string {
	return "rights of " + a.String() + " on " + database
}

const attributesObject = "owner and mode of "

func (r *run) planAttributesBack(e state.Entry, cutOff bool) error {
	path := strings.TrimPrefix(e.Object, attributesObject)
	has, err := r.attributes(path)
	if cutOff && errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return &stepError{stepOwnership, unreadable(path, err)}
	}
	var before atomicfile.Attributes
	if _, err := fmt.Sscanf(e.Before, "%d:%d %o", &before.UID, &before.GID, &before.Mode); err != nil {
		return &stepError{stepOwnership, fault.New(fault.Protected, "set them by hand", "the journal does not say what was: %s", e.Object)}
	}
	switch now := writeAttributes(has); {
	case has == before:
		return nil
	case !cutOff && now != e.After:
		return &stepError{stepOwnership, since(e.Object, now, e.After)}
	}
	files, err := r.files()
	if err == nil {
		r.takeBackBy(stepOwnership, e.Object, func(context.Context) error { return files.SetAttributes(path, has, before) })
	}
	return err
}

// copyOf is where a run has kept what was at a path.
func copyOf(entries []state.Entry, step, path string) string {
	for _, e := range slices.Backward(entries) {
		if e.Step == step && e.Object == path && e.Copy != "" {
			return e.Copy
		}
	}
	return ""
}

func (r *run) planRemovedBack(e state.Entry, entries []state.Entry) error {
	path := strings.TrimPrefix(e.Object, "installer ")
	kept := copyOf(entries, stepInstaller, path)
	files, err := r.files()
	switch {
	case err != nil:
		return err
	case kept == "" && files.Exists(path): // it had not come so far
		return nil
	case kept == "":
		return &stepError{stepInstaller, fault.At(fault.Protected, fault.Place{File: path}, "unpack it anew, if it is needed", "what was removed for good cannot be put back")}
	}
	archive, err := r.State.OpenRemoved(kept)
	if err != nil {
		return &stepError{stepInstaller, err}
	}
	_ = archive.Close()
	r.takeBackBy(stepInstaller, e.Object, func(context.Context) error { return r.putBack(path, kept) })
	return nil
}

// digest tells contents apart in the journal, which holds none.
func digest(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

func (r *run) planContentBack(e state.Entry, entries []state.Entry) error {
	path := strings.TrimPrefix(e.Object, "settings ")
	kept := copyOf(entries, stepSettings, path)
	now, err := r.read(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil
	case err != nil:
		return &stepError{stepSettings, err}
	case digest(now) != e.After:
		return &stepError{stepSettings, fault.At(fault.Protected, fault.Place{File: path}, "look at it, and change it by hand", "the file was changed since")}
	case kept == "":
		return &stepError{stepSettings, fault.At(fault.Protected, fault.Place{File: path}, "it is the application's by now; remove it by hand if nobody needs it", "the run has made this file")}
	}
	r.takeBackBy(stepSettings, e.Object, func(context.Context) error { return r.fileBack(path, kept) })
	return nil
}

// UndoRun takes back a run that has ended, where that is still possible.
func (e *Engine) UndoRun(ctx context.Context, app *estate.App, entries []state.Entry, options Options) ([]Result, error) {
	return e.each(ctx, []*estate.App{app}, options, func(r *run, ctx context.Context) error { return r.undoRun(ctx, entries) })
}

// whyNot says for steps that no journal can take back what to do instead.
func (r *run) whyNot(entries []state.Entry) (errs []error) {
	told := map[string]bool{}
	refuse := func(step, what, next string) {
		if !told[what] {
			told[what] = true
			errs = append(errs, &stepError{step, fault.New(fault.Protected, next, "%s", what)})
		}
	}
	for _, e := range entries {
		switch {
		case e.Event != state.Intended || e.Note != "":
		case e.Step == stepDatabase && !strings.HasPrefix(e.Object, "database "):
			refuse(e.Step, "the run has converted tables to another character set", "convert them back by hand, if nothing was stored since that the other one lacks")
		case e.Step == stepDatabase, e.Step == stepSQL:
			refuse(e.Step, "the run has made or filled a database, and the application may have stored something since", "drop by hand what nobody needs")
		case e.Step == stepAccount && strings.HasPrefix(e.Object, "lock of "):
			refuse(e.Step, "the run has taken the app out of use, or brought it back", "yellowfield retire "+r.app.Name+" --back, or yellowfield retire "+r.app.Name)
		case e.Step == stepAccount && strings.HasPrefix(e.Object, "account "):
			refuse(e.Step, "the run has made an account, which the application may be at work with", "drop it by hand if nobody needs it")
		case e.Step == stepAccount && !strings.HasPrefix(e.Object, "limits of "):
			refuse(e.Step, "the run has set a password, and the one before it is kept nowhere", "yellowfield rotate "+r.app.Name+" makes a new one")
		}
	}
	return errs
}

func (r *run) undoRun(ctx context.Context, entries []state.Entry) error {
	r.plan = r.emptyPlan()
	if err := errors.Join(append(r.whyNot(entries), r.planChangesBack(entries, false)...)...); err != nil {
		return r.tellPlanFaults(err)
	}
	if len(r.plan.steps) == 0 {
		r.tell(Row{Step: stepState, Outcome: Kept, Facts: "there is nothing to take back"})
		return nil
	}
	return r.carryOut(ctx)
}
