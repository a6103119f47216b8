package postgres

import (
	"fmt"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/secret"
)

// SQL is what needs no connection: statements, and what grants mean.
type SQL struct {
	// left are the comments on roles; none counts of one that can log in. stood are owners
	// that were there before their databases.
	left  map[string]string
	stood map[string]bool
	// schemas are those of databases that rights are given on, by the database; only the
	// usual one where nothing was read.
	schemas map[string][]string
}

// NewSQL is that of any server.
func NewSQL() SQL {
	return SQL{left: map[string]string{}, stood: map[string]bool{}, schemas: map[string][]string{}}
}

func (s SQL) schemasOf(database string) []string {
	if found, read := s.schemas[database]; read {
		return found
	}
	return []string{"public"}
}

// QuoteName writes an identifier.
func QuoteName(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// QuoteText writes a string literal that reads the same whatever
// standard_conforming_strings is.
func QuoteText(text string) string {
	if strings.ContainsRune(text, '\\') {
		return ` E'` + strings.NewReplacer(`\`, `\\`, `'`, `''`).Replace(text) + `'`
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}

func plain(format string, args ...any) dbms.Statement {
	return dbms.Statement{Text: fmt.Sprintf(format, args...)}
}

// within is a statement that has to be sent in a database.
func within(database, format string, args ...any) dbms.Statement {
	return dbms.Statement{Text: fmt.Sprintf(format, args...), Database: database}
}

func masked(before, secretText, after string) dbms.Statement {
	return dbms.Statement{Text: before + QuoteText(secretText) + after, Shown: before + "'" + secret.Mask + "'" + after}
}

// longestName is how many bytes of a name the server keeps; it cuts longer ones
// in silence (PostgreSQL, "Identifiers and Key Words").
const longestName = 63

// Owner is the role that a database belongs to. Nobody logs in as it.
func Owner(database string) string {
	const suffix = "_owner"
	return database[:min(len(database), longestName-len(suffix))] + suffix
}

// ownerComment is the comment on an owner, by which it is known again when its
// database was dropped by hand: a role that only has the name is someone else's.
func ownerComment(database string) string { return "owner of the database " + database }

// makingComment stands in its place until the database is closed to everyone else: who
// finds it finds a making that was cut off, and has to finish it.
func makingComment(database string) string { return ownerComment(database) + ", which is being made" }

const icuPrefix = "icu:"

// CreateDatabase makes the owner and the database, from template0 and with its
// locale spelled out, and closes both to everyone else. A collation that begins
// with icu: is one of that library.
func (s SQL) CreateDatabase(d dbms.Database) []dbms.Statement {
	name, owner := QuoteName(d.Name), QuoteName(Owner(d.Name))
	locale := "LC_COLLATE " + QuoteText(d.Collation) + " LC_CTYPE " + QuoteText(d.Collation)
	if icu, is := strings.CutPrefix(d.Collation, icuPrefix); is {
		locale = "LOCALE_PROVIDER icu ICU_LOCALE " + QuoteText(icu) + " LC_COLLATE 'C' LC_CTYPE 'C'"
	}
	statements := []dbms.Statement{{Text: "BEGIN", ChangesNothing: true}, plain("CREATE ROLE %s NOLOGIN", owner)}
	comment, stands := s.left[Owner(d.Name)]
	if comment == ownerComment(d.Name) || comment == makingComment(d.Name) {
		statements = statements[:1]
	}
	s.stood[Owner(d.Name)] = stands && comment != makingComment(d.Name) // and is not dropped if this goes wrong
	// One transaction: without its comment the role would be taken for somebody else's by
	// whoever goes on after a crash.
	statements = append(statements, plain("COMMENT ON ROLE %s IS %s", owner, QuoteText(makingComment(d.Name))), plain("COMMIT"),
		plain("GRANT %s TO CURRENT_USER", owner), // for administrators that are no superusers
		plain("CREATE DATABASE %s OWNER %s TEMPLATE template0 ENCODING %s %s", name, owner, QuoteText(d.Charset), locale))
	return append(statements, s.FinishDatabase(d.Name)...)
}

// FinishDatabase closes a database that is being made to everyone else.
func (s SQL) FinishDatabase(name string) []dbms.Statement {
	return []dbms.Statement{
		plain("REVOKE ALL ON DATABASE %s FROM PUBLIC", QuoteName(name)),
		within(name, "REVOKE ALL ON SCHEMA public FROM PUBLIC"),
		plain("COMMENT ON ROLE %s IS %s", QuoteName(Owner(name)), QuoteText(ownerComment(name))),
	}
}

// LeftOfMaking drops the owner that is there before its database.
func (s SQL) LeftOfMaking(name string) []dbms.Statement {
	if s.left[Owner(name)] != makingComment(name) {
		return nil
	}
	return []dbms.Statement{plain("DROP ROLE %s", QuoteName(Owner(name)))}
}

// LeftOfDropping drops the owner that is there after its database: the server ends a DROP
// DATABASE by itself whose sender is gone, and then nobody sends what follows it.
func (s SQL) LeftOfDropping(name string) []dbms.Statement {
	if s.left[Owner(name)] != ownerComment(name) {
		return nil
	}
	return []dbms.Statement{plain("DROP ROLE %s", QuoteName(Owner(name)))}
}

const dropDatabase = "DROP DATABASE IF EXISTS "

// DropDatabase drops a database, all it holds, and its owner, unless CreateDatabase
// found that one there. That it is not there is no error.
func (s SQL) DropDatabase(name string) []dbms.Statement {
	statements := []dbms.Statement{plain(dropDatabase+"%s", QuoteName(name))}
	if !s.stood[Owner(name)] {
		statements = append(statements, plain("DROP ROLE IF EXISTS %s", QuoteName(Owner(name))))
	}
	return statements
}

// limit writes the condition that a role can have. That it must come over TLS is
// a matter of the host-based rules.
func limit(o dbms.AccountOptions) string {
	n := o.MaxConnections
	if n == 0 {
		n = -1
	}
	return fmt.Sprintf(" CONNECTION LIMIT %d", n)
}

const login = " LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION NOBYPASSRLS PASSWORD "

// Verifier makes a verifier of SCRAM-SHA-256, or of md5 for old clients.
func (s SQL) Verifier(a dbms.Account, p secret.Password, method string) secret.Verifier {
	if method == secret.MethodMD5 {
		return secret.MD5(p, a.User)
	}
	return secret.SCRAM(p)
}

// CreateAccount makes a role whose password is sent as a verifier.
func (s SQL) CreateAccount(a dbms.Account, v secret.Verifier, o dbms.AccountOptions) dbms.Statement {
	return masked("CREATE ROLE "+QuoteName(a.User)+login, string(v.Bytes()), limit(o))
}

// CreateAccountInPlain sends the password itself.
func (s SQL) CreateAccountInPlain(a dbms.Account, p secret.Password, o dbms.AccountOptions) dbms.Statement {
	return masked("CREATE ROLE "+QuoteName(a.User)+login, p.Reveal(), limit(o))
}

// SetVerifier replaces the password.
func (s SQL) SetVerifier(a dbms.Account, v secret.Verifier) []dbms.Statement {
	return []dbms.Statement{masked("ALTER ROLE "+QuoteName(a.User)+" PASSWORD ", string(v.Bytes()), "")}
}

// SetPasswordInPlain is SetVerifier with the password itself.
func (s SQL) SetPasswordInPlain(a dbms.Account, p secret.Password) dbms.Statement {
	return masked("ALTER ROLE "+QuoteName(a.User)+" PASSWORD ", p.Reveal(), "")
}

// AddVerifier has nothing to send: a role has one password.
func (s SQL) AddVerifier(dbms.Account, secret.Verifier, secret.Verifier) []dbms.Statement { return nil }

// DropOlder is nothing for the same reason.
func (s SQL) DropOlder(dbms.Account, secret.Verifier) []dbms.Statement { return nil }

// SetOptions changes the conditions of a role.
func (s SQL) SetOptions(a dbms.Account, o dbms.AccountOptions) dbms.Statement {
	return plain("ALTER ROLE %s%s", QuoteName(a.User), limit(o))
}

// DropAccount removes a role, if it is there. Its rights have to be revoked
// before.
func (s SQL) DropAccount(a dbms.Account) dbms.Statement {
	return plain("DROP ROLE IF EXISTS %s", QuoteName(a.User))
}

// LockAccount and UnlockAccount stop and allow new logins.
func (s SQL) LockAccount(a dbms.Account) dbms.Statement {
	return plain("ALTER ROLE %s NOLOGIN", QuoteName(a.User))
}

// UnlockAccount undoes LockAccount.
func (s SQL) UnlockAccount(a dbms.Account) dbms.Statement {
	return plain("ALTER ROLE %s LOGIN", QuoteName(a.User))
}
