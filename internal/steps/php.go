package steps

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/phpini"
	"yellowfield/internal/work"
)

// phpNeed is a setting that the application wants of PHP.
type phpNeed struct {
	name string
	estate.Condition
}

func (n phpNeed) isMet(php *phpini.Configuration) bool {
	value, known := php.Value(n.name)
	return known && phpini.Satisfies(n.name, value, n.Want)
}

// says tells what a setting is.
func says(php *phpini.Configuration, name string) string {
	value, known := php.Value(name)
	if !known {
		return name + " is not set"
	}
	return name + " " + value
}

// PlanPHP compares the configurations of PHP on this host that may serve the application with
// what it needs. What must be fixed stops the run, unless one of them has it all or a drop-in
// file will say it; the rest is told.
func PlanPHP(r *work.Run, _ context.Context) error {
	need := r.App.PHP
	if need == nil {
		return nil
	}
	all, err := r.Host.PHPs(need.Configuration, need.Scan)
	if err != nil {
		f := fault.As(err)
		return r.Estate.Fault(fault.Invalid, r.Path("php.configuration"), f.Next, "%s", f.What).With(err)
	}
	if len(all) == 0 {
		r.Plan.Note(work.StepPHP, "check it where the application runs", "no PHP on this host, so its limits and extensions are not checked")
		return nil
	}
	var needs []phpNeed
	for _, name := range slices.Sorted(maps.Keys(need.INI)) {
		needs = append(needs, phpNeed{name, need.INI[name]})
	}
	blocks := make([]bool, len(all))
	for i, php := range all {
		will := php // as it will be
		if need.DropIn {
			if will, err = planDropIn(r, php, needs); err != nil {
				return err
			}
		}
		for _, extension := range need.Extensions {
			blocks[i] = blocks[i] || !will.HasExtension(extension)
		}
		for _, n := range needs {
			blocks[i] = blocks[i] || n.Severity == estate.MustFix && !n.isMet(will)
		}
		all[i] = will
	}
	for i, php := range all {
		tellPHP(r, php, needs, slices.Contains(blocks, false) && blocks[i], len(all) > 1)
	}
	r.Plan.Unmet = r.Plan.Unmet || !slices.Contains(blocks, false)
	return nil
}

// tellPHP tells of one configuration what is as wanted and what is not; spared says that
// another has all that must be, so that this one stops nothing.
func tellPHP(r *work.Run, php *phpini.Configuration, needs []phpNeed, spared, several bool) {
	lead, suffix := "", ""
	if several {
		lead = php.Name + ": "
	}
	if spared {
		suffix = "; another PHP on this host has it"
	}
	severity := func(s estate.Severity) estate.Severity {
		if spared && s == estate.MustFix {
			return estate.ShouldLook
		}
		return s
	}
	var fine, missing []string
	for _, extension := range r.App.PHP.Extensions {
		if php.HasExtension(extension) {
			fine = append(fine, extension)
		} else {
			missing = append(missing, extension)
		}
	}
	if len(missing) > 0 {
		r.Plan.Differs(work.StepPHP, severity(estate.MustFix), "install it, then "+reload(php), lead+"extension missing in "+php.Folder+": "+strings.Join(missing, ", ")+suffix).
			MayAccept("php-extension", php.Folder)
	}
	for _, n := range needs {
		if n.isMet(php) {
			if php.SetBy(n.name) != dropInPath(r, php) { // which is told by itself
				fine = append(fine, says(php, n.name))
			}
			tellPools(r, php, n)
			continue
		}
		remedy := "write drop_in: true under php of app " + r.App.Name + ", or set it in a file of " + php.Scan + "; then " + reload(php)
		if by := php.SetBy(n.name); by != "" {
			remedy = "set it in " + by + ", which has the last word; then " + reload(php)
		}
		r.Plan.Differs(work.StepPHP, severity(n.Severity), remedy, fmt.Sprintf("%s%s, and the application wants %s%s", lead, says(php, n.name), n.Want, suffix)).
			MayAccept("php-setting", n.name)
	}
	if value, _ := php.Value(phpini.LocalInfile); phpini.Satisfies(phpini.LocalInfile, value, "on") && !slices.ContainsFunc(needs, func(n phpNeed) bool { return n.name == phpini.LocalInfile }) {
		r.Plan.Differs(work.StepPHP, estate.ShouldLook, "take it out of "+php.SetBy(phpini.LocalInfile)+"; then "+reload(php),
			lead+phpini.LocalInfile+" is on: a server that PHP is led to may read files of this host").MayAccept("php-local-infile", php.Folder)
	}
	if len(fine) > 0 {
		r.Plan.Keep(work.StepPHP, lead+strings.Join(fine, ", "))
	}
}

