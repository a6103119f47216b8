package provision

import (
	"context"
	"fmt"
	"slices"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/figures"
)

// lookAtCharsets names the tables whose character set is not the one of the estate file, with what converting them would meet, by column and count, and the
// statements in their order. It looks with the application's own login, since it reads
// rows.
func (r *run) lookAtCharsets(ctx context.Context, server dbms.Server, database *estate.Database) error {
	converter, is := server.(dbms.ConvertsCharsets)
	if !is {
		return nil
	}
	charset, collation := r.view.catalogue.OwnNames(database.Charset, database.Collation)
	found, err := converter.Conversions(ctx, database.Name, charset, collation)
	if err != nil {
		return err
	}
	var statements []dbms.Statement
	for _, c := range found.Tables {
		if r.plan.charsets[c.Table] {
			continue // the application's own script wants it so
		}
		statements = append(statements, c.Statement)
		r.tell(Row{Step: stepDatabase, Outcome: Differs, Severity: estate.ShouldLook, Finding: estate.FindingTableCollation, On: c.Table,
			Facts: fmt.Sprintf("%s has another character set than its database is to have: %s, not %s", c.Table, c.From, collation)})
		for _, t := range c.Troubles {
			r.tell(Row{Step: stepDatabase, Outcome: Note, Facts: c.Table + "." + t.Where + ": " + troubleOf(t, charset), Remedy: wayOutOf(t.Kind)})
		}
	}
	if len(statements) == 0 {
		return nil
	}
	r.tell(Row{Step: stepDatabase, Outcome: Note, Facts: "what would convert " + figures.Counted(len(statements), "table", "tables"),
		Remedy: "with a copy of the database at hand, and when the notes above are dealt with, in this order",
		SQL:    texts(slices.Concat(found.Before, statements, found.After))})
	return nil
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
		dbms.KeyTooLong:   "ROW_FORMAT=DYNAMIC allows 3,072 bytes; else shorten the column or index its beginning alone",
		dbms.Collides:     "look at them, and rename or remove all but one; or write a collation into the estate file by which they differ",
	}[kind]
}
