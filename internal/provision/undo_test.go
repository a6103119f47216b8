package provision

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/host"
	"yellowfield/internal/secret"
	"yellowfield/internal/state"
)

// aRun is the beginning of work on the app hives, in a folder with a settings file.
func aRun(t *testing.T, e *Engine) *run {
	t.Helper()
	app := e.Estate.Apps["hives"]
	if app.Folder == "" {
		app.Folder = t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(app.Folder, "db.php"), []byte("<?php $p = 'old';"), 0o640))
		require.NoError(t, os.MkdirAll(filepath.Join(app.Folder, "setup", "steps"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(app.Folder, "setup", "steps", "one.php"), []byte("<?php"), 0o644))
		app.Settings = []*estate.Settings{{File: "db.php"}}
	}
	e.begin([]*estate.App{app})
	r := &run{Base: &e.Base, app: app, options: Options{Command: "provision", Turn: &Turn{}}}
	require.NoError(t, r.look(t.Context()))
	r.plan = r.emptyPlan()
	t.Cleanup(func() { r.folder.Close() })
	return r
}

// world is all that effects change, as text.
func (r *run) world(t *testing.T, p *pretended) string {
	t.Helper()
	var text strings.Builder
	for a, s := range p.catalogue.Accounts {
		fmt.Fprintf(&text, "%s %v %v %d %s\n", a, s.Locked, s.RequiresTLS, s.MaxConnections, s.Verifier.Bytes())
	}
	for a, g := range p.catalogue.Granted {
		for pattern, held := range g.Databases {
			fmt.Fprintf(&text, "%s has %s on %s\n", a, held, pattern)
		}
	}
	for name, d := range p.catalogue.Databases {
		fmt.Fprintf(&text, "%s %v %v\n", name, d, listed(p.catalogue.Contents[name].Everything()))
	}
	fmt.Fprintln(&text, p.keys)
	for _, folder := range []string{r.app.Folder, r.State.Path(), filepath.Dir(r.Estate.Path)} {
		require.NoError(t, filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if slices.Contains([]string{"journal", "copies", "locks", "exports"}, entry.Name()) && entry.IsDir() {
				return fs.SkipDir
			}
			info, err := entry.Info()
			if err != nil || entry.IsDir() && folder != r.app.Folder {
				return err
			}
			content, _ := os.ReadFile(path)
			fmt.Fprintf(&text, "%s %s %s\n", path, info.Mode(), content)
			return nil
		}))
	}
	lines := strings.Split(text.String(), "\n")
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// marker is a password that no journal may hold.
const marker = "marked-4471-comb"

