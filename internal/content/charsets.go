package content

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/export"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/state"
	"yellowfield/internal/work"
)

// conversions are those of tables whose character set neither the application's own script nor
// the estate file wants.
func conversions(r *work.Run, ctx context.Context, converter dbms.ConvertsCharsets, database *estate.Database, accepted bool) (found dbms.Conversions, err error) {
	charset, collation := r.View.Catalogue.OwnNames(database.Charset, database.Collation)
	if found, err = converter.Conversions(ctx, database.Name, charset, collation); err != nil {
		return found, err
	}
	found.Tables = slices.DeleteFunc(found.Tables, func(c dbms.Conversion) bool {
		return r.Plan.Charsets[c.Table] || !accepted && r.App.Accepts(estate.FindingTableCollation, c.Table) != ""
	})
	found.Keys = slices.DeleteFunc(found.Keys, func(k dbms.ForeignKey) bool {
		return !slices.ContainsFunc(found.Tables, func(c dbms.Conversion) bool { return c.Table == k.Table || c.Table == k.References })
	})
	return found, nil
}

// LookAtCharsets names the tables whose character set is not the one of the estate file,
// with what converting them would meet, by column and count, and the statements in their
// order. It looks with the application's own login, since it reads rows.
func LookAtCharsets(r *work.Run, ctx context.Context, server dbms.Server, database *estate.Database) error {
	converter, is := server.(dbms.ConvertsCharsets)
	if !is {
		return nil
	}
	charset, collation := r.View.Catalogue.OwnNames(database.Charset, database.Collation)
	found, err := conversions(r, ctx, converter, database, true)
	if err != nil {
		return err
	}
	var statements []dbms.Statement
	for _, c := range found.Tables {
		statements = append(statements, c.Statement)
		r.Tell(work.Row{Step: work.StepDatabase, Outcome: work.Differs, Severity: estate.ShouldLook, Finding: estate.FindingTableCollation, On: c.Table,
			Facts: fmt.Sprintf("%s has another character set than its database is to have: %s, not %s", c.Table, c.From, collation)})
		for _, t := range c.Troubles {
			r.Tell(work.Row{Step: work.StepDatabase, Outcome: work.Note, Facts: c.Table + "." + t.Where + ": " + troubleOf(t, charset), Remedy: wayOutOf(t.Kind)})
		}
	}
	if len(statements) == 0 {
		return nil
	}
	r.Tell(work.Row{Step: work.StepDatabase, Outcome: work.Note, Facts: "what would convert " + figures.Counted(len(statements), "table", "tables"),
		Remedy: "when the notes above are dealt with: yellowfield provision " + r.App.Name + " --fix charset, or by hand in this order",
		SQL:    work.Texts(slices.Concat(drops(found.Keys), []dbms.Statement{found.Database}, statements, adds(found.Keys)))})
	return nil
}

func drops(keys []dbms.ForeignKey) (all []dbms.Statement) {
	for _, k := range keys {
		all = append(all, k.Drop)
	}
	return all
}

func adds(keys []dbms.ForeignKey) (all []dbms.Statement) {
	for _, k := range keys {
		all = append(all, k.Add)
	}
	return all
}

// droppedKeys are the notes of foreign keys that a conversion has dropped and is to add again:
// the next run that finds one finishes it.
const droppedKeys = "dropped-foreign-keys"

// lostKeys are those of a note that are not there.
func lostKeys(r *work.Run, ctx context.Context, converter dbms.ConvertsCharsets, d *estate.Database) (lost []dbms.ForeignKey, err error) {
	var noted []dbms.ForeignKey
	if found, err := r.State.Note(droppedKeys, r.DatabaseNote(d.Name), &noted); err != nil || !found {
		return nil, err
	}
	there, err := converter.ForeignKeys(ctx, d.Name)
	for _, k := range noted {
		if !slices.ContainsFunc(there, func(other dbms.ForeignKey) bool { return other.Table == k.Table && other.Name == k.Name }) {
			lost = append(lost, k)
		}
	}
	return lost, err
}

// PlanCharsets has tables converted to the character set of the estate file, where nothing
// stands against that. Rows are read with the application's own login.
func PlanCharsets(r *work.Run, ctx context.Context) error {
	if !r.View.AsAdmin() {
		return nil
	}
	c := r.Plan.Credentials[r.App.Accounts[0]]
	if c == nil || !c.Knows() || r.Plan.LoginBlocked != "" {
		return nil // the account's row says why
	}
	for _, d := range r.App.DatabasesOf(r.App.Accounts[0]) {
		var noted []dbms.ForeignKey
		cutOff, err := r.State.Note(droppedKeys, r.DatabaseNote(d.Name), &noted)
		switch {
		case err != nil:
			return err
		case !r.Exists(d.Name), !cutOff && !r.Options.Fixes(work.FixCharset):
			continue
		case (r.Options.DryRun || r.Options.Turn != nil) && !r.Options.Fixes(work.FixCharset):
			r.Plan.Differs(work.StepDatabase, estate.MustFix, "yellowfield provision "+r.App.Name, "a conversion of "+d.Name+" was cut off: "+figures.Counted(len(noted), "foreign key", "foreign keys")+" may be missing")
			continue
		}
		login, err := asApplication(r, ctx, d)
		if err != nil {
			return err
		}
		err = planConversions(r, ctx, login, d)
		login.Close()
		if err != nil {
			return err
		}
	}
	return nil
}

