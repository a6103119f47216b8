// Package content is about what databases hold: it plans imports, exports, the emptying of a
// database and conversions to another character set, and defines what these changes mean.
//
// It must never know of settings files or of how accounts are made.
package content

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"yellowfield/internal/bounds"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/host"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
	"yellowfield/internal/work"
)

// PlanImport reads every script to its end, so that everything that can be known is known
// before anything changes, and decides whether to import.
func PlanImport(r *work.Run, ctx context.Context) error {
	for _, d := range r.App.All() {
		if err := PlanCleaning(r, d); err != nil {
			return err
		}
	}
	if r.Transfers != nil {
		return r.Transfers(ctx)
	}
	scripts := scripts(r)
	if waitsForImport(r, scripts) || len(scripts) == 0 {
		return nil
	}
	var wanted []*work.WantedScript
	for _, d := range r.App.All() {
		group := slices.DeleteFunc(slices.Clone(scripts), func(s *work.WantedScript) bool { return s.Into != d })
		if len(group) == 0 {
			continue
		}
		decided, err := decideImport(r, ctx, d, group)
		if err != nil {
			return err
		}
		if !decided {
			wanted = append(wanted, group...)
		}
	}
	if len(wanted) == 0 {
		return nil
	}
	wanted = slices.DeleteFunc(scripts, func(s *work.WantedScript) bool { return !slices.Contains(wanted, s) }) // in the order of the estate file
	if err := mayRun(r, wanted); err != nil {
		return err
	}
	if err := planServerSettings(r); err != nil {
		return err
	}
	r.Plan.Scripts = wanted
	for _, s := range wanted {
		planScript(r, s)
	}
	planRestoring(r)
	if r.Options.Import != nil && r.Options.Import.DropExisting {
		for _, d := range r.App.All() {
			planEmptyingIsOver(r, d)
		}
	}
	return nil
}

// waitsForImport tells of tables that the installer is to make, and of scripts whose
// folder is not there yet; true for the latter.
func waitsForImport(r *work.Run, scripts []*work.WantedScript) bool {
	if r.Options.Import != nil || len(ownTables(r, &r.App.Database)) > 0 {
		return false
	}
	if r.App.Installer.Tables {
		r.Plan.Tell(work.Row{Step: work.StepSQL, Outcome: work.Waiting, Facts: "the installer makes the tables"})
	}
	if len(scripts) == 0 || r.HasFolder() {
		return false
	}
	r.Plan.Tell(work.Row{Step: work.StepSQL, Outcome: work.Waiting, Facts: "the folder " + r.App.Folder + " is not there yet", Remedy: "unpack the application, then yellowfield provision " + r.App.Name})
	return true
}

// decideImport reads the scripts that go into a database. decided tells that there is
// nothing more to do.
func decideImport(r *work.Run, ctx context.Context, d *estate.Database, scripts []*work.WantedScript) (decided bool, err error) {
	if r.Options.Import != nil && r.Options.Import.DropExisting {
		if err := planEmptying(r, ctx, d); err != nil {
			return false, err
		}
	}
	target := importTarget(r, d)
	importer, err := r.ImporterFor(ctx, target)
	if err != nil {
		return false, err
	}
	there := ownTables(r, d)
	expected, err := readScripts(r, ctx, scripts, importer, target, len(there) > 0)
	if err != nil {
		return false, err
	}
	return mayImport(r, d, scripts, there, expected)
}

// mayRun detects beforehand what would make the scripts fail half way.
func mayRun(r *work.Run, scripts []*work.WantedScript) error {
	if err := Refusals(scripts); err != nil {
		return err
	}
	if err := mayDefineRoutines(r, scripts); err != nil {
		return err
	}
	return canLogInFromHere(r)
}

// scripts are those of the estate file, or those named on the command line.
func scripts(r *work.Run) []*work.WantedScript {
	scripts := namedScripts(r)
	for _, s := range scripts {
		s.Include = includes(r, scripts)
	}
	return scripts
}