// everyKind gives, for each kind that can be undone, a change on the app hives.
func everyKind(t *testing.T, r *run, p *pretended) map[string]func() {
	a := dbms.Account{User: "hives_app", Host: "localhost"}
	file := r.app.InFolder("db.php")
	private := atomicfile.Attributes{UID: os.Geteuid(), GID: os.Getegid(), Mode: 0o640}
	structure, rows := p.Resolve([]string{"structure"}, dbms.Contents{}), p.Resolve([]string{"rows"}, dbms.Contents{})
	was := p.Verifier(a, secret.NewPassword(known), "")
	change := func(e *effect.Effect, material any) { r.plan.change(Row{Step: "step"}, e, material) }
	import_ := func(kind string) {
		one := &importing{run: func(_ *run, _ context.Context, d *effect.Doing[importState], _ *importing) (string, error) {
			d.Touched = true
			p.catalogue.Contents["hives"] = dbms.Contents{Tables: []dbms.Table{{Name: "comb"}, {Name: "frame"}}}
			return "", r.State.SetNote(unfinishedImports, r.unfinishedName(&r.app.Database), unfinished{})
		}}
		change(sqlImported.Of(kind, importState{Database: "hives", Holds: []dbms.Object{{Kind: "TABLE", Name: "frame"}}},
			importState{Database: "hives", Makes: []dbms.Object{{Kind: "TABLE", Name: "comb"}}}), one)
	}
	newSettings := []byte("<?php $p = '" + marker + "';")
	return map[string]func(){
		databaseMade.Name: func() {
			p.DropDatabase("hives")
			delete(p.catalogue.Databases, "hives")
			r.planMaking(dbms.Database{Name: "hives", Charset: "utf8mb4"}, "", p.CreateDatabase(dbms.Database{Name: "hives", Charset: "utf8mb4"}))
		},
		accountMade.Name: func() {
			delete(p.catalogue.Accounts, a)
			delete(p.catalogue.Granted, a)
			change(accountMade.Of(a.String(), accountState{}, accountState{Exists: true, Pending: true}), &credential{password: secret.NewPassword(marker)})
			r.app.Accounts[0].Password = nil
		},
		accountLock.Name: func() { r.planLock(a, true, "") },
		accountLimits.Name: func() {
			change(accountLimits.Of(a.String(), limitsState{}, limitsState{dbms.AccountOptions{MaxConnections: 7}}), nil)
		},
		passwordSet.Name: func() {
			change(passwordSet.Of(a.String(), passwordState{}, passwordState{Noted: true}), &passwordChange{old: oldPassword{verifier: was},
				note: func() error { return r.State.SetPending(r.rotating(a.User), secret.NewPassword(marker)) },
				set: func(ctx context.Context, touched *bool) (string, error) {
					return "", r.send(ctx, touched, p.SetVerifier(a, p.Verifier(a, secret.NewPassword(marker), ""))...)
				}})
		},
		passwordNoted.Name: func() {
			change(passwordNoted.Of("hives_app", notedPasswords{}, notedPasswords{[]string{"hives_app"}}), []secret.Password{secret.NewPassword(marker)})
		},
		secondRole.Name: func() {
			b := dbms.Account{User: "hives_app_meanwhile"}
			d := &replacement{account: r.app.Accounts[0], standIn: &standIn{Account: b, password: secret.NewPassword(marker), held: map[string]dbms.Privileges{"hives": rows}}}
			change(secondRole.Of(b.User, secondRoleState{}, secondRoleState{Exists: true, Held: d.standIn.held}), &standingIn{of: d})
		},
		rightsSet.Name: func() {
			p.catalogue.Granted[a].Databases["hive_"] = dbms.NewPrivileges("SELECT")
			r.view.catalogue = p.catalogue
			grants := p.catalogue.Grants(a)
			statements, lowers := p.ChangeRights(a, "hives", grants, rows)
			r.planRightsChange(Row{}, rightsState{Account: a, Database: "hives", Held: structure, Leaking: map[string]dbms.Privileges{"hive_": dbms.NewPrivileges("SELECT")}}, rows, statements, lowers)
		},
		sqlImported.Name: func() {
			p.catalogue.Contents["hives"] = dbms.Contents{Tables: []dbms.Table{{Name: "frame"}}}
			r.plan.contents["hives"] = p.catalogue.Contents["hives"]
			import_("hives.sql")
		},
		serverVariables.Name: func() {
			change(serverVariables.Of("barn", variablesState{}, variablesState{}), nil)
		},
		tableConverted.Name: func() {
			turn := func(to string) []dbms.Statement {
				return p.doing(func() { p.catalogue.Databases["hives"] = dbms.Database{Name: "hives", Charset: to} }, dbms.Statement{Text: "ALTER " + to})
			}
			p.catalogue.Databases["hives"] = dbms.Database{Name: "hives", Charset: "latin1"}
			change(tableConverted.Of("hives", writeStatements(turn("latin1")), writeStatements(turn("utf8mb4"))), nil)
		},
		foreignKey.Name: func() {
			k := dbms.ForeignKey{Table: "comb", Name: "of", Drop: dbms.Statement{Text: "DROP"}, Add: dbms.Statement{Text: "ADD"}}
			p.doing(func() { p.keys = nil }, k.Drop)
			p.doing(func() { p.keys = []dbms.ForeignKey{k} }, k.Add)
			p.keys = []dbms.ForeignKey{k}
			change(foreignKey.Of("of", foreignKeyState{"hives", k, true}, foreignKeyState{"hives", k, false}), nil)
		},
		settingsWritten.Name: func() {
			r.planPublishing(Row{Step: stepSettings}, r.plan.settings.add(&publishedFile{of: r, path: file, content: newSettings, read: []byte("<?php $p = 'old';"), attributes: private}))
			// Of two files, so that the first of them is not what makes the run final.
			r.plan.settings.add(&publishedFile{of: r, path: r.app.InFolder("setup/second.php"), attributes: private})
		},
		filesPrepared.Name: func() {
			r.plan.settings.add(&publishedFile{of: r, path: file, content: newSettings, read: []byte("<?php $p = 'old';"), attributes: private})
			change(filesPrepared.Of("hives", struct{}{}, struct{}{}), r.plan.settings)
		},
		settingsRetired.Name: func() {
			f := retiredFile{file, []byte("<?php $p = 'old';"), private}
			require.NoError(t, r.State.SetNote(retiredApps, r.noteName(), retiredApp{Files: []retiredFile{f}}))
			r.planRetiredFile(Row{Step: stepSettings}, f, true)
		},
		retirementNoted.Name: func() {
			after := retiredApp{Locked: []dbms.Account{a}, Files: []retiredFile{{Path: file, Content: newSettings}}}
			change(retirementNoted.Of("hives", retirementState{}, after.state()), after)
		},
		attributesSet.Name: func() {
			more := private
			more.Mode = 0o600
			change(attributesSet.Of(file, private, more), nil)
		},
		folderMade.Name: func() {
			deep, above := r.app.InFolder("cache/deep"), r.app.InFolder("cache")
			change(folderMade.Of(deep, folderState{}, folderState{[]string{deep, above}, &private}), nil)
		},
		treeGiven.Name: func() {
			want := func(e host.Entry) atomicfile.Attributes {
				has := atomicfile.AttributesFrom(e.Info)
				has.Mode |= 0o020
				return has
			}
			change(treeGiven.Of(r.app.InFolder("setup"), treeState{}, treeState{}), &givenTree{want, &step{}})
		},
		dropInWritten.Name: func() {
			change(dropInWritten.Of(filepath.Join(r.app.Folder, "90-php.ini"), contentState{}, contentOf([]byte("memory_limit = 1G\n"))), nil)
		},
		installerMoved.Name: func() { r.planRemoval("setup/", r.app.InFolder("setup")) },
		noteSet.Name: func() {
			_, err := r.planNote(Row{Step: stepState}, openApps, r.noteName(), "until then", openUntil{App: "hives"})
			require.NoError(t, err)
		},
		entryChanged.Name: func() {
			before, err := os.ReadFile(r.Estate.Path)
			if err != nil {
				before = []byte("apps: {}\n")
				require.NoError(t, os.WriteFile(r.Estate.Path, before, 0o644))
			}
			r.planEstate(r.Estate, &estate.Change{Path: r.Estate.Path, Before: before, After: []byte("apps: {hives: {retired: 2026-01-01}}\n")}, Row{Step: stepState})
		},
		moveNoted.Name: func() { change(moveNoted.Of("hives", MoveRecord{}, MoveRecord{App: "hives"}), nil) },
		databaseEmptied.Name: func() {
			p.catalogue.Contents["hives"] = dbms.Contents{Tables: []dbms.Table{{Name: "comb"}}}
			change(databaseEmptied.Of("hives", emptiedState{Export: "none"}, emptiedState{}), map[dbms.Object]bool{})
		},
	}
}

