package mysql

import (
	"fmt"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/secret"
)

// SQL is what needs no connection: statements, and what grants mean.
type SQL struct{ facts dbms.About }

// NewSQL is that of a server that has told its facts.
func NewSQL(facts dbms.About) SQL { return SQL{facts} }

func plain(format string, args ...any) dbms.Statement {
	return dbms.Statement{Text: fmt.Sprintf(format, args...)}
}

// masked builds a statement around one secret.
func masked(before, secretText, after string) dbms.Statement {
	return dbms.Statement{Text: before + secretText + after, Shown: before + "'" + secret.Mask + "'" + after}
}

// QuoteName writes an identifier in backquotes.
func QuoteName(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// QuoteText writes a string literal that reads the same under every sql_mode.
func QuoteText(text string) string {
	if strings.ContainsRune(text, '\\') {
		return fmt.Sprintf("0x%X", text) // NO_BACKSLASH_ESCAPES decides what a backslash means
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}

func quoteAccount(a dbms.Account) string { return QuoteName(a.User) + "@" + QuoteName(a.Host) }

// Pattern is how a database is written in a grant so that it means that
// database alone: _ and % are escaped, because GRANT takes them for wildcards,
// unless partial_revokes makes them stand for themselves (MySQL Reference
// Manual, "GRANT Statement"; MariaDB, "GRANT").
func (s SQL) Pattern(database string) string {
	if s.facts.PartialRevokes {
		return database
	}
	return strings.NewReplacer(`_`, `\_`, `%`, `\%`).Replace(database)
}

// CreateDatabase spells out character set and collation always: without them
// the server's default applies, which may lose text.
func (s SQL) CreateDatabase(d dbms.Database) []dbms.Statement {
	return []dbms.Statement{plain("CREATE DATABASE %s CHARACTER SET %s COLLATE %s", QuoteName(d.Name), d.Charset, d.Collation)}
}

// FinishDatabase has nothing to do: a database is made by one statement.
func (s SQL) FinishDatabase(string) []dbms.Statement { return nil }

// LeftOfMaking is nothing for the same reason.
func (s SQL) LeftOfMaking(string) []dbms.Statement { return nil }

// LeftOfDropping is nothing, as well.
func (s SQL) LeftOfDropping(string) []dbms.Statement { return nil }

// DropDatabase drops a database and all it holds. That it is not there is no
// error: a statement that was interrupted may not have reached the server.
func (s SQL) DropDatabase(name string) []dbms.Statement {
	return []dbms.Statement{plain("DROP DATABASE IF EXISTS %s", QuoteName(name))}
}

// clause writes the conditions of an account.
func clause(o dbms.AccountOptions) string {
	require := "NONE"
	if o.RequireTLS {
		require = "SSL"
	}
	return fmt.Sprintf(" REQUIRE %s WITH MAX_USER_CONNECTIONS %d", require, o.MaxConnections)
}

// Verifier makes a verifier of a method, for no method of the one that PHP's
// clients can use here.
func (s SQL) Verifier(_ dbms.Account, p secret.Password, method string) secret.Verifier {
	if s.method(method) == secret.MethodNative {
		return secret.Native(p)
	}
	return secret.CachingSHA2(p)
}

func (s SQL) method(wanted string) string {
	switch {
	case wanted != "":
		return wanted
	case s.facts.Product == dbms.MariaDB:
		return secret.MethodNative
	}
	return secret.MethodCachingSHA2
}

// CreateAccount makes an account whose password is sent as a verifier.
func (s SQL) CreateAccount(a dbms.Account, v secret.Verifier, o dbms.AccountOptions) dbms.Statement {
	return s.withVerifier("CREATE USER "+quoteAccount(a), v, clause(o))
}

// SetVerifier replaces all ways to log in by the one password.
func (s SQL) SetVerifier(a dbms.Account, v secret.Verifier) []dbms.Statement {
	statements := []dbms.Statement{s.withVerifier("ALTER USER "+quoteAccount(a), v, "")}
	if s.facts.Product == dbms.MySQL {
		// A password retained by an earlier rotation would go on working.
		statements = append(statements, plain("ALTER USER %s DISCARD OLD PASSWORD", quoteAccount(a)))
	}
	return statements
}

// AddVerifier has an account log in by either of two passwords (MariaDB, "ALTER USER", by
// alternatives; MySQL Reference Manual, "Password Management", dual passwords).
func (s SQL) AddVerifier(a dbms.Account, v, own secret.Verifier) []dbms.Statement {
	if s.facts.Product == dbms.MariaDB {
		return []dbms.Statement{{
			Text:  fmt.Sprintf("ALTER USER %s IDENTIFIED VIA %s USING '%s' OR %s USING '%s'", quoteAccount(a), s.method(v.Method()), v.Bytes(), s.method(own.Method()), own.Bytes()),
			Shown: fmt.Sprintf("ALTER USER %s IDENTIFIED VIA %s USING '%s' OR %s USING '%s'", quoteAccount(a), s.method(v.Method()), secret.Mask, s.method(own.Method()), secret.Mask),
		}}
	}
	return []dbms.Statement{s.withVerifier("ALTER USER "+quoteAccount(a), v, " RETAIN CURRENT PASSWORD")}
}

// DropOlder ends the older of two passwords. On MariaDB SET PASSWORD would leave it.
func (s SQL) DropOlder(a dbms.Account, v secret.Verifier) []dbms.Statement {
	if s.facts.Product == dbms.MariaDB {
		return s.SetVerifier(a, v)
	}
	return []dbms.Statement{plain("ALTER USER %s DISCARD OLD PASSWORD", quoteAccount(a))}
}

func (s SQL) withVerifier(head string, v secret.Verifier, tail string) dbms.Statement {
	method := s.method(v.Method())
	if s.facts.Product == dbms.MariaDB {
		return masked(head+" IDENTIFIED VIA "+method+" USING ", "'"+string(v.Bytes())+"'", tail)
	}
	return masked(head+" IDENTIFIED WITH "+method+" AS ", fmt.Sprintf("0x%X", v.Bytes()), tail)
}

// CreateAccountInPlain sends the password itself, for servers whose password
// policy refuses verifiers. The caller makes sure that the connection is
// encrypted or local.
func (s SQL) CreateAccountInPlain(a dbms.Account, p secret.Password, o dbms.AccountOptions) dbms.Statement {
	return masked("CREATE USER "+quoteAccount(a)+" IDENTIFIED BY ", QuoteText(p.Reveal()), clause(o))
}

// SetPasswordInPlain is CreateAccountInPlain for an account that exists.
func (s SQL) SetPasswordInPlain(a dbms.Account, p secret.Password) dbms.Statement {
	return masked("ALTER USER "+quoteAccount(a)+" IDENTIFIED BY ", QuoteText(p.Reveal()), "")
}

// SetOptions changes the conditions of an account.
func (s SQL) SetOptions(a dbms.Account, o dbms.AccountOptions) dbms.Statement {
	return plain("ALTER USER %s%s", quoteAccount(a), clause(o))
}

// DropAccount removes an account, if it is there. Its open sessions live on:
// end them too.
func (s SQL) DropAccount(a dbms.Account) dbms.Statement {
	return plain("DROP USER IF EXISTS %s", quoteAccount(a))
}

// RenameAccount gives an account another name or host; its rights go with it.
func (s SQL) RenameAccount(from, to dbms.Account) dbms.Statement {
	return plain("RENAME USER %s TO %s", quoteAccount(from), quoteAccount(to))
}

// LockAccount and UnlockAccount stop and allow new logins.
func (s SQL) LockAccount(a dbms.Account) dbms.Statement {
	return plain("ALTER USER %s ACCOUNT LOCK", quoteAccount(a))
}

// UnlockAccount undoes LockAccount.
func (s SQL) UnlockAccount(a dbms.Account) dbms.Statement {
	return plain("ALTER USER %s ACCOUNT UNLOCK", quoteAccount(a))
}

// Grant gives rights on a pattern as Pattern returns it.
func (s SQL) Grant(p dbms.Privileges, pattern string, a dbms.Account) []dbms.Statement {
	return []dbms.Statement{plain("GRANT %s ON %s.* TO %s", p, QuoteName(pattern), quoteAccount(a))}
}

// Revoke takes rights on a pattern, which must be spelled as it is stored.
func (s SQL) Revoke(p dbms.Privileges, pattern string, a dbms.Account) []dbms.Statement {
	return []dbms.Statement{plain("REVOKE %s ON %s.* FROM %s", p, QuoteName(pattern), quoteAccount(a))}
}

// RevokeGlobal takes a right on the whole server.
func (s SQL) RevokeGlobal(right string, a dbms.Account) dbms.Statement {
	return plain("REVOKE %s ON *.* FROM %s", right, quoteAccount(a))
}

// GrantGlobal gives a right on the whole server.
func (s SQL) GrantGlobal(right string, a dbms.Account) dbms.Statement {
	return plain("GRANT %s ON *.* TO %s", right, quoteAccount(a))
}

// Definer is the clause that makes an account the definer of an object.
func Definer(a dbms.Account) string { return "DEFINER=" + quoteAccount(a) }

// TableName is a table's name as the server stores it.
func (s SQL) TableName(name string) string {
	if s.facts.LowerCaseTables {
		return strings.ToLower(name)
	}
	return name
}

// ReadOnly is MySQL's own (MySQL Reference Manual, "ALTER DATABASE Statement"); MariaDB has
// nothing like it.
func (s SQL) ReadOnly(database string, yes bool) []dbms.Statement {
	if s.facts.Product != dbms.MySQL {
		return nil
	}
	return []dbms.Statement{plain("ALTER DATABASE %s READ ONLY = %d", QuoteName(database), map[bool]int{true: 1}[yes])}
}

// SwitchEvent names the definer, since the event would be that of whoever alters it.
func (SQL) SwitchEvent(e dbms.Event, runs bool) dbms.Statement {
	state := "DISABLE"
	if runs {
		state = "ENABLE"
	}
	return plain("ALTER %s EVENT %s.%s %s", Definer(e.Definer), QuoteName(e.Database), QuoteName(e.Name), state)
}
