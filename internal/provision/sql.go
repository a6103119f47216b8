package provision

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

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/host"
	"yellowfield/internal/load"
	"yellowfield/internal/script"
)

// planImport reads every script to its end, so that what can be known is known
// before anything is changed, and decides whether to import.
func (r *run) planImport(ctx context.Context) error {
	for _, d := range r.app.All() {
		if err := r.planCleaning(d); err != nil {
			return err
		}
	}
	if r.transfers != nil {
		return r.transfers(ctx)
	}
	scripts := r.scripts()
	if r.waitsForImport(scripts) || len(scripts) == 0 {
		return nil
	}
	var wanted []*wantedScript
	for _, d := range r.app.All() {
		group := slices.DeleteFunc(slices.Clone(scripts), func(s *wantedScript) bool { return s.into != d })
		if len(group) == 0 {
			continue
		}
		decided, err := r.decideImport(ctx, d, group)
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
	wanted = slices.DeleteFunc(scripts, func(s *wantedScript) bool { return !slices.Contains(wanted, s) }) // in the order of the estate file
	if err := r.mayRun(wanted); err != nil {
		return err
	}
	if err := r.planServerSettings(); err != nil {
		return err
	}
	r.plan.scripts = wanted
	for _, s := range wanted {
		r.planScript(s)
	}
	r.planRestoring()
	if r.options.Import != nil && r.options.Import.DropExisting {
		for _, d := range r.app.All() {
			r.planEmptyingIsOver(d)
		}
	}
	return nil
}

// waitsForImport tells of tables that the installer is to make, and of scripts whose
// folder is not there yet; true for the latter.
func (r *run) waitsForImport(scripts []*wantedScript) bool {
	if r.options.Import != nil || len(r.ownTables(&r.app.Database)) > 0 {
		return false
	}
	if r.app.Installer.Tables {
		r.plan.tell(Row{Step: stepSQL, Outcome: Waiting, Facts: "the installer makes the tables"})
	}
	if len(scripts) == 0 || r.hasFolder() {
		return false
	}
	r.plan.tell(Row{Step: stepSQL, Outcome: Waiting, Facts: "the folder " + r.app.Folder + " is not there yet", Remedy: "unpack the application, then yellowfield provision " + r.app.Name})
	return true
}

// decideImport reads the scripts that go into a database. decided tells that there is
// nothing more to do.
func (r *run) decideImport(ctx context.Context, d *estate.Database, scripts []*wantedScript) (decided bool, err error) {
	if r.options.Import != nil && r.options.Import.DropExisting {
		if err := r.planEmptying(ctx, d); err != nil {
			return false, err
		}
	}
	target := r.importTarget(d)
	importer, err := r.importerFor(ctx, target)
	if err != nil {
		return false, err
	}
	there := r.ownTables(d)
	expected, err := r.readScripts(ctx, scripts, importer, target, len(there) > 0)
	if err != nil {
		return false, err
	}
	return r.mayImport(d, scripts, there, expected)
}

// mayRun finds beforehand what would refuse the scripts half way.
func (r *run) mayRun(scripts []*wantedScript) error {
	if err := refusals(scripts); err != nil {
		return err
	}
	if err := r.mayDefineRoutines(scripts); err != nil {
		return err
	}
	return r.canLogInFromHere()
}

// scripts are those of the estate file, or those named on the command line.
func (r *run) scripts() []*wantedScript {
	scripts := r.namedScripts()
	for _, s := range scripts {
		s.Include = r.includes(scripts)
	}
	return scripts
}

func (r *run) namedScripts() []*wantedScript {
	if r.options.Copy != nil {
		return r.copiedScripts()
	}
	if r.options.Move != nil {
		return nil
	}
	var scripts []*wantedScript
	asked := load.Options{}
	if r.options.Import != nil {
		asked = r.options.Import.Options
	}
	for _, s := range r.app.Import {
		options := asked
		options.MapCollations = options.MapCollations || s.MapCollations
		options.ConvertCharset = options.ConvertCharset || s.ConvertCharset
		options.Fast = options.Fast || s.Fast
		scripts = append(scripts, &wantedScript{into: r.app.DatabaseFor(s.Into), options: options, Source: script.Source{
			Path: r.app.InFolder(s.File), Opener: r.openScript, Name: s.File, Encoding: s.Encoding, PrefixToken: s.PrefixToken, Prefix: r.app.Prefix, Retarget: s.Retarget,
			LongestStatement: int(r.Estate.LongestStatement),
		}})
	}
	if r.options.Import == nil || len(r.options.Import.Files) == 0 {
		if r.options.Import != nil {
			for _, s := range scripts {
				s.Retarget = s.Retarget || r.options.Import.Retarget
			}
		}
		return scripts
	}
	var named []*wantedScript
	for _, file := range r.options.Import.Files {
		file.Prefix, file.LongestStatement = r.app.Prefix, int(r.Estate.LongestStatement)
		if _, inside := host.Below(r.app.Folder, file.Path); inside && r.hasFolder() {
			file.Opener = r.openScript
		}
		one := &wantedScript{into: r.app.DatabaseFor(r.options.Import.Into), Source: file, options: asked}
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
func (r *run) mayImport(d *estate.Database, scripts []*wantedScript, own, expected []string) (decided bool, err error) {
	if r.options.Import != nil {
		if len(own) > 0 && !r.options.Import.IntoExisting {
			return true, fault.New(fault.Protected, "use --into-existing if the scripts are meant for these tables, or --drop-existing to have them exported and dropped first",
				"the database %s holds %s already (%s)", d.Name, figures.Counted(len(own), "table", "tables"), some(own))
		}
		return false, nil
	}
	there := 0
	for _, table := range expected {
		if slices.Contains(own, r.view.server.TableName(table)) {
			there++
		}
	}
	switch {
	case len(own) > 0 && there == len(expected):
		for _, s := range scripts {
			facts := filepath.Base(s.Name) + ": the tables are there"
			if s.survey != nil && len(s.survey.Tables) > 0 {
				facts = filepath.Base(s.Name) + ": its " + figures.Counted(len(s.survey.Tables), "table is", "tables are") + " there"
			}
			r.plan.keep(stepSQL, facts)
		}
		return true, nil
	case len(own) > 0:
		return true, r.Estate.Fault(fault.Protected, r.path("import"), "look at the database, and empty it if nothing in it is needed",
			"the database %s holds %s (%s), among them %d of the %d that the scripts make: it is not known who made them",
			d.Name, figures.Counted(len(own), "table", "tables"), some(own), there, len(expected))
	}
	return false, nil
}

// refusals are the faults for what the guard and the server's limits forbid.
func refusals(scripts []*wantedScript) error {
	var errs []error
	for _, s := range scripts {
		for _, finding := range s.survey.Refused {
			errs = append(errs, fault.At(fault.Protected, finding.Place, finding.Next, "%s", finding.What))
		}
	}
	return errors.Join(errs...)
}

// importTarget is what the importer has to know of a database.
func (r *run) importTarget(d *estate.Database) load.Target {
	target := load.Target{Database: d.Name, Charset: d.Charset}
	if contents := r.plan.contents[d.Name]; !contents.Empty() {
		target.Holds = map[string]bool{}
		for object := range contents.Objects() {
			target.Holds[object.Name] = true
		}
	}
	return target
}

// ownTables are the tables that count as the app's: all, or those with its
// prefix where the database is shared.
func (r *run) ownTables(d *estate.Database) []string {
	var own []string
	for _, t := range r.plan.contents[d.Name].Tables {
		if !r.app.Shared || strings.HasPrefix(t.Name, r.app.Prefix) {
			own = append(own, t.Name)
		}
	}
	return own
}

// readScripts reads all scripts and collects the tables they make. A script
// that is gone is no error when the tables are there.
func (r *run) readScripts(ctx context.Context, scripts []*wantedScript, importer load.Importer, target load.Target, tablesThere bool) (expected []string, err error) {
	var errs []error
	for _, s := range scripts {
		survey, err := importer.Check(ctx, s.Source, s.options)
		if errors.Is(err, fs.ErrNotExist) && tablesThere && r.options.Import == nil {
			continue
		}
		if err != nil {
			errs = append(errs, err)
			continue
		}
		s.importer, s.survey = importer, survey
		for table := range survey.Charsets {
			r.plan.charsets[r.view.server.TableName(table)] = true
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
func (r *run) mayDefineRoutines(scripts []*wantedScript) error {
	routines := 0
	for _, s := range scripts {
		routines += s.survey.Routines()
	}
	if routines == 0 || !r.adminDefines() {
		return nil
	}
	what := figures.Counted(routines, "trigger or function", "triggers and functions")
	if !r.view.asAdmin() {
		return r.Estate.Fault(fault.Invalid, r.path("import"), "give the server an admin, or have its administrator set log_bin_trust_function_creators",
			"the scripts define %s, which server %s lets only an administrator do while its binary log is on", what, r.app.Server)
	}
	// SUPER alone gets past error 1419, and it takes foreign definers as well.
	if r.view.catalogue.GrantsOf(r.view.server.CurrentUser()).Global.Has("SUPER") {
		return nil
	}
	return fault.New(fault.Invalid, "grant it, or write server_during_import: {log_bin_trust_function_creators: \"ON\"} for the app",
		"the scripts define %s, and the administrator %s lacks SUPER, which that takes while the binary log is on", what, r.view.server.CurrentUser())
}

// canLogInFromHere makes sure that the account may come from where we are.
func (r *run) canLogInFromHere() error {
	if r.view.entry.Socket == "" || !r.view.entry.DBMS.Traits().HostsInAccounts {
		return nil // how the server sees this host over TCP shows at the login
	}
	hosts := r.app.Accounts[0].ClientHosts
	for _, host := range hosts {
		if host == "localhost" || host == "%" {
			return nil
		}
	}
	return r.Estate.Fault(fault.Invalid, r.path("accounts[0].client_hosts"), "add localhost to its client_hosts",
		"the import runs as %s, which may come from %s and not through the socket", r.app.Accounts[0].Name, strings.Join(hosts, ", "))
}

// planScript adds the import of a script.
func (r *run) planScript(source *wantedScript) {
	one := &importing{run: (*run).importPlanned, source: source}
	after := importState{Database: source.into.Name, Makes: listed(source.survey.Makes), Touches: names(source.survey.Touches)}
	one.step = r.plan.change(Row{Step: stepSQL, Outcome: Imported, Facts: source.describe()},
		sqlImported.Of(source.Name, importState{Database: source.into.Name, Holds: listed(r.plan.contents[source.into.Name].Everything())}, after), one)
	one.step.also = r.beforehand(source)
}

// importState is what a database holds, as the effect of an import has it.
type importState struct {
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

// importing is what an import takes beside the effect's data.
type importing struct {
	run    func(r *run, ctx context.Context, d *effect.Doing[importState], of *importing) (facts string, err error)
	step   *step
	source *wantedScript
}

// sqlImported is one kind of change, see init.
var sqlImported = effect.Define[*run, importState](&kinds, "import")

func init() {
	sqlImported.Means(effect.Spec[*run, importState]{
		Object: func(c effect.Change[importState]) string {
			if c.After.Moved {
				return "transfer of " + c.Subject
			}
			return "import of " + c.Subject
		},
		Do: func(r *run, ctx context.Context, d *effect.Doing[importState]) (string, error) {
			of := d.Material.(*importing)
			return of.run(r, ctx, d, of)
		},
		Undo: (*run).removeImported,
		Look: func(r *run, _ context.Context, c effect.Change[importState]) (effect.Standing, error) {
			if !r.exists(c.After.Database) || len(r.left(c, r.plan.contents[c.After.Database]))+len(c.After.Touches) == 0 {
				return effect.NotDone, nil
			}
			return effect.Done, nil
		},
		Kept: func(*run, effect.Change[importState]) (why, next string) {
			return "the run has imported a script, and the application may have changed its rows since", dropByHand
		},
	})
}

// importPlanned runs a script of the plan.
func (r *run) importPlanned(ctx context.Context, d *effect.Doing[importState], of *importing) (facts string, err error) {
	began := time.Now()
	source := of.source
	login, err := r.ownLogin(ctx, r.app.Accounts[0], source.into)
	if err != nil {
		return "", err
	}
	defer login.Close()
	if err := r.noteUnfinished(source); err != nil {
		return "", err
	}
	d.Touched = true // what came before a statement that fails is there
	report, err := r.importScript(ctx, login, source)
	d.After.Made = listed(report.Made)
	of.step.Seconds = time.Since(began).Seconds()
	if err != nil {
		return "", r.inOrder(source, err)
	}
	of.step.Import = &ImportReport{
		Script: source.Name, Bytes: source.survey.Length, Statements: report.Statements, Rows: report.Rows,
		Sessions: report.Lanes, OneByOne: report.OneByOne,
	}
	if of.step.also, err = r.afterwards(ctx, source, report); err != nil {
		return "", err
	}
	facts = source.title() + ": " + report.Describe()
	if report.Replayed > 0 {
		facts += fmt.Sprintf(" (%d defined by the administrator for the binary log)", report.Replayed)
	}
	return facts, nil
}

// left are the objects that an import has made and that are there.
func (r *run) left(c effect.Change[importState], now dbms.Contents) map[dbms.Object]bool {
	made, left := setOf(c.After.Makes), map[dbms.Object]bool{}
	for object := range now.Objects() {
		if (c.After.Moved || made[object] || made[object.AsMade(made, r.view.server.TableName)]) && !slices.Contains(c.Before.Holds, object) {
			left[object] = true
		}
	}
	return left
}

// removeImported removes what a script made, and nothing else: an application
// may be at work in a database that stood before.
func (r *run) removeImported(ctx context.Context, c effect.Change[importState]) error {
	if r.view.asAdmin() {
		// A statement that was given up here may still be at work there.
		for _, a := range r.accountsOf(r.app.Accounts[0]) {
			_ = r.view.server.EndSessions(ctx, a) // there may be none
		}
	}
	now, err := r.now(ctx)
	if err != nil {
		return err
	}
	made, before := r.left(c, now.Contents[c.After.Database]), map[dbms.Object]bool{}
	if c.After.Made != nil {
		made, before = setOf(c.After.Made), setOf(c.Before.Holds)
	}
	if _, exists := now.Databases[c.After.Database]; exists {
		if err := r.view.server.RemoveObjects(ctx, c.After.Database, made, before); err != nil {
			return err
		}
	}
	for _, d := range r.app.All() {
		if d.Name == c.After.Database {
			if err := r.importIsOver(d); err != nil {
				return err
			}
		}
	}
	if len(c.After.Touches) > 0 {
		return fault.New(fault.Protected, "look through these tables; the script's rows may be in them",
			"what the script did to tables that were there before stays: %s", some(c.After.Touches))
	}
	return nil
}

// listed are objects in a list, in an order of their own.
func listed(objects map[dbms.Object]bool) []dbms.Object {
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

// inOrder says of a refusal that names a table which one: the script, if there is one,
// that comes later and makes it or has rows for it.
func (r *run) inOrder(s *wantedScript, err error) error {
	f := fault.As(err)
	var spoken *dbms.ServerError
	if !errors.As(err, &spoken) || !strings.Contains(f.Next, "right order") {
		return err
	}
	at := slices.Index(r.plan.scripts, s)
	for _, m := range slices.Backward(namesInMessage.FindAllStringSubmatch(spoken.Message, -1)) { // the table that is referred to comes last
		name := m[1][strings.LastIndexByte(m[1], '.')+1:]
		for _, later := range r.plan.scripts[at+1:] {
			data := later.survey.Data[name]
			if later.into != s.into || !slices.Contains(later.survey.Tables, name) && (data == nil || data.Bytes == 0) {
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
func (r *run) beforehand(s *wantedScript) []Row {
	var rows []Row
	for _, note := range s.survey.Notes {
		rows = append(rows, remark(note.Place, note.Count, note.What, note.Next))
	}
	if s.survey.Routines() > 0 && r.adminDefines() {
		rows = append(rows, Row{Step: stepSQL, Outcome: Note,
			Facts: "the server's binary log lets only an administrator define triggers and functions: " + r.view.server.CurrentUser() + " will, in the account's name"})
	}
	if s.survey.OneByOne != "" && !s.options.OneByOne {
		rows = append(rows, Row{Step: stepSQL, Outcome: Note, Facts: "sent one by one: " + s.survey.OneByOne})
	}
	return rows
}

// afterwards is what is worth knowing of a script that has run; what was of interest
// beforehand only is left out.
func (r *run) afterwards(ctx context.Context, s *wantedScript, report load.Report) ([]Row, error) {
	var rows []Row
	for _, note := range s.survey.Notes {
		if !note.Usual {
			rows = append(rows, remark(note.Place, note.Count, note.What, note.Next))
		}
	}
	deviating, err := r.deviating(ctx, s.into, s.survey)
	return slices.Concat(rows, r.remarks(report), deviating), err
}

// adminDefines reports whether binary logging keeps the application's account from
// defining triggers and functions.
func (r *run) adminDefines() bool {
	about := r.view.server.About()
	return about.BinaryLog && !about.TrustFunctionCreators && !isOn(r.app.ServerDuringImport["log_bin_trust_function_creators"])
}

// deviating names the script's tables that are not as the database is: another
// character set, or an engine that does not roll back.
func (r *run) deviating(ctx context.Context, d *estate.Database, survey *load.Survey) ([]Row, error) {
	contents, err := r.view.server.Contents(ctx, d.Name)
	if err != nil {
		return nil, err
	}
	made := map[string]bool{}
	for _, name := range survey.Tables {
		made[r.view.server.TableName(name)] = true
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
	return []Row{{Step: stepSQL, Outcome: Note,
		Facts: "not InnoDB with " + d.Charset + " as the database: " + some(found), Remedy: "convert_charset: true for the script makes them so"}}, nil
}

func names(objects map[dbms.Object]bool) []string {
	var list []string
	for object := range objects {
		list = append(list, object.Name)
	}
	slices.Sort(list)
	return list
}

// remark is a row about something that is good to know.
func remark(place fault.Place, count int, what, next string) Row {
	if count > 1 {
		what += fmt.Sprintf(" (%s times, first here)", figures.Thousands(count))
	}
	row := Row{Step: stepSQL, Outcome: Note, Facts: what, Remedy: next}
	if place.File != "" {
		row.Place = &place
	}
	return row
}

// remarks are what the server remarked, and what was found afterwards.
func (r *run) remarks(report load.Report) []Row {
	var rows []Row
	const most = 5 // kinds of warnings that are shown
	for i, w := range report.Warnings {
		if i == most {
			rows = append(rows, Row{Step: stepSQL, Outcome: Note,
				Facts: figures.Counted(len(report.Warnings)-most, "more kind of warning", "more kinds of warnings")})
			break
		}
		rows = append(rows, remark(w.Place, w.Count, warning(w), ""))
	}
	for _, o := range report.Orphans {
		rows = append(rows, Row{Step: stepSQL, Outcome: Differs, Severity: estate.ShouldLook,
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

// importScript runs a script as the app's own account, so that the server
// itself keeps it inside the database.
func (r *run) importScript(ctx context.Context, login dbms.Server, s *wantedScript) (load.Report, error) {
	return r.withLogin(s.importer, login).Import(ctx, s.Source, s.survey, s.options, func(p load.Progress) {
		if r.Listener.Progress != nil {
			r.Listener.Progress(r.result.Header, p)
		}
	})
}

// copiedScripts are the exports of the original.
func (r *run) copiedScripts() (scripts []*wantedScript) {
	for _, d := range r.app.All() {
		if r.options.DryRun { // which has made none
			r.plan.change(Row{Step: stepSQL, Outcome: Imported, Facts: "what " + r.copies.original.Name + " holds, into " + d.Name}, sqlImported.Of(d.Name, importState{}, importState{Database: d.Name}), nil)
			continue
		}
		scripts = append(scripts, &wantedScript{into: d, options: load.Options{EventsDisabled: true},
			Source: script.Source{Path: r.copies.exports[d.Name], Name: "the export of " + r.copies.original.Name, LongestStatement: longestOfExports}})
	}
	return scripts
}
