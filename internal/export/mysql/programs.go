package mysql

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/fault"
	"yellowfield/internal/sqltext"
)

// programs writes what works on the tables: routines, which views may call; views, each after
// those that it reads; triggers and events.
func (w *work) programs(ctx context.Context, session Session) error {
	for _, o := range w.routines {
		if err := w.routine(ctx, session, o); err != nil {
			return err
		}
	}
	if len(w.routines) > 0 {
		if err := w.Say("\n" + head); err != nil {
			return err
		}
	}
	for _, name := range w.inOrder(w.views) {
		w.sum("VIEW", name, w.views[name])
		if err := w.Say("\n" + w.views[name] + ";\n"); err != nil {
			return err
		}
	}
	for _, name := range w.triggers {
		shown, err := one(session.Query(ctx, "SHOW CREATE TRIGGER "+mysql.QuoteName(name)))
		if err != nil {
			return err
		}
		// Trigger, sql_mode, statement, character_set_client, collation_connection
		if err := w.program(dbms.Object{Kind: "TRIGGER", Name: name}, w.localTrigger(shown[2], shown[1]), shown[1], "collation_connection = "+shown[4]); err != nil {
			return err
		}
	}
	for _, name := range w.events {
		shown, err := one(session.Query(ctx, "SHOW CREATE EVENT "+mysql.QuoteName(name)))
		if err != nil {
			return err
		}
		// Event, sql_mode, time_zone, statement, character_set_client, collation_connection
		statement := shown[3]
		if w.EventsDisabled {
			statement = sqltext.DisabledEvent(statement, w.dialect().WithMode(shown[1]))
		}
		if err := w.program(dbms.Object{Kind: "EVENT", Name: name}, statement, shown[1], "time_zone = "+mysql.QuoteText(shown[2])+", collation_connection = "+shown[5]); err != nil {
			return err
		}
	}
	return nil
}

func (w *work) routine(ctx context.Context, session Session, o dbms.Object) error {
	shown, err := one(session.Query(ctx, "SHOW CREATE "+o.Kind+" "+mysql.QuoteName(o.Name)))
	if err == nil && hasNoBody(shown) {
		if w.Routine == nil {
			return fault.New(fault.Failed, "let its definer export it, or an administrator give the account SHOW_ROUTINE (MySQL) or SELECT on mysql.proc (MariaDB)", "the account may not see what is in %s", o)
		}
		shown, err = w.Routine(ctx, o.Kind, o.Name)
	}
	if err != nil {
		return err
	}
	// Name, sql_mode, statement, character_set_client, collation_connection
	return w.program(o, shown[2], shown[1], "collation_connection = "+shown[4])
}

// program writes one with the settings that the server keeps with it. The delimiter is
// one that its text does not hold.
func (w *work) program(o dbms.Object, statement, mode, settings string) error {
	statement, err := w.anonymous(statement, mode)
	if err != nil {
		return err
	}
	settings = "sql_mode = " + mysql.QuoteText(mode) + ", " + settings
	whole := statement
	if o.Kind == "EVENT" { // that it does not run is no other event
		whole = sqltext.DisabledEvent(statement, w.dialect().WithMode(mode))
	}
	w.sum(o.Kind, o.Name, whole+settings)
	delimiter := ";;"
	for i := 1; strings.Contains(statement, delimiter); i++ {
		delimiter = fmt.Sprintf("$%d$", i)
	}
	return w.Say("\nSET SESSION " + settings + ";\nDELIMITER " + delimiter + "\n" + statement + delimiter + "\nDELIMITER ;\n")
}

// definer is the clause as the servers write it; a role has no host. With the sql_mode
// ANSI_QUOTES of a routine names stand in double quotes.
var definer = regexp.MustCompile("^(CREATE (?:OR REPLACE )?(?:ALGORITHM=[A-Z]+ )?)DEFINER *= *(?:`(?:[^`]|``)*`|\"(?:[^\"]|\"\")*\")(?:@(?:`(?:[^`]|``)*`|\"(?:[^\"]|\"\")*\"))? ")