func planConversions(r *work.Run, ctx context.Context, login dbms.Server, d *estate.Database) error {
	converter, is := login.(dbms.ConvertsCharsets)
	if !is {
		return r.Estate.Fault(fault.Invalid, r.Path(d.Path()), "make another database, and move the data", "on %s a database keeps its encoding", r.View.Entry.DBMS.Title())
	}
	charset, collation := r.View.Catalogue.OwnNames(d.Charset, d.Collation)
	found, err := conversions(r, ctx, converter, d, false)
	if err != nil {
		return err
	}
	var errs []error
	for _, table := range found.Tables {
		for _, t := range table.Troubles {
			errs = append(errs, fault.New(fault.Protected, wayOutOf(t.Kind), "%s.%s: %s", table.Table, t.Where, troubleOf(t, charset)))
		}
	}
	lost, err := lostKeys(r, ctx, converter, d)
	if err != nil {
		return err
	}
	keys := append(lost, found.Keys...)
	if err := errors.Join(errs...); err != nil || len(found.Tables)+len(lost) == 0 && r.View.Catalogue.Databases[d.Name].Charset == charset {
		return err
	}
	if len(found.Tables) > 0 {
		path, err := ExportPath(r, state.Automatic+"conversion-of-", d)
		if err != nil {
			return err
		}
		tables := func(name string) bool {
			return slices.ContainsFunc(found.Tables, func(c dbms.Conversion) bool { return c.Table == name })
		}
		if _, err := PlanExport(r, ctx, d, Exporting{Step: work.StepDatabase, Path: path, Automatic: true, Options: export.Options{Keep: tables}}); err != nil {
			return err
		}
	}
	send := func(facts, on string, to, back dbms.Statement, check work.Proof) {
		r.Plan.Change(work.Row{Step: work.StepDatabase, Outcome: work.Fixed, Facts: facts, SQL: work.Texts([]dbms.Statement{to})},
			TableConverted.Of(on, work.WriteStatements([]dbms.Statement{back}), work.WriteStatements([]dbms.Statement{to})), check)
	}
	key := func(k dbms.ForeignKey, exists bool) {
		r.Plan.Change(work.Row{Step: work.StepDatabase}, ForeignKey.Of(k.Name+" of "+k.Table, ForeignKeyState{d.Name, k, !exists}, ForeignKeyState{d.Name, k, exists}), nil).Silent = true
	}
	if len(keys) > 0 {
		if _, err := r.PlanNote(work.Row{Step: work.StepDatabase}, droppedKeys, r.DatabaseNote(d.Name), "note of foreign keys in "+d.Name, keys); err != nil {
			return err
		}
	}
	for _, k := range found.Keys {
		key(k, false)
	}
	if len(found.Tables) > 0 || r.View.Catalogue.Databases[d.Name].Charset != charset {
		send(d.Name+", "+charset+" "+collation+" for tables made later", d.Name, found.Database, found.DatabaseBack, nil)
	}
	for _, table := range found.Tables {
		sum, err := converter.TextSum(ctx, d.Name, table.Table)
		if err != nil {
			return err
		}
		send(table.Table+", "+charset+" "+collation+"; before: "+table.From, d.Name+"."+table.Table, table.Statement, table.Back, func(ctx context.Context) (string, error) {
			return "", sameText(r, ctx, d, table.Table, sum)
		})
	}
	for _, k := range keys {
		key(k, true)
	}
	if len(keys) > 0 {
		r.Plan.Prove(work.StepDatabase, "end of the note of foreign keys in "+d.Name, func(context.Context) error {
			return r.State.DropNote(droppedKeys, r.DatabaseNote(d.Name))
		})
	}
	return nil
}

// ForeignKeyState is a foreign key as an effect has it.
type ForeignKeyState struct {
	Database string          `json:"database"`
	Key      dbms.ForeignKey `json:"key"`
	Exists   bool            `json:"exists"`
}

// Kinds of change, see init.
var (
	TableConverted = effect.Define[*work.Run, []work.SentStatement](&work.Kinds, "character-set")
	ForeignKey     = effect.Define[*work.Run, ForeignKeyState](&work.Kinds, "foreign-key")
)

