package steps

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/secret"
	"yellowfield/internal/settings"
	"yellowfield/internal/work"
)

func PlanSettings(r *work.Run, ctx context.Context) error {
	r.Plan.Settings = &work.Publication{}
	if len(r.App.Settings) == 0 {
		return nil
	}
	if !r.HasFolder() {
		r.Plan.Absent = true
		r.Plan.Tell(work.Row{Step: work.StepSettings, Outcome: work.Waiting, Facts: "the folder " + r.App.Folder + " is not there yet", Remedy: "unpack the application, then yellowfield provision " + r.App.Name})
		return nil
	}
	if w := r.WayForApp(r.App.Accounts[0]); w.Trouble != "" {
		r.Plan.Differs(work.StepSettings, estate.MustFix, r.WaysToSocket(r.App.Accounts[0]), w.Trouble)
		r.Plan.Unmet = true
		return nil
	}
	var errs []error
	for _, s := range r.App.Settings {
		errs = append(errs, planSettingsFile(r, ctx, s))
	}
	return errors.Join(errs...)
}

func planSettingsFile(r *work.Run, ctx context.Context, s *estate.Settings) error {
	path := r.App.InFolder(s.File)
	file, err := r.OpenSettings(path)
	absent := errors.Is(err, fs.ErrNotExist)
	switch {
	case absent && r.App.MadeByInstaller(s):
		r.Plan.Tell(work.Row{Step: work.StepSettings, Outcome: work.Waiting, Facts: s.File + ": its installer writes it"})
		return nil
	case absent && s.Template == "" && s.Add && settings.Blank(path) != nil:
		if file, err = settings.Parse(path, settings.Blank(path)); err != nil {
			return err
		}
	case absent && s.Template == "":
		return r.Estate.Fault(fault.Invalid, settingsPath(r, s)+".file", "write template: PATH, or list the file under installer if the application writes it",
			"the settings file %s does not exist, and nothing says what to make it from", s.File)
	case absent:
		if file, err = r.OpenSettings(r.App.InFolder(s.Template)); err != nil {
			return err
		}
	case err != nil:
		return err
	}
	c := r.Plan.Credentials[r.App.AccountOf(s)]
	if c == nil {
		return nil // an earlier step has reported the missing password
	}
	if !c.Knows() {
		c = &work.Credential{Password: secret.NewPassword("unknown")}
	}
	wanted := r.Facts(r.App.AccountOf(s), c.Password)
	differing, err := Compare(r, file, s, wanted)
	if err != nil {
		return err
	}
	if len(differing) == 0 && !absent {
		r.Plan.Keep(work.StepSettings, s.File+" agrees in "+figures.Counted(len(s.Values), "value", "values"))
		return nil
	}
	if r.Plan.LoginBlocked != "" && absent {
		r.Plan.Tell(work.Row{Step: work.StepSettings, Outcome: work.NotReached, Facts: s.File + ": " + r.Plan.LoginBlocked})
		return nil
	}
	outcome := work.Written
	if !absent {
		mayWrite, err := mayReplace(r, ctx, s, path, differing)
		if err != nil || !mayWrite {
			return err
		}
		if r.Options.Fixes(work.FixSettings) && !r.Plan.Fresh {
			outcome = work.Fixed
		}
	}
	return planWriting(r, s, path, file, absent, outcome, wanted)
}

func settingsPath(r *work.Run, s *estate.Settings) string {
	for i, other := range r.App.Settings {
		if other == s {
			return r.Path(fmt.Sprintf("settings[%d]", i))
		}
	}
	return r.Path("settings")
}

// difference is a value in a settings file that is not the wanted one.
type difference struct {
	value      estate.Value
	Place      fault.Place
	has, wants string
	absent     bool // the file does not set it, or only in a comment
	hidden     bool // what the file has may be a secret
}

