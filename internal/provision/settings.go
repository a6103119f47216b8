package provision

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/secret"
	"yellowfield/internal/settings"
)

func (r *run) planSettings(ctx context.Context) error {
	r.plan.settings = &publication{}
	if len(r.app.Settings) == 0 {
		return nil
	}
	if !r.hasFolder() {
		r.plan.absent = true
		r.plan.tell(Row{Step: stepSettings, Outcome: Waiting, Facts: "the folder " + r.app.Folder + " is not there yet", Remedy: "unpack the application, then yellowfield provision " + r.app.Name})
		return nil
	}
	if w := r.wayForApp(r.app.Accounts[0]); w.trouble != "" {
		r.plan.differs(stepSettings, estate.MustFix, r.waysToSocket(r.app.Accounts[0]), w.trouble)
		r.plan.unmet = true
		return nil
	}
	var errs []error
	for _, s := range r.app.Settings {
		errs = append(errs, r.planSettingsFile(ctx, s))
	}
	return errors.Join(errs...)
}

func (r *run) planSettingsFile(ctx context.Context, s *estate.Settings) error {
	path := r.app.InFolder(s.File)
	file, err := r.openSettings(path)
	absent := errors.Is(err, fs.ErrNotExist)
	switch {
	case absent && r.app.MadeByInstaller(s):
		r.plan.tell(Row{Step: stepSettings, Outcome: Waiting, Facts: s.File + ": its installer writes it"})
		return nil
	case absent && s.Template == "" && s.Add && settings.Blank(path) != nil:
		if file, err = settings.Parse(path, settings.Blank(path)); err != nil {
			return err
		}
	case absent && s.Template == "":
		return r.Estate.Fault(fault.Invalid, r.settingsPath(s)+".file", "write template: PATH, or list the file under installer if the application writes it",
			"the settings file %s does not exist, and nothing says what to make it from", s.File)
	case absent:
		if file, err = r.openSettings(r.app.InFolder(s.Template)); err != nil {
			return err
		}
	case err != nil:
		return err
	}
	c := r.plan.credentials[r.app.AccountOf(s)]
	if c == nil {
		return nil // an error of an earlier step stands in for the password
	}
	if !c.knows() {
		c = &credential{password: secret.NewPassword("unknown")}
	}
	wanted := r.facts(r.app.AccountOf(s), c.password)
	differing, err := r.compare(file, s, wanted)
	if err != nil {
		return err
	}
	if len(differing) == 0 && !absent {
		r.plan.keep(stepSettings, s.File+" agrees in "+figures.Counted(len(s.Values), "value", "values"))
		return nil
	}
	if r.plan.stuck != "" && absent {
		r.plan.tell(Row{Step: stepSettings, Outcome: NotReached, Facts: s.File + ": " + r.plan.stuck})
		return nil
	}
	outcome := Written
	if !absent {
		mayWrite, err := r.mayReplace(ctx, s, path, differing)
		if err != nil || !mayWrite {
			return err
		}
		if r.options.fixes(fixSettings) && !r.plan.fresh {
			outcome = Fixed
		}
	}
	return r.planWriting(s, path, file, absent, outcome, wanted)
}

func (r *run) settingsPath(s *estate.Settings) string {
	for i, other := range r.app.Settings {
		if other == s {
			return r.path(fmt.Sprintf("settings[%d]", i))
		}
	}
	return r.path("settings")
}

// difference is a value in a settings file that is not the wanted one.
type difference struct {
	value      estate.Value
	place      fault.Place
	has, wants string
	absent     bool // the file does not set it, or only in a comment
	hidden     bool // what the file has may be a secret
}