func namedScripts(r *work.Run) []*work.WantedScript {
	if r.Options.Copy != nil {
		return copiedScripts(r)
	}
	if r.Options.Move != nil {
		return nil
	}
	var scripts []*work.WantedScript
	asked := load.Options{}
	if r.Options.Import != nil {
		asked = r.Options.Import.Options
	}
	for _, s := range r.App.Import {
		options := asked
		options.MapCollations = options.MapCollations || s.MapCollations
		options.ConvertCharset = options.ConvertCharset || s.ConvertCharset
		options.Fast = options.Fast || s.Fast
		scripts = append(scripts, &work.WantedScript{Into: r.App.DatabaseFor(s.Into), Options: options, Source: script.Source{
			Path: r.App.InFolder(s.File), Opener: r.OpenScript, Name: s.File, Encoding: s.Encoding, PrefixToken: s.PrefixToken, Prefix: r.App.Prefix, Retarget: s.Retarget,
			LongestStatement: int(r.Estate.LongestStatement),
		}})
	}
	if r.Options.Import == nil || len(r.Options.Import.Files) == 0 {
		if r.Options.Import != nil {
			for _, s := range scripts {
				s.Retarget = s.Retarget || r.Options.Import.Retarget
			}
		}
		return scripts
	}
	var named []*work.WantedScript
	for _, file := range r.Options.Import.Files {
		file.Prefix, file.LongestStatement = r.App.Prefix, int(r.Estate.LongestStatement)
		if _, inside := host.Below(r.App.Folder, file.Path); inside && r.HasFolder() {
			file.Opener = r.OpenScript
		}
		one := &work.WantedScript{Into: r.App.DatabaseFor(r.Options.Import.Into), Source: file, Options: asked}
		for _, s := range scripts { // a script of the estate file keeps what is said of it there
			if s.Path == file.Path {
				one = s
				one.Retarget = one.Retarget || file.Retarget
				if file.Encoding != "" {
					one.Encoding = file.Encoding
				}
			}
		}
		named = append(named, one)
	}
	return named
}

// mayImport decides, from the tables that are there, whether the scripts run.
// decided tells that there is nothing more to do.
func mayImport(r *work.Run, d *estate.Database, scripts []*work.WantedScript, own, expected []string) (decided bool, err error) {
	if r.Options.Import != nil {
		if len(own) > 0 && !r.Options.Import.IntoExisting {
			return true, fault.New(fault.Protected, "use --into-existing if the scripts are meant for these tables, or --drop-existing to have them exported and dropped first",
				"the database %s holds %s already (%s)", d.Name, figures.Counted(len(own), "table", "tables"), work.JoinSome(own))
		}
		return false, nil
	}
	there := 0
	for _, table := range expected {
		if slices.Contains(own, r.View.Server.TableName(table)) {
			there++
		}
	}
	switch {
	case len(own) > 0 && there == len(expected):
		for _, s := range scripts {
			facts := filepath.Base(s.Name) + ": the tables are there"
			if s.Survey != nil && len(s.Survey.Tables) > 0 {
				facts = filepath.Base(s.Name) + ": its " + figures.Counted(len(s.Survey.Tables), "table is", "tables are") + " there"
			}
			r.Plan.Keep(work.StepSQL, facts)
		}
		return true, nil
	case len(own) > 0:
		return true, r.Estate.Fault(fault.Protected, r.Path("import"), "look at the database, and empty it if nothing in it is needed",
			"the database %s holds %s (%s), among them %d of the %d that the scripts make: it is not known who made them",
			d.Name, figures.Counted(len(own), "table", "tables"), work.JoinSome(own), there, len(expected))
	}
	return false, nil
}

// Refusals are the faults for what the guard and the server's limits forbid.
func Refusals(scripts []*work.WantedScript) error {
	var errs []error
	for _, s := range scripts {
		for _, finding := range s.Survey.Refused {
			errs = append(errs, fault.At(fault.Protected, finding.Place, finding.Next, "%s", finding.What))
		}
	}
	return errors.Join(errs...)
}

// importTarget is what the importer has to know of a database.
func importTarget(r *work.Run, d *estate.Database) load.Target {
	target := load.Target{Database: d.Name, Charset: d.Charset}
	if contents := r.Plan.Contents[d.Name]; !contents.Empty() {
		target.Holds = map[string]bool{}
		for object := range contents.Objects() {
			target.Holds[object.Name] = true
		}
	}
	return target
}

