package render

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/estate"
	"yellowfield/internal/work"
)

// Metrics is what verify found in the OpenMetrics text format, version 1.0.0, for the folder
// that a monitoring agent reads.
func Metrics(results []work.Result, when time.Time) []byte {
	var b strings.Builder
	family := func(name, kind, unit, help string) {
		fmt.Fprintf(&b, "# TYPE yellowfield_%s %s\n", name, kind)
		if unit != "" {
			fmt.Fprintf(&b, "# UNIT yellowfield_%s %s\n", name, unit)
		}
		fmt.Fprintf(&b, "# HELP yellowfield_%s %s\n", name, help)
	}
	sample := func(name string, value any, labels ...string) {
		fmt.Fprintf(&b, "yellowfield_%s", name)
		for i := 0; i < len(labels); i += 2 {
			lead := ","
			if i == 0 {
				lead = "{"
			}
			fmt.Fprintf(&b, `%s%s="%s"`, lead, labels[i], label(labels[i+1]))
		}
		if len(labels) > 0 {
			b.WriteByte('}')
		}
		fmt.Fprintf(&b, " %v\n", value)
	}
	family("apps", "gauge", "", "Apps that verify looked at.")
	sample("apps", len(results))
	family("app_verified", "gauge", "", "Whether the app is as the estate file says, and its logins succeed.")
	for _, r := range results {
		verified := 0
		if r.Exit == 0 {
			verified = 1
		}
		sample("app_verified", verified, "app", r.App, "server", r.Server)
	}
	family("app_findings", "gauge", "", "What differs, by severity; what failed counts as must-fix.")
	for _, r := range results {
		counts := map[string]int{}
		for _, row := range r.Rows {
			switch {
			case row.Outcome == work.Failed || row.Outcome == work.Refused:
				counts[string(estate.MustFix)]++
			case row.Outcome == work.Differs:
				counts[string(row.Severity)]++
			}
		}
		for _, severity := range estate.Severities {
			sample("app_findings", counts[severity], "app", r.App, "server", r.Server, "severity", severity)
		}
	}
	family("app_verify_seconds", "gauge", "seconds", "How long verify took for the app.")
	for _, r := range results {
		sample("app_verify_seconds", r.Seconds, "app", r.App, "server", r.Server)
	}
	family("password_age_seconds", "gauge", "seconds", "How old the password of an account is, where that is known.")
	for _, r := range results {
		var accounts []string
		for account := range r.PasswordAges {
			accounts = append(accounts, account)
		}
		slices.Sort(accounts)
		for _, account := range accounts {
			sample("password_age_seconds", int64(r.PasswordAges[account].Seconds()), "app", r.App, "server", r.Server, "account", account)
		}
	}
	family("last_verify_timestamp_seconds", "gauge", "seconds", "When verify ended.")
	sample("last_verify_timestamp_seconds", when.Unix())
	b.WriteString("# EOF\n")
	return []byte(b.String())
}

// label escapes a label's value (OpenMetrics, "Escaping").
func label(text string) string {
	return strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`).Replace(shown(text))
}
