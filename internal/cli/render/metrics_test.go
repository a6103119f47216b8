package render

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"yellowfield/internal/estate"
	"yellowfield/internal/work"
)

// metricLine is a sample of OpenMetrics 1.0.0 with labels or without.
var metricLine = regexp.MustCompile(`^[a-z_]+(\{[a-z]+="(?:[^"\\\n]|\\[\\"n])*"(,[a-z]+="(?:[^"\\\n]|\\[\\"n])*")*\})? [0-9.e+-]+$`)

func TestMetrics(t *testing.T) {
	text := string(Metrics([]work.Result{
		{Header: work.Header{App: "combs", Server: "barn"}, Seconds: 0.25, PasswordAges: map[string]time.Duration{"b\"\\\n\x1b": time.Hour, "a": 48 * time.Hour}},
		{Header: work.Header{App: "moths", Server: "barn"}, Exit: 3, Rows: []work.Row{{Outcome: work.Differs, Severity: estate.ShouldLook}, {Outcome: work.Failed}, {Outcome: work.Verified}}},
	}, time.Unix(1795000000, 0)))
	for _, want := range []string{"yellowfield_apps 2\n", `yellowfield_app_verified{app="combs",server="barn"} 1`, `yellowfield_app_verified{app="moths",server="barn"} 0`,
		`yellowfield_app_findings{app="moths",server="barn",severity="must-fix"} 1`, `yellowfield_app_findings{app="moths",server="barn",severity="should-look"} 1`,
		`yellowfield_password_age_seconds{app="combs",server="barn",account="a"} 172800`, `account="b\"\\\n\\x1b"} 3600`, "yellowfield_last_verify_timestamp_seconds 1795000000\n"} {
		assert.Contains(t, text, want)
	}
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	assert.Equal(t, "# EOF", lines[len(lines)-1])
	described := map[string]bool{}
	for _, line := range lines[:len(lines)-1] {
		if name, is := strings.CutPrefix(line, "# TYPE "); is {
			described[strings.Fields(name)[0]] = true
			continue
		}
		if !strings.HasPrefix(line, "# ") {
			assert.Regexp(t, metricLine, line)
			name, _, _ := strings.Cut(line, " ")
			name, _, _ = strings.Cut(name, "{")
			assert.True(t, described[name], line)
		}
	}
}