// tellPools tells of pools that have a setting of their own, which the application does not
// want: which pool serves it is not known here.
func tellPools(r *work.Run, php *phpini.Configuration, n phpNeed) {
	for _, pool := range php.Pools(n.name) {
		if !phpini.Satisfies(n.name, pool.Value, n.Want) {
			r.Plan.Note(work.StepPHP, "", fmt.Sprintf("the pool %s has %s %s for itself (%s:%d), and the application wants %s", pool.Pool, n.name, pool.Value, pool.Path, pool.Line, n.Want))
		}
	}
}

// reload is what has to be done before a change of PHP's configuration counts.
func reload(php *phpini.Configuration) string {
	if php.Service == "" {
		return "it counts from the next request on"
	}
	return "systemctl reload " + php.Service
}

// dropInPath is the app's own file among those that PHP reads.
func dropInPath(r *work.Run, php *phpini.Configuration) string {
	return filepath.Join(php.Scan, "90-yellowfield-"+r.App.Name+".ini") // after the distribution's, which begin with 10 or 20
}

// planDropIn has the file written that says what the application needs and PHP's other files do
// not, and gives the configuration as it will be.
func planDropIn(r *work.Run, php *phpini.Configuration, needs []phpNeed) (*phpini.Configuration, error) {
	path := dropInPath(r, php)
	has, err := host.ReadFile(path)
	stands := err == nil
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, work.Unreadable(path, err)
	}
	others := php.With(path, nil)
	var lines, facts []string
	set := func(name, value string) {
		lines = append(lines, name+" = "+value)
		facts = append(facts, name+" "+value)
	}
	for _, n := range needs {
		if _, value := phpini.Wanted(n.Want); !n.isMet(others) {
			set(n.name, value)
		}
	}
	for _, name := range socketsToSet(r, others) {
		set(name, r.ServerSocket())
	}
	content := []byte("; What app " + r.App.Name + " needs of PHP. Written by yellowfield provision, from the estate file.\n" + strings.Join(lines, "\n") + "\n")
	if len(lines) == 0 {
		content = nil
	}
	will := others.With(path, content)
	for _, n := range needs {
		if by := will.SetBy(n.name); !n.isMet(will) && by != path && slices.ContainsFunc(lines, func(line string) bool { return strings.HasPrefix(line, n.name+" ") }) {
			return nil, fault.At(fault.Invalid, fault.Place{File: by}, "change it there, or give that file a name that comes before "+filepath.Base(path),
				"%s is set here, which PHP reads after %s", n.name, path)
		}
	}
	switch {
	case stands && string(has) == string(content):
		r.Plan.Keep(work.StepPHP, path+": "+strings.Join(facts, ", "))
		return will, nil
	case !stands && content == nil:
		return will, nil
	}
	row := work.Row{Step: work.StepPHP, Outcome: work.Written, Facts: path + ": " + strings.Join(facts, ", "), Remedy: reload(php)}
	if content == nil {
		row = work.Row{Step: work.StepPHP, Outcome: work.Removed, Facts: path + ", which says nothing that PHP does not have by now", Remedy: reload(php)}
	}
	if who, err := host.WrittenByOthers(php.Scan); err != nil {
		return nil, work.Unreadable(php.Scan, err)
	} else if who != "" {
		return nil, fault.At(fault.Protected, fault.Place{File: php.Scan}, "give the folder to root, with mode 0755, or leave drop_in out", "PHP reads its configuration here, and others may write to it: %s", who)
	}
	changeDropIn(r, row, path, has, content)
	return will, nil
}

