package render

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/access"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/load"
	"yellowfield/internal/overview"
	"yellowfield/internal/secret"
	"yellowfield/internal/work"
)

func screen(width int) (*Screen, *strings.Builder) {
	var out strings.Builder
	return &Screen{Out: &out, Err: &out, width: width}, &out
}

// plain takes the colours out, which a terminal that has none would not get.
func plain(text string) string {
	var b strings.Builder
	for {
		before, after, found := strings.Cut(text, "\x1b[")
		b.WriteString(before)
		if !found {
			return b.String()
		}
		_, text, _ = strings.Cut(after, "m")
	}
}

func TestRowsLineUpAndWrapUnderTheirFacts(t *testing.T) {
	s, out := screen(80)
	s.Header(work.Header{App: "combledger", Server: "barn", About: "MariaDB 10.11.19, socket"})
	s.Row(work.Row{Step: "php", Outcome: work.Kept, Facts: "mysqli"})
	s.Row(work.Row{Step: "sql", Outcome: work.Imported, Facts: "seasons.sql.gz: 12,480 rows into 6 tables", Seconds: 0.94})
	s.Row(work.Row{Step: "sql", Outcome: "would import", Facts: "a name of a file that is long, and then some more: 12 tables", Seconds: 0.01})
	s.Row(work.Row{Step: "account", Outcome: work.Differs, Severity: estate.MustFix, Facts: "comb_app@localhost exists, and its password is not known here",
		Place: &fault.Place{File: "s.php", Line: 3}, Excerpt: "3 | $p = 1;", Remedy: "yellowfield provision combledger --fix server-password"})
	s.Row(work.Row{Step: "settings", Outcome: work.NotReached})
	assert.Equal(t, `combledger                                        barn, MariaDB 10.11.19, socket
  kept          php        mysqli
  imported      sql        seasons.sql.gz: 12,480 rows into 6 tables       0.9 s
  would import  sql        a name of a file that is long, and then some more: 12
                           tables
  differs       account    comb_app@localhost exists, and its password is not
                           known here (must-fix)
                s.php:3
                3 | $p = 1;
                next  yellowfield provision combledger --fix server-password
  not reached   settings
`, plain(out.String()))
}

func TestADryRunShowsStatementsAndDifferences(t *testing.T) {
	s, out := screen(60)
	s.Row(work.Row{Step: "settings", Outcome: "would write", Facts: "s.php: 1 value",
		SQL: []string{"GRANT SELECT ON `x`.* TO `a`@`b`"}, Diff: "--- a\n+++ b\n-old\n+new " + strings.Repeat("x", 80) + "\n"})
	assert.Equal(t, "  would write   settings   s.php: 1 value\n"+
		"      GRANT SELECT ON `x`.* TO `a`@`b`\n      --- a\n      +++ b\n      -old\n      +new "+strings.Repeat("x", 46)+"...\n", plain(out.String()))
}

func TestWrapBreaksAtBlanksOnly(t *testing.T) {
	assert.Equal(t, []string{"provision", "--fix rights"}, wrap("provision --fix rights", 13))
	assert.Equal(t, []string{"a", strings.Repeat("x", 10), "xx b"}, wrap("a "+strings.Repeat("x", 12)+" b", 10), "only what fits no line is cut")
	assert.Equal(t, []string{"пчела", "蜂蜂蜂", "🐝"}, wrap("пчела 蜂蜂蜂 🐝", 7), "widths are those on the screen")
	assert.Equal(t, []string{""}, wrap("", 10))
}

func TestFaultsAreToldWithPlaceAndNextStep(t *testing.T) {
	s, out := screen(80)
	s.Fault(fault.At(fault.Invalid, fault.Place{File: "a.yaml", Line: 2, Column: 3}, "write b", "a is wrong").WithExcerpt([]byte("x\n  a: 1\n")))
	assert.Equal(t, "Error: a is wrong\n  at a.yaml:2:3\n    2 |   a: 1\n      |   ^\n  next: write b\n", plain(out.String()))
}