// anonymous takes the definer out of a statement that the server has shown.
func (e *Exporter) anonymous(statement, mode string) (string, error) {
	statement = definer.ReplaceAllString(statement, "$1")
	tokens := sqltext.Scan([]byte(statement), e.dialect().WithMode(mode))
	if !tokens.Begins("CREATE") || slices.ContainsFunc(tokens[:min(5, len(tokens))], func(t sqltext.Token) bool { return t.Is("DEFINER") }) {
		return "", fault.New(fault.Failed, "report this with the server's version", "the server shows a definition in an unknown form: %.60q", statement)
	}
	return statement, nil
}

// localTrigger takes the database out of the names in a trigger's head, which is kept as it
// was written once.
func (w *work) localTrigger(statement, mode string) string {
	return w.local(statement, mode, func(tokens sqltext.Tokens, i int) bool {
		return tokens.At(i-1).Is("TRIGGER") || tokens.At(i-1).Is("EXISTS") || tokens.At(i-1).Is("ON")
	})
}

// localSequences takes the database out of the names of sequences that a table's defaults
// use, the only ones in it that the server shows with their database.
func (w *work) localSequences(definition string) string {
	if len(w.sequences) == 0 {
		return definition
	}
	return w.local(definition, "", func(tokens sqltext.Tokens, i int) bool {
		return tokens.At(i-1).IsPunct('(') && (tokens.At(i-2).Is("NEXTVAL") || tokens.At(i-2).Is("LASTVAL"))
	})
}

// local takes the database out of names where it is one, up to where the body of a trigger
// begins.
func (w *work) local(definition, mode string, is func(tokens sqltext.Tokens, i int) bool) string {
	var out strings.Builder
	end := 0
	tokens := sqltext.Scan([]byte(definition), w.dialect().WithMode(mode))
	for i, t := range tokens {
		if t.Is("EACH") && tokens.At(i-1).Is("FOR") {
			break
		}
		if t.Kind != sqltext.Punct && t.Plain() == w.Database && tokens.At(i+1).IsPunct('.') && is(tokens, i) {
			out.WriteString(definition[end:t.Start])
			end = tokens[i+1].End
		}
	}
	return out.String() + definition[end:]
}

func (e *Exporter) dialect() sqltext.Dialect { return sqltext.Dialect{MariaDB: e.MariaDB} }

// readsElsewhere gives another database that a view reads: the server shows a table's
// database then, and has written every list of tables with JOIN.
func (e *Exporter) readsElsewhere(view string) string {
	tokens := sqltext.Scan([]byte(view), e.dialect())
	queries := []bool{true} // whether what a bracket holds is a query, and not what a function takes
	for i, t := range tokens {
		switch {
		case t.IsPunct('('):
			queries = append(queries, tokens.At(i+1).Is("SELECT"))
			continue
		case t.IsPunct(')') && len(queries) > 1:
			queries = queries[:len(queries)-1]
			continue
		case !t.Is("JOIN") && !t.Is("STRAIGHT_JOIN") && (!t.Is("FROM") || !queries[len(queries)-1]):
			continue
		}
		at := i + 1
		for tokens.At(at).IsPunct('(') {
			at++
		}
		if database := tokens.At(at); database.Kind == sqltext.Name && tokens.At(at+1).IsPunct('.') && database.Plain() != e.Database {
			return database.Plain()
		}
	}
	return ""
}

// inOrder puts views after those that they read. A name in a view's definition that is no
// column's counts as one that is read.
func (e *Exporter) inOrder(views map[string]string) []string {
	reads := map[string][]string{}
	for name, definition := range views {
		tokens := sqltext.Scan([]byte(definition), e.dialect())
		for i, t := range tokens {
			if t.Kind != sqltext.Name || t.Plain() == name || tokens.At(i-1).Is("AS") || tokens.At(i+1).IsPunct('.') {
				continue
			}
			if _, is := views[t.Plain()]; is {
				reads[name] = append(reads[name], t.Plain())
			}
		}
	}
	var order []string
	seen := map[string]bool{}
	var visit func(name string)
	visit = func(name string) {
		if seen[name] {
			return
		}
		seen[name] = true
		for _, other := range reads[name] {
			visit(other)
		}
		order = append(order, name)
	}
	for _, name := range slices.Sorted(maps.Keys(views)) {
		visit(name)
	}
	return order
}