// socketsToSet are the settings by which localhost means the server's socket to PHP, as far as
// it means another.
func socketsToSet(r *work.Run, php *phpini.Configuration) (names []string) {
	entry := r.Estate.Servers[r.App.Server]
	if !entry.DBMS.Traits().LocalhostIsSocket || entry.Socket == "" || entry.SeenByApps != nil {
		return nil
	}
	for _, name := range phpini.DefaultSockets {
		if !r.Host.SameFile(php.SocketOf(name), r.ServerSocket()) {
			names = append(names, name)
		}
	}
	return names
}

// changeDropIn adds the step that puts content in place of what the file has; nil stands for
// no file, both times.
func changeDropIn(r *work.Run, row work.Row, path string, has, content []byte) {
	r.Plan.Change(row, DropInWritten.Of(path, ContentOf(has), ContentOf(content)), nil)
}

// ContentState is a file of PHP's configuration as an effect has it; nil for none.
type ContentState struct {
	Content *string `json:"content,omitempty"`
}

func ContentOf(content []byte) ContentState {
	if content == nil {
		return ContentState{}
	}
	text := string(content)
	return ContentState{&text}
}

func (s ContentState) bytes() []byte {
	if s.Content == nil {
		return nil
	}
	return []byte(*s.Content)
}

// is reports whether the file is so.
func (s ContentState) is(content []byte, err error) bool {
	if s.Content == nil {
		return errors.Is(err, fs.ErrNotExist)
	}
	return err == nil && string(content) == *s.Content
}

// DropInWritten is one kind of change, see init.
var DropInWritten = effect.Define[*work.Run, ContentState](&work.Kinds, "php-file")

func init() {
	DropInWritten.Means(effect.Spec[*work.Run, ContentState]{
		Object: func(c effect.Change[ContentState]) string { return "drop-in " + c.Subject },
		Do: func(_ *work.Run, _ context.Context, d *effect.Doing[ContentState]) (string, error) {
			if err := host.ChangeFile(d.Subject, d.Before.bytes(), d.After.bytes()); err != nil {
				return "", err
			}
			d.Touched = true
			if now, err := host.ReadFile(d.Subject); !d.After.is(now, err) {
				return "", fault.At(fault.Failed, fault.Place{File: d.Subject}, "look at it", "the file does not hold what was written").With(err)
			}
			return "", nil
		},
		Undo: func(_ *work.Run, _ context.Context, c effect.Change[ContentState]) error {
			if now, err := host.ReadFile(c.Subject); c.Before.is(now, err) {
				return nil
			}
			return host.ChangeFile(c.Subject, c.After.bytes(), c.Before.bytes())
		},
		Look: func(_ *work.Run, _ context.Context, c effect.Change[ContentState]) (effect.Standing, error) {
			now, err := host.ReadFile(c.Subject)
			switch {
			case c.Before.is(now, err):
				return effect.NotDone, nil
			case c.After.is(now, err):
				return effect.Done, nil
			case err != nil && !errors.Is(err, fs.ErrNotExist):
				return effect.Unseen, work.Unreadable(c.Subject, err)
			}
			return effect.ChangedElse, fault.At(fault.Protected, fault.Place{File: c.Subject}, "look at it, and change it by hand", "the file was changed since")
		},
	})
}

// PlanDropInsEnd has the app's files removed from PHP's configuration.
func PlanDropInsEnd(r *work.Run) error {
	if r.App.PHP == nil {
		return nil
	}
	all, err := r.Host.PHPs(r.App.PHP.Configuration, r.App.PHP.Scan)
	if err != nil {
		return nil // there is nothing of ours in what cannot be read
	}
	for _, php := range all {
		path := dropInPath(r, php)
		has, err := host.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return work.Unreadable(path, err)
		}
		changeDropIn(r, work.Row{Step: work.StepPHP, Outcome: work.Removed, Facts: path, Remedy: reload(php)}, path, has, nil)
	}
	return nil
}