func TestSummaries(t *testing.T) {
	row := func(o work.Outcome) work.Row { return work.Row{Outcome: o} }
	result := func(app string, exit int, rows ...work.Row) work.Result {
		return work.Result{Header: work.Header{App: app}, Exit: exit, Rows: rows}
	}
	for name, row := range map[string]struct {
		results []work.Result
		tells   Telling
		want    string
	}{
		"nothing to do": {[]work.Result{result("a", 0, row(work.Kept)), result("b", 0)}, ToldChanges, "2 apps: 2 unchanged, in 1.5 s.\n"},
		"undone":        {[]work.Result{result("a", 1, row(work.Made), row(work.Failed), row(work.Undone))}, ToldChanges, "1 app: 1 failed, in 1.5 s.\na: nothing is left behind.\n"},
		"beforehand":    {[]work.Result{result("a", 2, row(work.Failed))}, ToldChanges, "1 app: 1 failed, in 1.5 s.\na: nothing was touched.\n"},
		"half undone": {[]work.Result{{Header: work.Header{App: "a"}, Exit: 4, UndoIncomplete: true, Rows: []work.Row{row(work.Made), row(work.Made), row(work.Refused), row(work.Undone)}}}, ToldChanges,
			"1 app: 1 refused, in 1.5 s.\na: what could not be undone is named above.\n"},
		"behind the settings": {[]work.Result{result("a", 1, row(work.Made), row(work.Written), row(work.Failed))}, ToldChanges,
			"1 app: 1 failed, in 1.5 s.\na: what was made before the failure stands.\n"},
		"compared": {[]work.Result{result("a", 3, row(work.Differs))}, ToldComparison, "1 app: 1 with differences, in 1.5 s.\n"},
		"planned": {[]work.Result{{Header: work.Header{App: "a"}, Changed: true}}, ToldPlan,
			"1 app: 1 would change, in 1.5 s.\nNext: yellowfield provision a  does it\n"},
		"waiting": {[]work.Result{{Header: work.Header{App: "a"}, Changed: true, Waits: true, Pending: []string{"r"}}}, ToldChanges,
			"1 app: 1 waiting for its installer, in 1.5 s.\nNext: yellowfield connection a                       what to type into its installer\n" +
				"      yellowfield connection a --account r --reveal  collect its password: r\n"},
		"many": {[]work.Result{result("a", 0), {Header: work.Header{App: "b"}, Exit: 1, Rows: []work.Row{{Outcome: work.Failed, Facts: "no room"}}}, result("c", 0), {Header: work.Header{App: "d"}, Exit: 1, Rows: []work.Row{{Outcome: work.Failed, Facts: "no right"}}}}, ToldPlan,
			"4 apps: 2 unchanged, 2 failed, in 1.5 s.\n  b: no room\n  d: no right\nNext: yellowfield provision b d  when the cause is mended\n"},
		"no app": {nil, ToldChanges, "There is no app to work on.\n"},
	} {
		s, out := screen(90)
		s.began = time.Now().Add(-1500 * time.Millisecond)
		s.Summary("provision", row.results, row.tells)
		assert.Equal(t, row.want, plain(out.String()), name)
	}
}

func TestConnectionRevealsOnDemandOnly(t *testing.T) {
	c := &overview.Connection{App: "stall", DBMS: "MariaDB", Host: "localhost", Port: 3306, Database: "stall", User: "app",
		Password: secret.NewPassword("w-a-x"), PasswordIn: "pending", Pending: true, Notes: []string{"one", "two"}}
	s, out := screen(80)
	s.Connection(c, false)
	assert.NotContains(t, out.String(), "w-a-x")
	assert.Contains(t, plain(out.String()), "  notes       one\n              two\n")
	s, out = screen(80)
	s.Connection(c, true)
	assert.Contains(t, out.String(), "w-a-x")
}

func TestProgressFigures(t *testing.T) {
	now := load.Progress{Length: 3 << 20, BytesRead: 1 << 20, Statements: 5000, Elapsed: 2 * time.Second}
	assert.Equal(t, "1.0 of 3.0 MiB", part(now.BytesRead, now.Length))
	assert.Equal(t, "5,000 statements, 2,500/s", counts(now))
	assert.Equal(t, "4 s", left(now))
	now.Elapsed = 2 * time.Minute
	assert.Equal(t, "4 min", left(now))
	assert.Equal(t, "0.0 of 0 B", part(0, 0))
	for bytes, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 5 << 30: "5.0 GiB", 3 << 40: "3.0 TiB"} {
		assert.Equal(t, want, figures.Size(bytes))
	}
}

func TestSettingsLineUpByTheLongestAddress(t *testing.T) {
	s, out := screen(60)
	s.SettingsFile("a.php", "PHP", []Setting{
		{Line: 2, Address: "HOST", Value: "localhost"}, {Line: 13, Address: "$a['b']['c']['d']['e']", Value: "x\ny " + strings.Repeat("z", 40)},
		{Line: 14, Address: "$very['long']['address']['that']['fills']['the']['line']", Value: "v", Refusal: "a heredoc"},
	})
	assert.Equal(t, "a.php                                                    PHP\n"+
		"     2            HOST              localhost\n"+
		"    13            $a['b']['c']['d']['e']\n"+
		"                                    x y zzzzzzzzzzzzzzzzz...\n"+
		"    14            $very['long']['address']['that']['fills']['the']['line']\n"+
		"                                    v  (a heredoc)\n", plain(out.String()))
}

func TestAgo(t *testing.T) {
	for passed, want := range map[time.Duration]string{
		0: "just now", 59 * time.Second: "just now", time.Minute: "1 minute ago", 3*time.Hour - 1: "2 hours ago", 48 * time.Hour: "2 days ago", -time.Hour: "just now",
	} {
		assert.Equal(t, want, ago(passed))
	}
}

// TestTheBarReachesTheTerminal: a writer between would take the bar's movements for text, and
// the bar would not be drawn.
func TestTheBarReachesTheTerminal(t *testing.T) {
	file, err := os.Create(filepath.Join(t.TempDir(), "terminal"))
	require.NoError(t, err)
	defer file.Close()
	assert.Same(t, file, terminalOf(NewScreen(file, file, ColourAuto).Err))
}

func TestNoCellIsAFormula(t *testing.T) {
	for _, name := range []string{"=1+1", "＝1+1", "+1", "＋1", "-1", "－1", "@SUM(1)", "＠SUM(1)", "\u200b=1", "\ufeff=1", "\u202e=1"} {
		var out strings.Builder
		require.NoError(t, AccessCSV(&out, []access.Cell{{Account: name}}))
		assert.Contains(t, out.String(), ",'", "%q", name)
	}
	var out strings.Builder
	require.NoError(t, AccessCSV(&out, []access.Cell{{Account: "комб@localhost"}}))
	assert.NotContains(t, out.String(), "'")
}