// ownTables are the tables that count as the app's: all, or those with its
// prefix where the database is shared.
func ownTables(r *work.Run, d *estate.Database) []string {
	var own []string
	for _, t := range r.Plan.Contents[d.Name].Tables {
		if !r.App.Shared || strings.HasPrefix(t.Name, r.App.Prefix) {
			own = append(own, t.Name)
		}
	}
	return own
}

// readScripts reads all scripts and collects the tables they make. A script
// that is gone is no error when the tables are there.
func readScripts(r *work.Run, ctx context.Context, scripts []*work.WantedScript, importer load.Importer, target load.Target, tablesThere bool) (expected []string, err error) {
	var errs []error
	for _, s := range scripts {
		survey, err := importer.Check(ctx, s.Source, s.Options)
		if errors.Is(err, fs.ErrNotExist) && tablesThere && r.Options.Import == nil {
			continue
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		s.Importer, s.Survey = importer, survey
		for table := range survey.Charsets {
			r.Plan.Charsets[r.View.Server.TableName(table)] = true
		}
		expected = append(expected, survey.Tables...)
		if target.Holds != nil { // what one script makes, the next one finds
			for _, table := range survey.Tables {
				delete(target.Holds, table)
			}
		}
	}
	return expected, errors.Join(errs...)
}

// mayDefineRoutines checks beforehand what binary logging would refuse half
// way: triggers and functions of an account without SUPER.
func mayDefineRoutines(r *work.Run, scripts []*work.WantedScript) error {
	routines := 0
	for _, s := range scripts {
		routines += s.Survey.Routines()
	}
	if routines == 0 || !adminDefines(r) {
		return nil
	}
	what := figures.Counted(routines, "trigger or function", "triggers and functions")
	if !r.View.AsAdmin() {
		return r.Estate.Fault(fault.Invalid, r.Path("import"), "give the server an admin, or have its administrator set log_bin_trust_function_creators",
			"the scripts define %s, which server %s lets only an administrator do while its binary log is on", what, r.App.Server)
	}
	// Only SUPER avoids error 1419, and it allows foreign definers as well.
	if r.View.Catalogue.GrantsOf(r.View.Server.CurrentUser()).Global.Has("SUPER") {
		return nil
	}
	return fault.New(fault.Invalid, "grant it, or write server_during_import: {log_bin_trust_function_creators: \"ON\"} for the app",
		"the scripts define %s, and the administrator %s lacks SUPER, which that takes while the binary log is on", what, r.View.Server.CurrentUser())
}

// canLogInFromHere makes sure that the account may come from where we are.
func canLogInFromHere(r *work.Run) error {
	if r.View.Entry.Socket == "" || !r.View.Entry.DBMS.Traits().HostsInAccounts {
		return nil // over TCP, only the login shows what the server takes this host for
	}
	hosts := r.App.Accounts[0].ClientHosts
	for _, host := range hosts {
		if host == "localhost" || host == "%" {
			return nil
		}
	}
	return r.Estate.Fault(fault.Invalid, r.Path("accounts[0].client_hosts"), "add localhost to its client_hosts",
		"the import runs as %s, which may come from %s and not through the socket", r.App.Accounts[0].Name, strings.Join(hosts, ", "))
}

// planScript adds the import of a script.
func planScript(r *work.Run, source *work.WantedScript) {
	one := &Importing{Run: importPlanned, Source: source}
	after := ImportState{Database: source.Into.Name, Makes: Listed(source.Survey.Makes), Touches: names(source.Survey.Touches)}
	one.Step = r.Plan.Change(work.Row{Step: work.StepSQL, Outcome: work.Imported, Facts: source.Describe()},
		SqlImported.Of(source.Name, ImportState{Database: source.Into.Name, Holds: Listed(r.Plan.Contents[source.Into.Name].Everything())}, after), one)
	one.Step.Also = beforehand(r, source)
}

// ImportState is what a database holds, as the effect of an import has it.
type ImportState struct {
	Database string `json:"database"`
	// Holds is what was there before; Makes what the script makes by its text, and Touches
	// tables that were there and that it changes.
	Holds []dbms.Object `json:"holds,omitempty"`
	Makes []dbms.Object `json:"makes,omitempty"`
	// Made is what it has really made; nil as long as that is not known.
	Made    []dbms.Object `json:"made,omitempty"`
	Touches []string      `json:"touches,omitempty"`
	// Moved says that all comes from another server, so that nothing else is there.
	Moved bool `json:"moved,omitempty"`
}

// Importing is what an import takes beside the effect's data.
type Importing struct {
	Run    func(r *work.Run, ctx context.Context, d *effect.Doing[ImportState], of *Importing) (facts string, err error)
	Step   *work.Step
	Source *work.WantedScript
}

// SqlImported is one kind of change, see init.
var SqlImported = effect.Define[*work.Run, ImportState](&work.Kinds, "import")

func init() {
	SqlImported.Means(effect.Spec[*work.Run, ImportState]{
		Object: func(c effect.Change[ImportState]) string {
			if c.After.Moved {
				return "transfer of " + c.Subject
			}
			return "import of " + c.Subject
		},
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[ImportState]) (string, error) {
			of := d.Material.(*Importing)
			return of.Run(r, ctx, d, of)
		},
		Undo: removeImported,
		Look: func(r *work.Run, _ context.Context, c effect.Change[ImportState]) (effect.Standing, error) {
			if !r.Exists(c.After.Database) || len(left(r, c, r.Plan.Contents[c.After.Database]))+len(c.After.Touches) == 0 {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
		Kept: func(*work.Run, effect.Change[ImportState]) (why, next string) {
			return "the run has imported a script, and the application may have changed its rows since", work.DropByHand
		},
	})
}

// importPlanned runs a script of the plan.
func importPlanned(r *work.Run, ctx context.Context, d *effect.Doing[ImportState], of *Importing) (facts string, err error) {
	began := time.Now()
	source := of.Source
	login, err := r.OwnLogin(ctx, r.App.Accounts[0], source.Into)
	if err != nil {
		return "", err
	}
	defer login.Close()
	if err := NoteUnfinished(r, source); err != nil {
		return "", err
	}
	d.Touched = true // what came before a statement that fails is there
	report, err := ImportScript(r, ctx, login, source)
	d.After.Made = Listed(report.Made)
	of.Step.Seconds = time.Since(began).Seconds()
	if err != nil {
		return "", inOrder(r, source, err)
	}
	of.Step.Import = &work.ImportReport{
		Script: source.Name, Bytes: source.Survey.Length, Statements: report.Statements, Rows: report.Rows,
		Sessions: report.Lanes, OneByOne: report.OneByOne,
	}
	if of.Step.Also, err = afterwards(r, ctx, source, report); err != nil {
		return "", err
	}
	facts = source.Title() + ": " + report.Describe()
	if report.Replayed > 0 {
		facts += fmt.Sprintf(" (%d defined by the administrator for the binary log)", report.Replayed)
	}
	return facts, nil
}

// left are the objects that an import has made and that are there.
func left(r *work.Run, c effect.Change[ImportState], now dbms.Contents) map[dbms.Object]bool {
	made, left := setOf(c.After.Makes), map[dbms.Object]bool{}
	for object := range now.Objects() {
		if (c.After.Moved || made[object] || made[object.AsMade(made, r.View.Server.TableName)]) && !slices.Contains(c.Before.Holds, object) {
			left[object] = true
		}
	}
	return left
}

// removeImported removes what a script made, and nothing else: an application
// may be at work in a database that stood before.
func removeImported(r *work.Run, ctx context.Context, c effect.Change[ImportState]) error {
	if r.View.AsAdmin() {
		// A statement that was given up here may still be at work there.
		for _, a := range r.AccountsOf(r.App.Accounts[0]) {
			_ = r.View.Server.EndSessions(ctx, a) // there may be none
		}
	}
	now, err := r.Now(ctx)
	if err != nil {
		return err
	}
	made, before := left(r, c, now.Contents[c.After.Database]), map[dbms.Object]bool{}
	if c.After.Made != nil {
		made, before = setOf(c.After.Made), setOf(c.Before.Holds)
	}
	if _, exists := now.Databases[c.After.Database]; exists {
		if err := r.View.Server.RemoveObjects(ctx, c.After.Database, made, before); err != nil {
			return err
		}
	}
	for _, d := range r.App.All() {
		if d.Name == c.After.Database {
			if err := ImportIsOver(r, d); err != nil {
				return err
			}
		}
	}
	if len(c.After.Touches) > 0 {
		return fault.New(fault.Protected, "look through these tables; the script's rows may be in them",
			"what the script did to tables that were there before stays: %s", work.JoinSome(c.After.Touches))
	}
	return nil
}

// Listed are objects in a list, in an order of their own.
func Listed(objects map[dbms.Object]bool) []dbms.Object {
	list := slices.AppendSeq(make([]dbms.Object, 0, len(objects)), maps.Keys(objects))
	slices.SortFunc(list, func(a, b dbms.Object) int { return strings.Compare(a.String(), b.String()) })
	return list
}

func setOf(list []dbms.Object) map[dbms.Object]bool {
	objects := map[dbms.Object]bool{}
	for _, object := range list {
		objects[object] = true
	}
	return objects
}

// namesInMessage are what a server puts between quotes in its messages.
var namesInMessage = regexp.MustCompile("[`'\"]([A-Za-z0-9_$.-]+)[`'\"]")

// inOrder names, for a refusal that is about a table, the later script that makes it or has
// rows for it, if there is one.
func inOrder(r *work.Run, s *work.WantedScript, err error) error {
	f := fault.As(err)
	var spoken *dbms.ServerError
	if !errors.As(err, &spoken) || !strings.Contains(f.Next, "right order") {
		return err
	}
	at := slices.Index(r.Plan.Scripts, s)
	for _, m := range slices.Backward(namesInMessage.FindAllStringSubmatch(spoken.Message, -1)) { // the table that is referred to comes last
		name := m[1][strings.LastIndexByte(m[1], '.')+1:]
		for _, later := range r.Plan.Scripts[at+1:] {
			data := later.Survey.Data[name]
			if later.Into != s.Into || !slices.Contains(later.Survey.Tables, name) && (data == nil || data.Bytes == 0) {
				continue
			}
			named := *f
			named.Next = later.Name + ", which comes later, has " + name + ": put it before " + s.Name + " under import"
			return &named
		}
	}
	return err
}

// beforehand is what is worth knowing before a script runs.
func beforehand(r *work.Run, s *work.WantedScript) []work.Row {
	var rows []work.Row
	for _, note := range s.Survey.Notes {
		rows = append(rows, remark(note.Place, note.Count, note.What, note.Next))
	}
	if s.Survey.Routines() > 0 && adminDefines(r) {
		rows = append(rows, work.Row{Step: work.StepSQL, Outcome: work.Note,
			Facts: "the server's binary log lets only an administrator define triggers and functions: " + r.View.Server.CurrentUser() + " will, in the account's name"})
	}
	if s.Survey.OneByOne != "" && !s.Options.OneByOne {
		rows = append(rows, work.Row{Step: work.StepSQL, Outcome: work.Note, Facts: "sent one by one: " + s.Survey.OneByOne})
	}
	return rows
}

// afterwards is what is worth knowing of a script that has run; what was of interest
// beforehand only is left out.
func afterwards(r *work.Run, ctx context.Context, s *work.WantedScript, report load.Report) ([]work.Row, error) {
	var rows []work.Row
	for _, note := range s.Survey.Notes {
		if !note.Usual {
			rows = append(rows, remark(note.Place, note.Count, note.What, note.Next))
		}
	}
	deviating, err := deviating(r, ctx, s.Into, s.Survey)
	return slices.Concat(rows, remarks(r, report), deviating), err
}

// adminDefines reports whether binary logging keeps the application's account from
// defining triggers and functions.
func adminDefines(r *work.Run) bool {
	about := r.View.Server.About()
	return about.BinaryLog && !about.TrustFunctionCreators && !isOn(r.App.ServerDuringImport["log_bin_trust_function_creators"])
}

// deviating names the script's tables that differ from the database: another character set, or
// an engine that does not roll back.
func deviating(r *work.Run, ctx context.Context, d *estate.Database, survey *load.Survey) ([]work.Row, error) {
	contents, err := r.View.Server.Contents(ctx, d.Name)
	if err != nil {
		return nil, err
	}
	made := map[string]bool{}
	for _, name := range survey.Tables {
		made[r.View.Server.TableName(name)] = true
	}
	var found []string
	for _, t := range contents[d.Name].Tables {
		charset, _, _ := strings.Cut(t.Collation, "_")
		otherEngine := !strings.EqualFold(t.Engine, "InnoDB")
		if t.View || t.Engine == "" || !made[t.Name] || !otherEngine && dbms.SameCharset(charset, d.Charset) { // some products have one kind of tables only
			continue
		}
		found = append(found, t.Name+" ("+t.Engine+", "+t.Collation+")")
	}
	if len(found) == 0 {
		return nil, nil
	}
	return []work.Row{{Step: work.StepSQL, Outcome: work.Note,
		Facts: "not InnoDB with " + d.Charset + " as the database: " + work.JoinSome(found), Remedy: "convert_charset: true for the script makes them so"}}, nil
}

func names(objects map[dbms.Object]bool) []string {
	var list []string
	for object := range objects {
		list = append(list, object.Name)
	}
	slices.Sort(list)
	return list
}

// remark is a note row.
func remark(place fault.Place, count int, what, next string) work.Row {
	if count > 1 {
		what += fmt.Sprintf(" (%s times, first here)", figures.Thousands(count))
	}
	row := work.Row{Step: work.StepSQL, Outcome: work.Note, Facts: what, Remedy: next}
	if place.File != "" {
		row.Place = &place
	}
	return row
}

// remarks are what the server remarked, and what was found afterwards.
func remarks(r *work.Run, report load.Report) []work.Row {
	var rows []work.Row
	const most = 5 // kinds of warnings that are shown
	for i, w := range report.Warnings {
		if i == most {
			rows = append(rows, work.Row{Step: work.StepSQL, Outcome: work.Note,
				Facts: figures.Counted(len(report.Warnings)-most, "more kind of warning", "more kinds of warnings")})
			break
		}
		rows = append(rows, remark(w.Place, w.Count, warning(w), ""))
	}
	for _, o := range report.Orphans {
		rows = append(rows, work.Row{Step: work.StepSQL, Outcome: work.Differs, Severity: estate.ShouldLook,
			Facts:  fmt.Sprintf("rows of %s refer to rows of %s that do not exist (foreign key %s)", o.Table, o.References, o.Key),
			Remedy: "the script switched the check off: look at these rows, and whether all files were imported"})
	}
	return rows
}

func warning(w load.Warning) string {
	if w.Code == 0 { // PostgreSQL does not number its warnings
		return "the server warns: " + w.Message
	}
	return fmt.Sprintf("the server warns: %s (%d)", w.Message, w.Code)
}

// ImportScript runs a script as the app's own account, so that the server
// itself keeps it inside the database.
func ImportScript(r *work.Run, ctx context.Context, login dbms.Server, s *work.WantedScript) (load.Report, error) {
	if s.Survey.Longest > bounds.LargePiece {
		release, err := bounds.TakeLarge(ctx)
		if err != nil {
			return load.Report{}, fault.Stopped(err)
		}
		defer release()
	}
	return r.WithLogin(s.Importer, login).Import(bounds.HoldingLarge(ctx), s.Source, s.Survey, s.Options, func(p load.Progress) {
		if r.Listener.Progress != nil {
			r.Listener.Progress(r.Result.Header, p)
		}
	})
}

// copiedScripts are the exports of the original.
func copiedScripts(r *work.Run) (scripts []*work.WantedScript) {
	for _, d := range r.App.All() {
		if r.Options.DryRun { // which has made none
			r.Plan.Change(work.Row{Step: work.StepSQL, Outcome: work.Imported, Facts: "what " + r.Copies.Original.Name + " holds, into " + d.Name}, SqlImported.Of(d.Name, ImportState{}, ImportState{Database: d.Name}), nil)
			continue
		}
		scripts = append(scripts, &work.WantedScript{Into: d, Options: load.Options{EventsDisabled: true},
			Source: script.Source{Path: r.Copies.Exports[d.Name], Name: "the export of " + r.Copies.Original.Name, LongestStatement: LongestOfExports}})
	}
	return scripts
}