func init() {
	converted := func(*work.Run) (why, next string) {
		return "the run has converted tables to another character set", "convert them back by hand, if nothing was stored since that the other one lacks"
	}
	TableConverted.Means(effect.Spec[*work.Run, []work.SentStatement]{
		Object: func(c effect.Change[[]work.SentStatement]) string { return "character set of " + c.Subject },
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[[]work.SentStatement]) (string, error) {
			if err := r.Send(ctx, &d.Touched, work.ReadStatements(d.After)...); err != nil {
				return "", err
			}
			if check, is := d.Material.(work.Proof); is && check != nil {
				return check(ctx)
			}
			return "", nil
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[[]work.SentStatement]) error {
			return r.View.Server.Exec(ctx, work.ReadStatements(c.Before)...)
		},
		Kept: func(r *work.Run, _ effect.Change[[]work.SentStatement]) (why, next string) { return converted(r) },
	})
	ForeignKey.Means(effect.Spec[*work.Run, ForeignKeyState]{
		Object: func(c effect.Change[ForeignKeyState]) string {
			if c.After.Exists {
				return "foreign key " + c.Subject + ", again"
			}
			return "foreign key " + c.Subject
		},
		Do: func(r *work.Run, ctx context.Context, d *effect.Doing[ForeignKeyState]) (string, error) {
			return "", r.Send(ctx, &d.Touched, d.After.statement())
		},
		Undo: func(r *work.Run, ctx context.Context, c effect.Change[ForeignKeyState]) error {
			there, err := r.View.Server.(dbms.ConvertsCharsets).HasForeignKey(ctx, c.Before.Database, c.Before.Key.Table, c.Before.Key.Name)
			if err != nil || c.Before.Exists == there {
				return err
			}
			return r.View.Server.Exec(ctx, c.Before.statement())
		},
		Kept: func(r *work.Run, _ effect.Change[ForeignKeyState]) (why, next string) { return converted(r) },
	})
}

// statement makes it so.
func (s ForeignKeyState) statement() dbms.Statement {
	if s.Exists {
		return s.Key.Add
	}
	return s.Key.Drop
}

// asApplication logs in as the app's first account.
func asApplication(r *work.Run, ctx context.Context, d *estate.Database) (dbms.Server, error) {
	account := r.App.Accounts[0]
	return r.OpenAs(ctx, account, r.Plan.Credentials[account].Password, d.Name)
}

// sameText makes sure that a conversion has changed no text.
func sameText(r *work.Run, ctx context.Context, d *estate.Database, table, before string) error {
	login, err := asApplication(r, ctx, d)
	if err != nil {
		return err
	}
	defer login.Close()
	now, err := login.(dbms.ConvertsCharsets).TextSum(ctx, d.Name, table)
	if err == nil && now != before {
		err = fault.New(fault.Failed, "was the application at work? Close its site for that long, and run the command again", "server %s: the text in %s.%s is another than before it was converted", r.App.Server, d.Name, table)
	}
	return err
}

func troubleOf(t dbms.Trouble, charset string) string {
	values := figures.Counted(int(t.Count), "value", "values")
	if t.NotCounted {
		values = "an unknown number of values (counting took too long)"
	}
	switch t.Kind {
	case dbms.HoldsUTF8:
		return values + " with UTF-8 in a column that says latin1: converting would encode that twice"
	case dbms.EncodedTwice:
		return values + " encoded twice, as it looks"
	case dbms.DoesNotFit:
		return values + " with characters that " + charset + " does not have: they would be lost"
	case dbms.KeyTooLong:
		return fmt.Sprintf("the key grows to %s bytes, which is too long", figures.Thousands(t.Count))
	case dbms.OwnCollation:
		return "the column has a collation of its own, which converting its table would take"
	default:
		return values + " of a unique key would stand there twice by the wanted collation"
	}
}

// wayOutOf says what to do about a trouble.
func wayOutOf(kind dbms.TroubleKind) string {
	return map[dbms.TroubleKind]string{
		dbms.HoldsUTF8:    "give the column its binary type first (VARBINARY, BLOB), and then its own with the wanted character set: the bytes stay",
		dbms.EncodedTwice: "look at some of them: CONVERT(CAST(CONVERT(column USING latin1) AS BINARY) USING utf8mb4) is what they were meant to be",
		dbms.DoesNotFit:   "write a character set that has them into the estate file: utf8mb4",
		dbms.OwnCollation: "convert the table's other columns one by one (MODIFY), and its default",
		dbms.KeyTooLong:   "ROW_FORMAT=DYNAMIC allows 3,072 bytes; else shorten the column or index its beginning alone",
		dbms.Collides:     "look at them, and rename or remove all but one; or write a collation into the estate file by which they differ",
	}[kind]
}
