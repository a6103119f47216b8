package provision

import (
	"context"
	"errors"
	"slices"
	"strings"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/settings"
	"yellowfield/internal/state"
)

// Acceptance says what to accept.
type Acceptance struct {
	// File is the settings file as the estate file names it; empty for the
	// only one that the installer makes.
	File string
	// Text is what the installer printed for pasting; nil when it has written
	// the file itself.
	Text []byte
	// Confirm is asked before Text is written, and is shown the settings in it, with
	// the secrets masked.
	Confirm func(path, listing string) bool
}

func (r *run) accept(ctx context.Context, acceptance Acceptance) error {
	s, err := r.settingsToAccept(acceptance.File)
	if err != nil {
		return &stepError{stepSettings, err}
	}
	if err := r.makePlan(ctx); err != nil {
		return r.tellPlanFaults(err)
	}
	path := r.app.InFolder(s.File)
	text := acceptance.Text
	if text == nil {
		if text, err = r.read(path); err != nil {
			return &stepError{stepSettings, fault.At(fault.Invalid, fault.Place{File: path}, "finish the installer, or give the text it printed with --text -",
				"the installer has not written its settings yet").With(err)}
		}
	}
	if err := r.checkAccepted(s, path, text); err != nil {
		return &stepError{stepSettings, err}
	}
	if acceptance.Text != nil {
		if err := r.writeAccepted(s, path, acceptance); err != nil {
			return &stepError{stepSettings, err}
		}
	} else {
		r.tell(Row{Step: stepSettings, Outcome: Verified, Facts: s.File + " agrees in " + figures.Counted(len(s.Values), "value", "values")})
	}
	r.checkSettingsLogin(ctx, s, path)
	return nil
}

// settingsToAccept finds the entry of the estate file that is meant.
func (r *run) settingsToAccept(file string) (*estate.Settings, error) {
	made := r.app.Installer.Settings
	if file == "" && len(made) == 1 {
		file = made[0]
	}
	if i := slices.IndexFunc(r.app.Settings, func(s *estate.Settings) bool { return s.File == file }); i >= 0 && slices.Contains(made, file) {
		return r.app.Settings[i], nil
	}
	if file == "" {
		return nil, r.Estate.Fault(fault.Invalid, r.path("installer"), "name one with --file: "+strings.Join(made, ", "),
			"the installer of app %s writes %s", r.app.Name, figures.Counted(len(made), "settings file", "settings files"))
	}
	return nil, r.Estate.Fault(fault.Invalid, r.path("installer"), "list it under installer.settings and settings",
		"%s is no settings file that the installer of app %s writes", file, r.app.Name)
}

// checkAccepted compares the facts of a text with those of the estate file.
func (r *run) checkAccepted(s *estate.Settings, path string, text []byte) error {
	file, err := settings.Parse(path, text)
	if err != nil {
		return err
	}
	c := r.plan.credentials[r.app.AccountOf(s)]
	differing, err := r.compare(file, s, r.facts(r.app.AccountOf(s), c.password))
	if err != nil {
		return err
	}
	var errs []error
	for _, d := range differing {
		errs = append(errs, fault.At(fault.Differs, d.place, "run the installer again with the facts of: yellowfield connection "+r.app.Name,
			"%s", d.describe(r.app.AccountOf(s).Name)))
	}
	return errors.Join(errs...)
}

// writeAccepted shows a text, asks, and writes it with the right owner and mode.
func (r *run) writeAccepted(s *estate.Settings, path string, acceptance Acceptance) error {
	files, err := r.files()
	if err != nil {
		return err
	}
	if files.Exists(path) && r.isWritten(path) {
		return fault.At(fault.Protected, fault.Place{File: path}, "remove the file, or accept it as it is, without --text", "the settings file is there already")
	}
	attributes, err := r.attributesFor(path, true)
	if err != nil {
		return err
	}
	file, err := settings.Parse(path, acceptance.Text)
	if err != nil {
		return err
	}
	if acceptance.Confirm == nil || !acceptance.Confirm(path, file.Listing()) {
		return fault.At(fault.Protected, fault.Place{File: path}, "answer yes, or add --yes", "the text was not written")
	}
	journal, err := r.State.Begin(state.Entry{Command: r.options.Command, App: r.app.Name, Server: r.app.Server, Detail: r.Estate.Path})
	if err != nil {
		return err
	}
	defer journal.End("")
	if err := journal.Record(state.Entry{Event: state.Intended, Step: stepSettings, Object: path}); err != nil {
		return err
	}
	if err := files.Write(path, acceptance.Text, attributes); err != nil {
		return err
	}
	r.tell(Row{Step: stepSettings, Outcome: Written, Facts: s.File + ", " + r.describeAttributes(attributes)})
	return nil
}
