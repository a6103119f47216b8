package provision

import (
	"context"
	"errors"
	"slices"
	"strings"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/planning"
	"yellowfield/internal/proof"
	"yellowfield/internal/settings"
	"yellowfield/internal/state"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
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

func accept(r *work.Run, ctx context.Context, acceptance Acceptance) error {
	s, err := settingsToAccept(r, acceptance.File)
	if err != nil {
		return work.AtStep(work.StepSettings, err)
	}
	if err := planning.MakePlan(r, ctx); err != nil {
		return r.TellPlanFaults(err)
	}
	path := r.App.InFolder(s.File)
	text := acceptance.Text
	if text == nil {
		if text, err = r.Read(path); err != nil {
			return work.AtStep(work.StepSettings, fault.At(fault.Invalid, fault.Place{File: path}, "finish the installer, or give the text it printed with --text -",
				"the installer has not written its settings yet").With(err))
		}
	}
	if err := checkAccepted(r, s, path, text); err != nil {
		return work.AtStep(work.StepSettings, err)
	}
	if acceptance.Text != nil {
		if err := writeAccepted(r, s, path, acceptance); err != nil {
			return work.AtStep(work.StepSettings, err)
		}
	} else {
		r.Tell(work.Row{Step: work.StepSettings, Outcome: work.Verified, Facts: s.File + " agrees in " + figures.Counted(len(s.Values), "value", "values")})
	}
	proof.CheckSettingsLogin(r, ctx, s, path)
	return nil
}

// settingsToAccept finds the entry of the estate file that is meant.
func settingsToAccept(r *work.Run, file string) (*estate.Settings, error) {
	made := r.App.Installer.Settings
	if file == "" && len(made) == 1 {
		file = made[0]
	}
	if i := slices.IndexFunc(r.App.Settings, func(s *estate.Settings) bool { return s.File == file }); i >= 0 && slices.Contains(made, file) {
		return r.App.Settings[i], nil
	}
	if file == "" {
		return nil, r.Estate.Fault(fault.Invalid, r.Path("installer"), "name one with --file: "+strings.Join(made, ", "),
			"the installer of app %s writes %s", r.App.Name, figures.Counted(len(made), "settings file", "settings files"))
	}
	return nil, r.Estate.Fault(fault.Invalid, r.Path("installer"), "list it under installer.settings and settings",
		"%s is no settings file that the installer of app %s writes", file, r.App.Name)
}

// checkAccepted compares the facts of a text with those of the estate file.
func checkAccepted(r *work.Run, s *estate.Settings, path string, text []byte) error {
	file, err := settings.Parse(path, text)
	if err != nil {
		return err
	}
	c := r.Plan.Credentials[r.App.AccountOf(s)]
	differing, err := steps.Compare(r, file, s, r.Facts(r.App.AccountOf(s), c.Password))
	if err != nil {
		return err
	}
	var errs []error
	for _, d := range differing {
		errs = append(errs, fault.At(fault.Differs, d.Place, "run the installer again with the facts of: yellowfield connection "+r.App.Name,
			"%s", d.Describe(r.App.AccountOf(s).Name)))
	}
	return errors.Join(errs...)
}

// writeAccepted shows a text, asks, and writes it with the right owner and mode.
func writeAccepted(r *work.Run, s *estate.Settings, path string, acceptance Acceptance) error {
	files, err := r.Files()
	if err != nil {
		return err
	}
	if files.Exists(path) && r.IsWritten(path) {
		return fault.At(fault.Protected, fault.Place{File: path}, "remove the file, or accept it as it is, without --text", "the settings file is there already")
	}
	attributes, err := steps.AttributesFor(r, path, true)
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
	journal, err := r.State.Begin(state.Entry{Command: r.Options.Command, App: r.App.Name, Server: r.App.Server, Detail: r.Estate.Path})
	if err != nil {
		return err
	}
	defer journal.End("")
	if err := journal.Record(state.Entry{Event: state.Intended, Step: work.StepSettings, Object: path}); err != nil {
		return err
	}
	if err := files.Write(path, acceptance.Text, attributes); err != nil {
		return err
	}
	r.Tell(work.Row{Step: work.StepSettings, Outcome: work.Written, Facts: s.File + ", " + steps.DescribeAttributes(r, attributes)})
	return nil
}
