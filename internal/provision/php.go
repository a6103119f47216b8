package provision

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

// planPHP compares the configurations of PHP on this host that may serve the application with
// what it needs. What must be fixed stops the run, unless one of them has it all or a drop-in
// file will say it; the rest is told.
func (r *run) planPHP(context.Context) error {
	need := r.app.PHP
	if need == nil {
		return nil
	}
	all, err := r.Host.PHPs(need.Configuration, need.Scan)
	if err != nil {
		f := fault.As(err)
		return r.Estate.Fault(fault.Invalid, r.path("php.configuration"), f.Next, "%s", f.What).With(err)
	}
	if len(all) == 0 {
		r.plan.note(stepPHP, "check it where the application runs", "no PHP on this host, so its limits and extensions are not checked")
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
			if will, err = r.planDropIn(php, needs); err != nil {
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
		r.tellPHP(php, needs, slices.Contains(blocks, false) && blocks[i], len(all) > 1)
	}
	r.plan.unmet = r.plan.unmet || !slices.Contains(blocks, false)
	return nil
}

// tellPHP tells of one configuration what is as wanted and what is not; spared says that
// another has all that must be, so that this one stops nothing.
func (r *run) tellPHP(php *phpini.Configuration, needs []phpNeed, spared, several bool) {
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
	for _, extension := range r.app.PHP.Extensions {
		if php.HasExtension(extension) {
			fine = append(fine, extension)
		} else {
			missing = append(missing, extension)
		}
	}
	if len(missing) > 0 {
		r.plan.differs(stepPHP, severity(estate.MustFix), "install it, then "+reload(php), lead+"extension missing in "+php.Folder+": "+strings.Join(missing, ", ")+suffix).
			mayAccept("php-extension", php.Folder)
	}
	for _, n := range needs {
		if n.isMet(php) {
			if php.SetBy(n.name) != r.dropInPath(php) { // which is told by itself
				fine = append(fine, says(php, n.name))
			}
			r.tellPools(php, n)
			continue
		}
		remedy := "write drop_in: true under php of app " + r.app.Name + ", or set it in a file of " + php.Scan + "; then " + reload(php)
		if by := php.SetBy(n.name); by != "" {
			remedy = "set it in " + by + ", which has the last word; then " + reload(php)
		}
		r.plan.differs(stepPHP, severity(n.Severity), remedy, fmt.Sprintf("%s%s, and the application wants %s%s", lead, says(php, n.name), n.Want, suffix)).
			mayAccept("php-setting", n.name)
	}
	if value, _ := php.Value(phpini.LocalInfile); phpini.Satisfies(phpini.LocalInfile, value, "on") && !slices.ContainsFunc(needs, func(n phpNeed) bool { return n.name == phpini.LocalInfile }) {
		r.plan.differs(stepPHP, estate.ShouldLook, "take it out of "+php.SetBy(phpini.LocalInfile)+"; then "+reload(php),
			lead+phpini.LocalInfile+" is on: a server that PHP is led to may read files of this host").mayAccept("php-local-infile", php.Folder)
	}
	if len(fine) > 0 {
		r.plan.keep(stepPHP, lead+strings.Join(fine, ", "))
	}
}

// tellPools tells of pools that have a setting of their own, which the application does not
// want: which pool serves it is not known here.
func (r *run) tellPools(php *phpini.Configuration, n phpNeed) {
	for _, pool := range php.Pools(n.name) {
		if !phpini.Satisfies(n.name, pool.Value, n.Want) {
			r.plan.note(stepPHP, "", fmt.Sprintf("the pool %s has %s %s for itself (%s:%d), and the application wants %s", pool.Pool, n.name, pool.Value, pool.Path, pool.Line, n.Want))
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
func (r *run) dropInPath(php *phpini.Configuration) string {
	return filepath.Join(php.Scan, "90-yellowfield-"+r.app.Name+".ini") // behind the distribution's, which begin with 10 or 20
}

// planDropIn has the file written that says what the application needs and PHP's other files do
// not, and gives the configuration as it will be.
func (r *run) planDropIn(php *phpini.Configuration, needs []phpNeed) (*phpini.Configuration, error) {
	path := r.dropInPath(php)
	has, err := host.ReadFile(path)
	stands := err == nil
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, unreadable(path, err)
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
	for _, name := range r.socketsToSet(others) {
		set(name, r.serverSocket())
	}
	content := []byte("; What app " + r.app.Name + " needs of PHP. Written by yellowfield provision, from the estate file.\n" + strings.Join(lines, "\n") + "\n")
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
		r.plan.keep(stepPHP, path+": "+strings.Join(facts, ", "))
		return will, nil
	case !stands && content == nil:
		return will, nil
	}
	row := Row{Step: stepPHP, Outcome: Written, Facts: path + ": " + strings.Join(facts, ", "), Remedy: reload(php)}
	if content == nil {
		row = Row{Step: stepPHP, Outcome: Removed, Facts: path + ", which says nothing that PHP does not have by now", Remedy: reload(php)}
	}
	if who, err := host.WrittenByOthers(php.Scan); err != nil {
		return nil, unreadable(php.Scan, err)
	} else if who != "" {
		return nil, fault.At(fault.Protected, fault.Place{File: php.Scan}, "give the folder to root, with mode 0755, or leave drop_in out", "PHP reads its configuration here, and others may write to it: %s", who)
	}
	r.changeDropIn(row, path, has, content)
	return will, nil
}

// socketsToSet are the settings by which localhost means the server's socket to PHP, as far as
// it means another.
func (r *run) socketsToSet(php *phpini.Configuration) (names []string) {
	entry := r.Estate.Servers[r.app.Server]
	if !entry.DBMS.Traits().LocalhostIsSocket || entry.Socket == "" || entry.SeenByApps != nil {
		return nil
	}
	for _, name := range phpini.DefaultSockets {
		if !r.Host.SameFile(php.SocketOf(name), r.serverSocket()) {
			names = append(names, name)
		}
	}
	return names
}

// changeDropIn adds the step that puts content in place of what the file has; nil stands for
// no file, both times.
func (r *run) changeDropIn(row Row, path string, has, content []byte) {
	r.plan.change(row, dropInWritten.Of(path, contentOf(has), contentOf(content)), nil)
}

// contentState is a file of PHP's configuration as an effect has it; nil for none.
type contentState struct {
	Content *string `json:"content,omitempty"`
}

func contentOf(content []byte) contentState {
	if content == nil {
		return contentState{}
	}
	text := string(content)
	return contentState{&text}
}

func (s contentState) bytes() []byte {
	if s.Content == nil {
		return nil
	}
	return []byte(*s.Content)
}

// is reports whether the file is so.
func (s contentState) is(content []byte, err error) bool {
	if s.Content == nil {
		return errors.Is(err, fs.ErrNotExist)
	}
	return err == nil && string(content) == *s.Content
}

// dropInWritten is one kind of change, see init.
var dropInWritten = effect.Define[*run, contentState](&kinds, "php-file")

func init() {
	dropInWritten.Means(effect.Spec[*run, contentState]{
		Object: func(c effect.Change[contentState]) string { return "drop-in " + c.Subject },
		Do: func(_ *run, _ context.Context, d *effect.Doing[contentState]) (string, error) {
			if err := host.ChangeFile(d.Subject, d.Before.bytes(), d.After.bytes()); err != nil {
				return "", err
			}
			d.Touched = true
			if now, err := host.ReadFile(d.Subject); !d.After.is(now, err) {
				return "", fault.At(fault.Failed, fault.Place{File: d.Subject}, "look at it", "the file does not hold what was written").With(err)
			}
			return "", nil
		},
		Undo: func(_ *run, _ context.Context, c effect.Change[contentState]) error {
			if now, err := host.ReadFile(c.Subject); c.Before.is(now, err) {
				return nil
			}
			return host.ChangeFile(c.Subject, c.After.bytes(), c.Before.bytes())
		},
		Look: func(_ *run, _ context.Context, c effect.Change[contentState]) (effect.Standing, error) {
			now, err := host.ReadFile(c.Subject)
			switch {
			case c.Before.is(now, err):
				return effect.NotDone, nil
			case c.After.is(now, err):
				return effect.Done, nil
			case err != nil && !errors.Is(err, fs.ErrNotExist):
				return effect.Unseen, unreadable(c.Subject, err)
			}
			return effect.ChangedElse, fault.At(fault.Protected, fault.Place{File: c.Subject}, "look at it, and change it by hand", "the file was changed since")
		},
	})
}

// planDropInsEnd has the app's files removed from PHP's configuration.
func (r *run) planDropInsEnd() error {
	if r.app.PHP == nil {
		return nil
	}
	all, err := r.Host.PHPs(r.app.PHP.Configuration, r.app.PHP.Scan)
	if err != nil {
		return nil // there is nothing of ours in what cannot be read
	}
	for _, php := range all {
		path := r.dropInPath(php)
		has, err := host.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return unreadable(path, err)
		}
		r.changeDropIn(Row{Step: stepPHP, Outcome: Removed, Facts: path, Remedy: reload(php)}, path, has, nil)
	}
	return nil
}