// Describe says what a value is and should be, without showing a password.
func (d difference) Describe(account string) string {
	if d.absent {
		return d.value.Address + " is not set"
	}
	if d.value.Text.Uses("password") {
		return d.value.Address + " is not the password of " + account
	}
	if d.hidden {
		return fmt.Sprintf("%s is not %q", d.value.Address, d.wants)
	}
	return fmt.Sprintf("%s is %q, not %q", d.value.Address, d.has, d.wants)
}

// Compare finds the values that differ as facts: two ways to write the same
// thing agree.
func Compare(r *work.Run, file *settings.File, s *estate.Settings, wanted estate.Facts) ([]difference, error) {
	var found []difference
	var errs []error
	for _, value := range s.Values {
		setting, err := file.Lookup(value.Address)
		wants := value.Text.Fill(wanted)
		if err != nil && file.MayGain(settings.Change{Address: value.Address, Value: wants, Add: s.Add}, err) {
			found = append(found, difference{value: value, Place: fault.Place{File: file.Path}, wants: wants, absent: true})
			continue
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		if setting.Value == wants || sameFacts(value.Text, setting.Value, wanted) || leavesSocket(r, value.Text, setting.Value, wanted) {
			continue
		}
		found = append(found, difference{value: value, Place: setting.Place, has: setting.Value, wants: wants, hidden: settings.IsSecretAs(RoleOf(value), setting)})
	}
	return found, errors.Join(errs...)
}

// RoleOf is what a value is for: the one fact that it stands for, else what its
// address says.
func RoleOf(value estate.Value) settings.Role {
	if name, only := value.Text.Only(); only {
		return settings.Role(name)
	}
	return settings.RoleOf(value.Address)
}

// leavesSocket reports whether settings leave the socket to PHP, which takes localhost for
// the right one.
func leavesSocket(r *work.Run, text estate.Text, value string, wanted estate.Facts) bool {
	name, only := text.Only()
	return only && name == "socket" && value == "" && wanted["host"] == "localhost" && r.OtherSocket(dbms.Address{Socket: r.PhpSocket()}) == ""
}

// sameFacts compares what a value says instead of how: an installer may write
// the port into the host, or leave the standard port away.
func sameFacts(text estate.Text, value string, wanted estate.Facts) bool {
	name, only := text.Only()
	if !only {
		return false
	}
	switch name {
	case "host":
		return value == wanted["host"]+":"+wanted["port"] && wanted["host"] != "localhost"
	case "port":
		return value == "" && (wanted["port"] == strconv.Itoa(dbms.Product(wanted["dbms"]).DefaultPort()) || wanted["host"] == "localhost")
	case "socket":
		return value == "" && wanted["host"] != "localhost"
	}
	return false
}

// mayReplace decides about a settings file that exists and says something
// else. It is written over when it cannot be in use: it is still the sample,
// or the account it is to name gets its password only now.
func mayReplace(r *work.Run, ctx context.Context, s *estate.Settings, path string, differing []difference) (bool, error) {
	has, _ := r.ReadFacts(path, s.Values)
	if r.Options.Move != nil || r.MovedFrom != "" { // they name the old server, as they should until now
		return true, nil
	}
	if r.Options.Copy != nil && r.Plan.Fresh && isOriginals(r, s, has) {
		return true, nil // the folder is a copy, in which nothing is at work
	}
	if err := refuseForeign(r, ctx, s, path, has); err != nil {
		return false, err
	}
	if r.Plan.LoginBlocked == "" && (r.Plan.Fresh || r.Options.Fixes(work.FixSettings) || isSample(r, s, path)) {
		return true, nil
	}
	for _, d := range differing {
		if r.Plan.LoginBlocked != "" && d.value.Text.Uses("password") {
			continue // the account's row has said it
		}
		row := r.Plan.Differs(work.StepSettings, estate.MustFix, "yellowfield provision "+r.App.Name+" --fix settings", s.File+": "+d.Describe(r.App.AccountOf(s).Name)+whereRight(r, s, d))
		row.Place = &d.Place
	}
	return false, nil
}

// isOriginals reports whether settings are those of the app that is being copied.
func isOriginals(r *work.Run, s *estate.Settings, has estate.Facts) bool {
	original := r.Copies.Original
	for i, other := range r.App.Settings {
		if other == s {
			theirs := original.AccountOf(original.Settings[i])
			return (has["user"] == "" || has["user"] == theirs.Name) && (has["database"] == "" || slices.ContainsFunc(original.All(), func(d *estate.Database) bool { return d.Name == has["database"] }))
		}
	}
	return false
}

// whereRight names the place in another settings file of the app that has the
// value a file lacks, so that both places of a disagreement are at hand.
func whereRight(r *work.Run, s *estate.Settings, d difference) string {
	name, only := d.value.Text.Only()
	if !only {
		return ""
	}
	for _, other := range r.App.Settings {
		if other == s || (name == "user" || name == "password") && r.App.AccountOf(other) != r.App.AccountOf(s) {
			continue
		}
		if has, _ := r.ReadFacts(r.App.InFolder(other.File), other.Values); has[name] != d.wants {
			continue
		}
		if place := r.PlaceOfFact(r.App.InFolder(other.File), other.Values, name); place != nil {
			return fmt.Sprintf("; %s:%d has it", other.File, place.Line)
		}
	}
	return ""
}

// isSample reports whether a file says what its template says.
func isSample(r *work.Run, s *estate.Settings, path string) bool {
	if s.Template == "" {
		return false
	}
	has, errHas := r.ReadFacts(path, s.Values)
	sample, errSample := r.ReadFacts(r.App.InFolder(s.Template), s.Values)
	if errHas != nil || errSample != nil || len(has) != len(sample) {
		return false
	}
	for name, value := range has {
		if sample[name] != value {
			return false
		}
	}
	return true
}

// refuseForeign refuses to touch settings with which an application works on
// another database or server: that is a move, not a difference.
func refuseForeign(r *work.Run, ctx context.Context, s *estate.Settings, path string, has estate.Facts) error {
	wanted := r.Facts(r.App.AccountOf(s), secret.Password{})
	if has["user"] == "" || has["password"] == "" || has["database"] == "" {
		return nil
	}
	address := r.AddressFrom(has)
	if has["host"] == "" && has["socket"] == "" { // the estate file does not say where it stands
		address = r.AddressFrom(wanted)
	}
	theirs := r.AddressFrom(wanted)
	theirs.TLS = address.TLS // how a connection is encrypted makes it no other server
	if has["database"] == wanted["database"] && address == theirs {
		return nil
	}
	if !r.Lets(ctx, dbms.Login{Server: r.App.Server, Address: address, User: has["user"], Password: has.Password(), Database: has["database"]}) {
		return nil // it works nowhere, so nothing can be lost
	}
	place := r.PlaceOfFact(path, s.Values, "database")
	if place == nil {
		place = &fault.Place{File: path}
	}
	return fault.At(fault.Protected, *place, "write that database and server into the estate file; to leave them, move the data first",
		"%s logs in to the database %s at %s, and the estate file names %s at %s",
		s.File, has["database"], address, wanted["database"], r.AddressFrom(wanted))
}

// planWriting works out the file's new content and who will own it.
func planWriting(r *work.Run, s *estate.Settings, path string, file *settings.File, absent bool, outcome work.Outcome, wanted estate.Facts) error {
	var changes, all []settings.Change
	for _, value := range s.Values {
		change := settings.Change{Address: value.Address, Value: value.Text.Fill(wanted), Add: s.Add, ReplaceExpression: s.ReplaceExpression, Secret: value.Text.Uses("password"), Role: RoleOf(value)}
		all = append(all, change)
		if setting, err := file.Lookup(value.Address); err == nil && sameFacts(value.Text, setting.Value, wanted) {
			continue
		}
		changes = append(changes, change)
	}
	after, err := file.With(changes)
	if err != nil {
		return err
	}
	published := &work.PublishedFile{Of: r, Path: path, Content: after.Bytes()}
	if !absent {
		published.Read = file.Bytes()
	}
	if published.Attributes, err = AttributesFor(r, path, absent); err != nil {
		return err
	}
	if err := r.WritableFolder(path); err != nil {
		return err
	}
	r.Plan.Settings.Add(published)
	link := ""
	if files, err := r.Files(); err == nil && files.LeadsOut(path) != "" {
		link = " (a link to " + files.LeadsOut(path) + ")"
	}
	facts := fmt.Sprintf("%s%s: %s", s.File, link, figures.Counted(len(s.Values), "value", "values"))
	if absent {
		facts += ", from " + filepath.Base(s.Template)
	}
	diff := file.Named(r.App.Shown(file.Path)).Difference(after.Named(s.File), all)
	PlanPublishing(r, work.Row{Step: work.StepSettings, Outcome: outcome, Facts: facts, Diff: diff}, published)
	return nil
}

// PlanPublishing has a file written that was worked out.
func PlanPublishing(r *work.Run, row work.Row, f *work.PublishedFile) {
	before, after := work.FileState{Absent: f.Read == nil}, work.FileWith(f.Content)
	if f.Read != nil {
		before.Digest = atomicfile.Digest(f.Read)
	}
	after.Attributes, after.App = &f.Attributes, f.Of.App.Name
	r.Plan.Change(row, SettingsWritten.Of(f.Path, before, after), f)
}

// Kinds of change, see init.
var (
	SettingsWritten = effect.Define[*work.Run, work.FileState](&work.Kinds, "settings-file")
	FilesPrepared   = effect.Define[*work.Run, struct{}](&work.Kinds, "prepared-files")
)

func SettingsObject(c effect.Change[work.FileState]) string { return "settings " + c.Subject }

// RestoreSettings puts a settings file back as it was.
func RestoreSettings(r *work.Run, _ context.Context, c effect.Change[work.FileState]) error {
	files, err := r.OwnerOf(c.After).Files()
	if err != nil {
		return err
	}
	return r.RestoreFile(files, c)
}

// LookAtSettings tells how a settings file stands.
func LookAtSettings(r *work.Run, ctx context.Context, c effect.Change[work.FileState]) (effect.Standing, error) {
	standing, err := r.LookAtFile(ctx, c)
	if err == nil && standing == effect.ChangedElse {
		err = fault.At(fault.Protected, fault.Place{File: c.Subject}, "look at it, and change it by hand", "the file was changed since")
	}
	return standing, err
}

func init() {
	SettingsWritten.Means(effect.Spec[*work.Run, work.FileState]{
		Object: SettingsObject, Look: LookAtSettings,
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[work.FileState]) (string, error) {
			return "", r.Publish(d)
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[work.FileState]) error {
			if f, is := c.Material.(*work.PublishedFile); is { // what was to follow it lies beside
				f.In.Discard()
			}
			return RestoreSettings(r, ctx, c)
		},
		Kept: func(_ *work.Run, c effect.Change[work.FileState]) (why, next string) {
			if c.Before.Absent {
				return "the run has made " + c.Subject, "it is the application's by now; remove it by hand if nobody needs it"
			}
			return "", ""
		},
	})
	FilesPrepared.Means(effect.Spec[*work.Run, struct{}]{
		Object: func(effect.Change[struct{}]) string { return "the new settings beside the old ones" },
		Do: func(r *work.Run, _ context.Context, d *effect.Doing[struct{}]) (string, error) {
			return "", r.PrepareFiles(d.Material.(*work.Publication))
		},
		Undo: func(_ *work.Run, _ context.Context, c effect.Change[struct{}]) error {
			if p, is := c.Material.(*work.Publication); is { // else what was killed has been swept
				p.Discard()
			}
			return nil
		},
	})
}

// SettingsStand reports whether the runs that were cut off have written all settings
// files: what the application may have stored since is not to be lost.
func SettingsStand(r *work.Run) bool {
	if len(r.App.Settings) == 0 || !r.HasFolder() {
		return false
	}
	return !slices.ContainsFunc(r.App.Settings, func(s *estate.Settings) bool {
		path := r.App.InFolder(s.File)
		return !r.HasBegun(SettingsWritten.Name, path) || !r.IsWritten(path)
	})
}