// cannotBePretended are kinds that take a real server, each with the test that has one.
var cannotBePretended = map[string]string{
	hostRule.Name:        "host_rules_written",
	appFrozen.Name:       "TestMoveKilled",
	databaseEmptied.Name: "an_import_in_the_place_of_what_is_there",
	serverVariables.Name: "server_during_import",
	exportWritten.Name:   "exported_and_imported_again", // which stands by itself
}

// TestEveryKindUndoesAlike has one change of each kind taken back within its run, after a kill,
// and from the history: what is there then is what was there before.
func TestEveryKindUndoesAlike(t *testing.T) {
	assert.Empty(t, kinds.Undefined(), "each kind says what it means")
	assert.Empty(t, mendingKinds.Undefined())
	for _, name := range kinds.Names() {
		if !kinds.IsUndoable(name) {
			continue
		}
		if _, other := cannotBePretended[name]; other {
			continue
		}
		for _, when := range []string{"within the run", "before it was done", "after a kill", "from the history"} {
			if name == filesPrepared.Name && when != "within the run" {
				continue // what a dead process has left beside files is swept; this one lives
			}
			t.Run(name+" "+when, func(t *testing.T) {
				product := dbms.MariaDB
				if name == secondRole.Name {
					product = dbms.PostgreSQL
				}
				e, p := barn(t, product)
				p.stands(t, e, "structure")
				r := aRun(t, e)
				make := everyKind(t, r, p)[name]
				require.NotNil(t, make, "an undo that nobody has tried")
				make()
				before := r.world(t, p)
				undoes(t, r, p, when)
				assert.Equal(t, before, r.world(t, p))
				journals, err := filepath.Glob(filepath.Join(r.State.Path(), "journal", "*"))
				require.NoError(t, err)
				for _, path := range journals {
					content, err := os.ReadFile(path)
					require.NoError(t, err)
					assert.NotContains(t, string(content), marker)
				}
			})
		}
	}
}

