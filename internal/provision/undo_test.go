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
	"yellowfield/internal/content"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/host"
	"yellowfield/internal/lifecycle"
	"yellowfield/internal/mending"
	"yellowfield/internal/rotation"
	"yellowfield/internal/secret"
	"yellowfield/internal/state"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// aRun is the beginning of work on the app hives, in a folder with a settings file.
func aRun(t *testing.T, e *Engine) *work.Run {
	t.Helper()
	app := e.Estate.Apps["hives"]
	if app.Folder == "" {
		app.Folder = t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(app.Folder, "db.php"), []byte("<?php $p = 'old';"), 0o640))
		require.NoError(t, os.MkdirAll(filepath.Join(app.Folder, "setup", "steps"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(app.Folder, "setup", "steps", "one.php"), []byte("<?php"), 0o644))
		app.Settings = []*estate.Settings{{File: "db.php"}}
	}
	e.BeginWork([]*estate.App{app})
	r := &work.Run{Engine: &e.Engine, App: app, Options: work.Options{Command: "provision", Turn: &work.StateChange{}}}
	require.NoError(t, r.Look(t.Context()))
	r.Plan = r.EmptyPlan()
	t.Cleanup(func() { r.Folder.Close() })
	return r
}

// world is all that effects change, as text.
func world(r *work.Run, t *testing.T, p *pretended) string {
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
		fmt.Fprintf(&text, "%s %v %v\n", name, d, content.Listed(p.catalogue.Contents[name].Everything()))
	}
	fmt.Fprintln(&text, p.keys)
	for _, folder := range []string{r.App.Folder, r.State.Path(), filepath.Dir(r.Estate.Path)} {
		require.NoError(t, filepath.WalkDir(folder, func(path string, entry fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			if slices.Contains([]string{"journal", "copies", "locks", "exports"}, entry.Name()) && entry.IsDir() {
				return fs.SkipDir
			}
			info, err := entry.Info()
			if err != nil || entry.IsDir() && folder != r.App.Folder {
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
func everyKind(t *testing.T, r *work.Run, p *pretended) map[string]func() {
	a := dbms.Account{User: "hives_app", Host: "localhost"}
	file := r.App.InFolder("db.php")
	private := atomicfile.Attributes{UID: os.Geteuid(), GID: os.Getegid(), Mode: 0o640}
	structure, rows := p.Resolve([]string{"structure"}, dbms.Contents{}), p.Resolve([]string{"rows"}, dbms.Contents{})
	was := p.Verifier(a, secret.NewPassword(known), "")
	change := func(e *effect.Effect, material any) { r.Plan.Change(work.Row{Step: "step"}, e, material) }
	import_ := func(kind string) {
		one := &content.Importing{Run: func(_ *work.Run, _ context.Context, d *effect.Doing[content.ImportState], _ *content.Importing) (string, error) {
			d.Touched = true
			p.catalogue.Contents["hives"] = dbms.Contents{Tables: []dbms.Table{{Name: "comb"}, {Name: "frame"}}}
			return "", r.State.SetNote(content.UnfinishedImports, content.UnfinishedName(r, &r.App.Database), content.Unfinished{})
		}}
		change(content.SqlImported.Of(kind, content.ImportState{Database: "hives", Holds: []dbms.Object{{Kind: "TABLE", Name: "frame"}}},
			content.ImportState{Database: "hives", Makes: []dbms.Object{{Kind: "TABLE", Name: "comb"}}}), one)
	}
	newSettings := []byte("<?php $p = '" + marker + "';")
	return map[string]func(){
		steps.DatabaseMade.Name: func() {
			p.DropDatabase("hives")
			delete(p.catalogue.Databases, "hives")
			steps.PlanMaking(r, dbms.Database{Name: "hives", Charset: "utf8mb4"}, "", p.CreateDatabase(dbms.Database{Name: "hives", Charset: "utf8mb4"}))
		},
		steps.AccountMade.Name: func() {
			delete(p.catalogue.Accounts, a)
			delete(p.catalogue.Granted, a)
			change(steps.AccountMade.Of(a.String(), steps.AccountState{}, steps.AccountState{Exists: true, Pending: true}), &work.Credential{Password: secret.NewPassword(marker)})
			r.App.Accounts[0].Password = nil
		},
		steps.AccountLock.Name: func() { lifecycle.PlanLock(r, a, true, "") },
		steps.AccountLimits.Name: func() {
			change(steps.AccountLimits.Of(a.String(), steps.LimitsState{}, steps.LimitsState{Options: dbms.AccountOptions{MaxConnections: 7}}), nil)
		},
		steps.PasswordSet.Name: func() {
			change(steps.PasswordSet.Of(a.String(), steps.PasswordState{}, steps.PasswordState{Noted: true}), &steps.PasswordChange{Old: steps.OldPassword{Verifier: was},
				Note: func() error { return r.State.SetPending(r.Rotating(a.User), secret.NewPassword(marker)) },
				Set: func(ctx context.Context, touched *bool) (string, error) {
					return "", r.Send(ctx, touched, p.SetVerifier(a, p.Verifier(a, secret.NewPassword(marker), ""))...)
				}})
		},
		rotation.PasswordNoted.Name: func() {
			change(rotation.PasswordNoted.Of("hives_app", rotation.NotedPasswords{}, rotation.NotedPasswords{Users: []string{"hives_app"}}), []secret.Password{secret.NewPassword(marker)})
		},
		rotation.SecondRole.Name: func() {
			b := dbms.Account{User: "hives_app_meanwhile"}
			d := &rotation.Replacement{Account: r.App.Accounts[0], StandIn: &rotation.TemporaryRole{Account: b, Password: secret.NewPassword(marker), Held: map[string]dbms.Privileges{"hives": rows}}}
			change(rotation.SecondRole.Of(b.User, rotation.SecondRoleState{}, rotation.SecondRoleState{Exists: true, Held: d.StandIn.Held}), &rotation.StandingIn{Of: d})
		},
		steps.RightsSet.Name: func() {
			p.catalogue.Granted[a].Databases["hive_"] = dbms.NewPrivileges("SELECT")
			r.View.Catalogue = p.catalogue
			grants := p.catalogue.Grants(a)
			statements, lowers := p.ChangeRights(a, "hives", grants, rows)
			steps.PlanRightsChange(r, work.Row{}, steps.RightsState{Account: a, Database: "hives", Held: structure, Leaking: map[string]dbms.Privileges{"hive_": dbms.NewPrivileges("SELECT")}}, rows, statements, lowers)
		},
		content.SqlImported.Name: func() {
			p.catalogue.Contents["hives"] = dbms.Contents{Tables: []dbms.Table{{Name: "frame"}}}
			r.Plan.Contents["hives"] = p.catalogue.Contents["hives"]
			import_("hives.sql")
		},
		content.ServerVariables.Name: func() {
			change(content.ServerVariables.Of("barn", content.VariablesState{}, content.VariablesState{}), nil)
		},
		content.TableConverted.Name: func() {
			turn := func(to string) []dbms.Statement {
				return p.doing(func() { p.catalogue.Databases["hives"] = dbms.Database{Name: "hives", Charset: to} }, dbms.Statement{Text: "ALTER " + to})
			}
			p.catalogue.Databases["hives"] = dbms.Database{Name: "hives", Charset: "latin1"}
			change(content.TableConverted.Of("hives", work.WriteStatements(turn("latin1")), work.WriteStatements(turn("utf8mb4"))), nil)
		},
		content.ForeignKey.Name: func() {
			k := dbms.ForeignKey{Table: "comb", Name: "of", Drop: dbms.Statement{Text: "DROP"}, Add: dbms.Statement{Text: "ADD"}}
			p.doing(func() { p.keys = nil }, k.Drop)
			p.doing(func() { p.keys = []dbms.ForeignKey{k} }, k.Add)
			p.keys = []dbms.ForeignKey{k}
			change(content.ForeignKey.Of("of", content.ForeignKeyState{Database: "hives", Key: k, Exists: true}, content.ForeignKeyState{Database: "hives", Key: k}), nil)
		},
		steps.SettingsWritten.Name: func() {
			steps.PlanPublishing(r, work.Row{Step: work.StepSettings}, r.Plan.Settings.Add(&work.PublishedFile{Of: r, Path: file, Content: newSettings, Read: []byte("<?php $p = 'old';"), Attributes: private}))
			// Of two files, so that the first of them is not what makes the run final.
			r.Plan.Settings.Add(&work.PublishedFile{Of: r, Path: r.App.InFolder("setup/second.php"), Attributes: private})
		},
		steps.FilesPrepared.Name: func() {
			r.Plan.Settings.Add(&work.PublishedFile{Of: r, Path: file, Content: newSettings, Read: []byte("<?php $p = 'old';"), Attributes: private})
			change(steps.FilesPrepared.Of("hives", struct{}{}, struct{}{}), r.Plan.Settings)
		},
		lifecycle.SettingsRetired.Name: func() {
			f := lifecycle.RetiredFile{Path: file, Content: []byte("<?php $p = 'old';"), Of: private}
			require.NoError(t, r.State.SetNote(lifecycle.RetiredApps, r.NoteName(), lifecycle.RetiredApp{Files: []lifecycle.RetiredFile{f}}))
			lifecycle.PlanRetiredFile(r, work.Row{Step: work.StepSettings}, f, true)
		},
		lifecycle.RetirementNoted.Name: func() {
			after := lifecycle.RetiredApp{Locked: []dbms.Account{a}, Files: []lifecycle.RetiredFile{{Path: file, Content: newSettings}}}
			change(lifecycle.RetirementNoted.Of("hives", lifecycle.RetirementState{}, after.State()), after)
		},
		steps.AttributesSet.Name: func() {
			more := private
			more.Mode = 0o600
			change(steps.AttributesSet.Of(file, private, more), nil)
		},
		steps.FolderMade.Name: func() {
			deep, above := r.App.InFolder("cache/deep"), r.App.InFolder("cache")
			change(steps.FolderMade.Of(deep, steps.FolderState{}, steps.FolderState{Made: []string{deep, above}, Of: &private}), nil)
		},
		steps.TreeGiven.Name: func() {
			want := func(e host.Entry) atomicfile.Attributes {
				has := atomicfile.AttributesFrom(e.Info)
				has.Mode |= 0o020
				return has
			}
			change(steps.TreeGiven.Of(r.App.InFolder("setup"), steps.TreeState{}, steps.TreeState{}), &steps.GivenTree{Want: want, Step: &work.Step{}})
		},
		steps.DropInWritten.Name: func() {
			change(steps.DropInWritten.Of(filepath.Join(r.App.Folder, "90-php.ini"), steps.ContentState{}, steps.ContentOf([]byte("memory_limit = 1G\n"))), nil)
		},
		steps.InstallerMoved.Name: func() { steps.PlanRemoval(r, "setup/", r.App.InFolder("setup")) },
		work.NoteSet.Name: func() {
			_, err := r.PlanNote(work.Row{Step: work.StepState}, steps.OpenApps, r.NoteName(), "until then", steps.OpenNote{App: "hives"})
			require.NoError(t, err)
		},
		lifecycle.EntryChanged.Name: func() {
			edit, err := r.Estate.Retire("hives", "2026-01-01")
			require.NoError(t, err)
			lifecycle.PlanEntry(r, r.Estate, edit, work.Row{Step: work.StepState})
		},
		lifecycle.MoveNoted.Name: func() { change(lifecycle.MoveNoted.Of("hives", work.MoveRecord{}, work.MoveRecord{App: "hives"}), nil) },
		lifecycle.MoveMarked.Name: func() {
			change(lifecycle.MoveMarked.Of(r.MarkOfMove().String(), struct{}{}, struct{}{}), nil)
		},
		content.DatabaseEmptied.Name: func() {
			p.catalogue.Contents["hives"] = dbms.Contents{Tables: []dbms.Table{{Name: "comb"}}}
			change(content.DatabaseEmptied.Of("hives", content.EmptiedState{Export: "none"}, content.EmptiedState{}), map[dbms.Object]bool{})
		},
	}
}

// cannotBePretended are kinds that take a real server, each with the test that has one.
var cannotBePretended = map[string]string{
	steps.HostRule.Name:          "host_rules_written",
	lifecycle.AppFrozen.Name:     "TestMoveKilled",
	content.EmptyingOver.Name:    "TestKilled",
	content.DatabaseEmptied.Name: "an_import_in_the_place_of_what_is_there",
	content.ServerVariables.Name: "server_during_import",
	content.ExportWritten.Name:   "exported_and_imported_again", // which stands by itself
}

// TestEveryKindUndoesAlike has one change of each kind taken back within its run, after a kill,
// and from the history: what is there then is what was there before.
func TestEveryKindUndoesAlike(t *testing.T) {
	assert.Empty(t, work.Kinds.Undefined(), "each kind says what it means")
	assert.Empty(t, mending.MendingKinds.Undefined())
	for _, name := range work.Kinds.Names() {
		if !work.Kinds.IsUndoable(name) {
			continue
		}
		if _, other := cannotBePretended[name]; other {
			continue
		}
		for _, when := range []string{"within the run", "before it was done", "after a kill", "from the history"} {
			if name == steps.FilesPrepared.Name && when != "within the run" {
				continue // what a dead process has left beside files is swept; this one lives
			}
			t.Run(name+" "+when, func(t *testing.T) {
				product := dbms.MariaDB
				if name == rotation.SecondRole.Name {
					product = dbms.PostgreSQL
				}
				e, p := barn(t, product)
				p.stands(t, e, "structure")
				r := aRun(t, e)
				make := everyKind(t, r, p)[name]
				require.NotNil(t, make, "an undo that nobody has tried")
				make()
				before := world(r, t, p)
				undoes(t, r, p, when)
				assert.Equal(t, before, world(r, t, p))
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
func undoes(t *testing.T, r *work.Run, p *pretended, when string) {
	first := world(r, t, p)
	if when == "within the run" {
		r.Plan.Prove(work.StepLogin, "what fails", func(context.Context) error { return errors.New("broke") })
		require.Error(t, r.Execute(t.Context()))
		assert.False(t, r.Result.UndoIncomplete, "%v", r.Result.Rows)
		return
	}
	var err error
	r.Journal, err = r.State.Begin(state.Entry{Command: "provision", App: "hives", Detail: r.Estate.Path})
	require.NoError(t, err)
	s := r.Plan.Steps[len(r.Plan.Steps)-1]
	if when == "before it was done" { // all that is there is what the journal has of the intent
		require.NoError(t, r.Journal.Record(state.Entry{Event: state.Intended, Step: s.Row.Step, Object: s.Object(), Number: 1, Effect: s.Action.Effect}))
	} else {
		machine := effect.Plan[*work.Run]{Kinds: &work.Kinds, Steps: []*effect.Step{&s.Action}}
		_, err = machine.Run(t.Context(), r, r.Journal, r)
		require.NoError(t, err)
		assert.NotEqual(t, first, world(r, t, p), "it changes something")
		r.Plan.Settings.Discard() // as a sweep does after a process that is dead
	}
	again := aRun(t, &Engine{Engine: *r.Engine})
	entries := journalOf(t, r)
	left := effect.LeftOf(effect.Converted(entries))
	ended := when == "from the history"
	errs := again.PlanUndo(t.Context(), left, ended)
	if why, _ := work.Kinds.Kept(again, *s.Action.Effect); ended && why != "" {
		require.ErrorContains(t, errors.Join(errs...), why)
		errs = again.PlanUndo(t.Context(), left, false) // it is only refused
	}
	require.NoError(t, errors.Join(errs...))
	require.NoError(t, again.Execute(t.Context()))
}

// journalOf reads the run's journal as it is on the disk.
func journalOf(t *testing.T, r *work.Run) (entries []state.Entry) {
	content, err := os.ReadFile(filepath.Join(r.State.Path(), "journal", r.Journal.ID()+".jsonl"))
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(content)), "\n") {
		var e state.Entry
		require.NoError(t, json.Unmarshal([]byte(line), &e))
		entries = append(entries, e)
	}
	return entries
}
