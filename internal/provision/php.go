package provision

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/phpini"
)

// planPHP compares PHP's configuration on this host with what the application
// needs. What must be fixed stops the run; the rest is told.
func (r *run) planPHP(context.Context) error {
	need := r.app.PHP
	if need == nil {
		return nil
	}
	php, err := r.Host.PHP(need.Configuration)
	if err != nil {
		f := fault.As(err)
		return r.Estate.Fault(fault.Invalid, r.path("php.configuration"), f.Next, "%s", f.What).With(err)
	}
	if php == nil {
		r.plan.note(stepPHP, "check it where the application runs", "no PHP on this host, so its limits and extensions are not checked")
		return nil
	}
	var fine, missing []string
	for _, extension := range need.Extensions {
		if php.HasExtension(extension) {
			fine = append(fine, extension)
		} else {
			missing = append(missing, extension)
		}
	}
	blocked := false
	if len(missing) > 0 {
		blocked = true
		r.plan.differs(stepPHP, estate.MustFix, "install it, then restart PHP", "extension missing in "+php.Folder+": "+strings.Join(missing, ", "))
	}
	names := make([]string, 0, len(need.INI))
	for name := range need.INI {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		condition := need.INI[name]
		value, known := php.Value(name)
		shown := name + " " + value
		if !known {
			shown = name + " is not set"
		}
		if known && phpini.Satisfies(name, value, condition.Want) {
			fine = append(fine, shown)
			continue
		}
		blocked = blocked || condition.Severity == estate.MustFix
		r.plan.differs(stepPHP, condition.Severity, "set it in "+php.Folder+"/php.ini or a file in conf.d, then restart PHP",
			fmt.Sprintf("%s, and the application wants %s", shown, condition.Want))
	}
	if len(fine) > 0 {
		r.plan.keep(stepPHP, strings.Join(fine, ", "))
	}
	r.plan.unmet = r.plan.unmet || blocked
	return nil
}