// undoes has the plan of a run done and taken back.
func undoes(t *testing.T, r *run, p *pretended, when string) {
	first := r.world(t, p)
	if when == "within the run" {
		r.plan.prove(stepLogin, "what fails", func(context.Context) error { return errors.New("broke") })
		require.Error(t, r.execute(t.Context()))
		assert.False(t, r.result.Stuck, "%v", r.result.Rows)
		return
	}
	var err error
	r.journal, err = r.State.Begin(state.Entry{Command: "provision", App: "hives", Detail: r.Estate.Path})
	require.NoError(t, err)
	s := r.plan.steps[len(r.plan.steps)-1]
	if when == "before it was done" { // all that is there is what the journal has of the intent
		require.NoError(t, r.journal.Record(state.Entry{Event: state.Intended, Step: s.Row.Step, Object: s.object(), Number: 1, Effect: s.action.Effect}))
	} else {
		machine := effect.Plan[*run]{Kinds: &kinds, Steps: []*effect.Step{&s.action}}
		_, err = machine.Run(t.Context(), r, r.journal, r)
		require.NoError(t, err)
		assert.NotEqual(t, first, r.world(t, p), "it changes something")
		r.plan.settings.discard() // as a sweep does behind a process that is dead
	}
	again := aRun(t, &Engine{Base: *r.Base})
	entries := journalOf(t, r)
	left := effect.LeftOf(effect.Converted(entries))
	ended := when == "from the history"
	errs := again.planUndo(t.Context(), left, ended)
	if why, _ := kinds.Kept(again, *s.action.Effect); ended && why != "" {
		require.ErrorContains(t, errors.Join(errs...), why)
		errs = again.planUndo(t.Context(), left, false) // it is only refused
	}
	require.NoError(t, errors.Join(errs...))
	require.NoError(t, again.execute(t.Context()))
}

// journalOf reads the run's journal as it is on the disk.
func journalOf(t *testing.T, r *run) (entries []state.Entry) {
	content, err := os.ReadFile(filepath.Join(r.State.Path(), "journal", r.journal.ID()+".jsonl"))
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(content)), "\n") {
		var e state.Entry
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		entries = append(entries, e)
	}
	return entries
}