// describe says what a value is and should be, without showing a password.
func (d difference) describe(account string) string {
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

// compare finds the values that differ as facts: two ways to write the same
// thing agree.
func (r *run) compare(file *settings.File, s *estate.Settings, wanted estate.Facts) ([]difference, error) {
	var found []difference
	var errs []error
	for _, value := range s.Values {
		setting, err := file.Lookup(value.Address)
		wants := value.Text.Fill(wanted)
		if err != nil && file.MayGain(settings.Change{Address: value.Address, Value: wants, Add: s.Add}, err) {
			found = append(found, difference{value: value, place: fault.Place{File: file.Path}, wants: wants, absent: true})
			continue
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		if setting.Value == wants || sameFacts(value.Text, setting.Value, wanted) || r.leavesSocket(value.Text, setting.Value, wanted) {
			continue
		}
		found = append(found, difference{value: value, place: setting.Place, has: setting.Value, wants: wants, hidden: settings.IsSecretAs(roleOf(value), setting)})
	}
	return found, errors.Join(errs...)
}

// roleOf is what a value is for: the one fact that it stands for, else what its
// address says.
func roleOf(value estate.Value) settings.Role {
	if name, only := value.Text.Only(); only {
		return settings.Role(name)
	}
	return settings.RoleOf(value.Address)
}

// leavesSocket reports whether settings leave the socket to PHP, which takes localhost for
// the right one.
func (r *run) leavesSocket(text estate.Text, value string, wanted estate.Facts) bool {
	name, only := text.Only()
	return only && name == "socket" && value == "" && wanted["host"] == "localhost" && r.otherSocket(dbms.Address{Socket: r.phpSocket()}) == ""
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
func (r *run) mayReplace(ctx context.Context, s *estate.Settings, path string, differing []difference) (bool, error) {
	has, _ := r.readFacts(path, s.Values)
	if r.options.Move != nil || r.movedFrom != "" { // they name the old server, as they should until now
		return true, nil
	}
	if r.options.Copy != nil && r.plan.fresh && r.isOriginals(s, has) {
		return true, nil // the folder is a copy, in which nothing is at work
	}
	if err := r.refuseForeign(ctx, s, path, has); err != nil {
		return false, err
	}
	if r.plan.stuck == "" && (r.plan.fresh || r.options.fixes(fixSettings) || r.isSample(s, path)) {
		return true, nil
	}
	for _, d := range differing {
		if r.plan.stuck != "" && d.value.Text.Uses("password") {
			continue // the account's row has said it
		}
		row := r.plan.differs(stepSettings, estate.MustFix, "yellowfield provision "+r.app.Name+" --fix settings", s.File+": "+d.describe(r.app.AccountOf(s).Name)+r.whereRight(s, d))
		row.Place = &d.place
	}
	return false, nil
}

// isOriginals reports whether settings are those of the app that is being copied.
func (r *run) isOriginals(s *estate.Settings, has estate.Facts) bool {
	original := r.copies.original
	for i, other := range r.app.Settings {
		if other == s {
			theirs := original.AccountOf(original.Settings[i])
			return (has["user"] == "" || has["user"] == theirs.Name) && (has["database"] == "" || slices.ContainsFunc(original.All(), func(d *estate.Database) bool { return d.Name == has["database"] }))
		}
	}
	return false
}

// whereRight names the place in another settings file of the app that has the
// value a file lacks, so that both places of a disagreement are at hand.
func (r *run) whereRight(s *estate.Settings, d difference) string {
	name, only := d.value.Text.Only()
	if !only {
		return ""
	}
	for _, other := range r.app.Settings {
		if other == s || (name == "user" || name == "password") && r.app.AccountOf(other) != r.app.AccountOf(s) {
			continue
		}
		if has, _ := r.readFacts(r.app.InFolder(other.File), other.Values); has[name] != d.wants {
			continue
		}
		if place := r.placeOfFact(r.app.InFolder(other.File), other.Values, name); place != nil {
			return fmt.Sprintf("; %s:%d has it", other.File, place.Line)
		}
	}
	return ""
}

// isSample reports whether a file says what its template says.
func (r *run) isSample(s *estate.Settings, path string) bool {
	if s.Template == "" {
		return false
	}
	has, errHas := r.readFacts(path, s.Values)
	sample, errSample := r.readFacts(r.app.InFolder(s.Template), s.Values)
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
func (r *run) refuseForeign(ctx context.Context, s *estate.Settings, path string, has estate.Facts) error {
	wanted := r.facts(r.app.AccountOf(s), secret.Password{})
	if has["user"] == "" || has["password"] == "" || has["database"] == "" {
		return nil
	}
	address := r.addressFrom(has)
	if has["host"] == "" && has["socket"] == "" { // the estate file does not say where it stands
		address = r.addressFrom(wanted)
	}
	theirs := r.addressFrom(wanted)
	theirs.TLS = address.TLS // how a connection is encrypted makes it no other server
	if has["database"] == wanted["database"] && address == theirs {
		return nil
	}
	if !r.lets(ctx, dbms.Login{Server: r.app.Server, Address: address, User: has["user"], Password: has.Password(), Database: has["database"]}) {
		return nil // it works nowhere, so nothing is lost
	}
	place := r.placeOfFact(path, s.Values, "database")
	if place == nil {
		place = &fault.Place{File: path}
	}
	return fault.At(fault.Protected, *place, "write that database and server into the estate file; to leave them, move the data first",
		"%s logs in to the database %s at %s, and the estate file names %s at %s",
		s.File, has["database"], address, wanted["database"], r.addressFrom(wanted))
}

// planWriting works out the file's new content and who will own it.
func (r *run) planWriting(s *estate.Settings, path string, file *settings.File, absent bool, outcome Outcome, wanted estate.Facts) error {
	var changes, all []settings.Change
	for _, value := range s.Values {
		change := settings.Change{Address: value.Address, Value: value.Text.Fill(wanted), Add: s.Add, ReplaceExpression: s.ReplaceExpression, Secret: value.Text.Uses("password"), Role: roleOf(value)}
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
	published := &publishedFile{of: r, path: path, content: after.Bytes()}
	if !absent {
		published.read = file.Bytes()
	}
	if published.attributes, err = r.attributesFor(path, absent); err != nil {
		return err
	}
	if err := r.writableFolder(path); err != nil {
		return err
	}
	r.plan.settings.add(published)
	link := ""
	if files, err := r.files(); err == nil && files.LeadsOut(path) != "" {
		link = " (a link to " + files.LeadsOut(path) + ")"
	}
	facts := fmt.Sprintf("%s%s: %s", s.File, link, figures.Counted(len(s.Values), "value", "values"))
	if absent {
		facts += ", from " + filepath.Base(s.Template)
	}
	diff := file.Named(r.app.Shown(file.Path)).Difference(after.Named(s.File), all)
	r.planPublishing(Row{Step: stepSettings, Outcome: outcome, Facts: facts, Diff: diff}, published)
	return nil
}

// planPublishing has a file written that was worked out.
func (r *run) planPublishing(row Row, f *publishedFile) {
	before, after := fileState{Absent: f.read == nil}, fileWith(f.content)
	if f.read != nil {
		before.Digest = digest(f.read)
	}
	after.Attributes, after.App = &f.attributes, f.of.app.Name
	r.plan.change(row, settingsWritten.Of(f.path, before, after), f)
}

// Kinds of change, see init.
var (
	settingsWritten = effect.Define[*run, fileState](&kinds, "settings-file")
	filesPrepared   = effect.Define[*run, struct{}](&kinds, "prepared-files")
)

func settingsObject(c effect.Change[fileState]) string { return "settings " + c.Subject }

// restoreSettings puts a settings file back as it was.
func (r *run) restoreSettings(_ context.Context, c effect.Change[fileState]) error {
	files, err := r.ownerOf(c.After).files()
	if err != nil {
		return err
	}
	return r.restoreFile(files, c)
}

// lookAtSettings tells how a settings file stands.
func (r *run) lookAtSettings(ctx context.Context, c effect.Change[fileState]) (effect.Standing, error) {
	standing, err := r.lookAtFile(ctx, c)
	if err == nil && standing == effect.ChangedElse {
		err = fault.At(fault.Protected, fault.Place{File: c.Subject}, "look at it, and change it by hand", "the file was changed since")
	}
	return standing, err
}

func init() {
	settingsWritten.Means(effect.Spec[*run, fileState]{
		Object: settingsObject, Look: (*run).lookAtSettings,
		Do: func(r *run, _ context.Context, d *effect.Doing[fileState]) (string, error) { return "", r.publish(d) },
		Undo: func(r *run, ctx context.Context, c effect.Change[fileState]) error {
			if f, is := c.Material.(*publishedFile); is { // what was to follow it lies beside
				f.in.discard()
			}
			return r.restoreSettings(ctx, c)
		},
		Kept: func(_ *run, c effect.Change[fileState]) (why, next string) {
			if c.Before.Absent {
				return "the run has made " + c.Subject, "it is the application's by now; remove it by hand if nobody needs it"
			}
			return "", ""
		},
	})
	filesPrepared.Means(effect.Spec[*run, struct{}]{
		Object: func(effect.Change[struct{}]) string { return "the new settings beside the old ones" },
		Do: func(r *run, _ context.Context, d *effect.Doing[struct{}]) (string, error) {
			return "", r.prepareFiles(d.Material.(*publication))
		},
		Undo: func(_ *run, _ context.Context, c effect.Change[struct{}]) error {
			if p, is := c.Material.(*publication); is { // else what was killed has been swept
				p.discard()
			}
			return nil
		},
	})
}

// settingsStand reports whether the runs that were cut off have written all settings
// files: what the application may have stored since is not to be lost.
func (r *run) settingsStand() bool {
	if len(r.app.Settings) == 0 || !r.hasFolder() {
		return false
	}
	return !slices.ContainsFunc(r.app.Settings, func(s *estate.Settings) bool {
		path := r.app.InFolder(s.File)
		return !r.hasBegun(settingsWritten.Name, path) || !r.isWritten(path)
	})
}
