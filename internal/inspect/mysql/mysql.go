// Package mysql looks at MariaDB and MySQL servers.
//
// It must never change anything: all it asks for itself goes through a session that the
// server keeps from changing (MySQL Reference Manual, "SET TRANSACTION Statement").
package mysql

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/mysql"
	"yellowfield/internal/figures"
	"yellowfield/internal/inspect"
)

// inspection is the look at one server.
type inspection struct {
	*mysql.Server
	inspect.Report
	about     dbms.About
	subject   inspect.Subject
	look      inspect.Look
	catalogue *dbms.Catalogue
	variables map[string]string
	// roles are accounts that nobody logs in as, and members who has a role.
	roles, members map[dbms.Account]bool
}

// Inspect looks at a server with an administrator's login.
func Inspect(ctx context.Context, server *mysql.Server, subject inspect.Subject) (inspect.Report, error) {
	session, err := server.OpenSingle(ctx)
	if err != nil {
		return inspect.Report{}, err
	}
	defer session.Close()
	for _, statement := range []string{"SET SESSION TRANSACTION READ ONLY", "START TRANSACTION READ ONLY"} {
		if _, err := session.Exec(ctx, statement); err != nil {
			return inspect.Report{}, err
		}
	}
	i := &inspection{Server: server, about: server.About(), subject: subject, look: session.Query}
	if i.catalogue, err = server.ReadCatalogue(ctx, true, nil); err != nil {
		return inspect.Report{}, err
	}
	if i.catalogue.Contents, err = server.Contents(ctx, i.databases()...); err != nil {
		return inspect.Report{}, err
	}
	for _, step := range []func(context.Context) error{i.settings, i.rolesAndMembers, i.accounts, i.grants, i.definers, i.tables} {
		if err := step(ctx); err != nil {
			return inspect.Report{}, err
		}
	}
	return i.Report, nil
}

// ends are when the makers stop mending a release (MariaDB, "Maintenance Policy"; MySQL,
// "Lifetime Support Policy"; as published in November 2026).
var ends = map[dbms.Product]map[string]string{
	dbms.MariaDB: {"10.3": "2023-05-25", "10.4": "2024-06-18", "10.5": "2025-06-24", "10.6": "2026-07-06", "10.11": "2028-02-16", "11.4": "2029-05-29", "11.8": "2028-06-04"},
	dbms.MySQL:   {"5.7": "2023-10-31", "8.0": "2026-04-30", "8.4": "2032-04-30"},
}

// databases are those that are no part of the server itself.
func (i *inspection) databases() []string {
	var names []string
	for _, name := range slices.Sorted(maps.Keys(i.catalogue.Databases)) {
		if !slices.Contains(mysql.SystemDatabases, name) {
			names = append(names, name)
		}
	}
	return names
}

// settings looks at what the server says of itself.
func (i *inspection) settings(ctx context.Context) error {
	names := []string{"character_set_server", "collation_server", "sql_mode", "max_allowed_packet", "log_bin", "log_bin_trust_function_creators", "have_ssl", "ssl_cert",
		"require_secure_transport", "skip_name_resolve", "datadir", "default_storage_engine", "bind_address", "local_infile", "skip_networking", "max_connections"}
	rows, err := i.look(ctx, "SHOW GLOBAL VARIABLES WHERE Variable_name IN ('"+strings.Join(names, "', '")+"')")
	if err != nil {
		return err
	}
	i.variables = map[string]string{}
	for _, row := range rows {
		i.variables[strings.ToLower(row[0])] = row[1]
	}
	v := i.variables
	i.Fact("version", i.about.Product.Title()+" "+i.about.Version)
	numbers := strings.SplitN(i.about.Version, ".", 3)
	i.Support(i.about.Product.Title(), strings.Join(numbers[:min(2, len(numbers))], "."), ends[i.about.Product])
	if rows, err = i.look(ctx, "SHOW GLOBAL STATUS LIKE 'Uptime'"); err != nil {
		return err
	}
	if len(rows) == 1 {
		seconds, _ := strconv.ParseInt(rows[0][1], 10, 64)
		i.RunningFor(seconds)
	}
	i.Fact("character set", v["character_set_server"]+", "+v["collation_server"])
	if v["character_set_server"] != "utf8mb4" {
		i.Add(inspect.Finding{Kind: inspect.DefaultCharset, On: "character_set_server", Evidence: "the default is " + v["character_set_server"],
			Remedy: "set character-set-server = utf8mb4 in the server's option file", SQL: []dbms.Statement{i.SetVariable("character_set_server", "utf8mb4")}, Back: []dbms.Statement{i.SetVariable("character_set_server", v["character_set_server"])}})
	}
	i.Fact("sql mode", strings.ReplaceAll(v["sql_mode"], ",", ", "))
	if !strings.Contains(v["sql_mode"], "STRICT_TRANS_TABLES") && !strings.Contains(v["sql_mode"], "STRICT_ALL_TABLES") {
		strict := strings.TrimPrefix(v["sql_mode"]+",STRICT_TRANS_TABLES", ",")
		i.Add(inspect.Finding{Kind: inspect.LaxSQLMode, On: "sql_mode", Evidence: "sql_mode has no STRICT_TRANS_TABLES",
			Remedy: "ask whether an application needs it so; else add STRICT_TRANS_TABLES to sql_mode in the server's option file", SQL: []dbms.Statement{i.SetVariable("sql_mode", strict)}, Back: []dbms.Statement{i.SetVariable("sql_mode", v["sql_mode"])}})
	}
	packet, _ := strconv.ParseInt(v["max_allowed_packet"], 10, 64)
	i.Size("longest statement", packet, "")
	const enough = 16 << 20
	if packet < enough {
		i.Add(inspect.Finding{Kind: inspect.SmallPacket, On: "max_allowed_packet", Evidence: "max_allowed_packet is " + figures.Size(packet),
			Remedy: "set max_allowed_packet = 64M in the server's option file", SQL: []dbms.Statement{i.SetVariable("max_allowed_packet", "67108864")}, Back: []dbms.Statement{i.SetVariable("max_allowed_packet", v["max_allowed_packet"])}})
	}
	i.Fact("binary log", onOff(i.about.BinaryLog))
	if i.about.BinaryLog && !i.about.TrustFunctionCreators {
		i.Add(inspect.Finding{Kind: inspect.FunctionCreators, On: "log_bin_trust_function_creators", Evidence: "the binary log is on, and log_bin_trust_function_creators off",
			Remedy: "nothing, unless an application's installer makes triggers or functions by itself: then server_during_import, or the setting for good"})
	}
	i.transport()
	i.Fact("looks up clients' names", onOff(!isOn(v["skip_name_resolve"])))
	i.Fact("LOAD DATA LOCAL", onOff(isOn(v["local_infile"])))
	i.Connections(v["max_connections"])
	i.Room(i.Address, v["datadir"])
	return nil
}

func isOn(value string) bool { return strings.EqualFold(value, "ON") || value == "1" }

func onOff(on bool) string {
	if on {
		return "on"
	}
	return "off"
}

// transport looks at who can listen to the server, and what they would hear.
func (i *inspection) transport() {
	v := i.variables
	offered := v["have_ssl"] == "YES"
	if i.about.Product == dbms.MySQL {
		offered = v["ssl_cert"] != ""
	}
	text := "not offered"
	switch {
	case offered && isOn(v["require_secure_transport"]):
		text = "required"
	case offered:
		text = "offered"
	}
	i.Fact("TLS", text)
	local := isOn(v["skip_networking"]) || slices.Contains([]string{"127.0.0.1", "::1", "localhost"}, v["bind_address"])
	if !local && !offered {
		i.Add(inspect.Finding{Kind: inspect.NoTLS, On: "TLS", Evidence: "the server takes connections from other hosts (bind_address = " + v["bind_address"] + ") and offers no TLS",
			Remedy: "give it a certificate (ssl_cert, ssl_key), or have it listen on 127.0.0.1 alone"})
	}
}

// rolesAndMembers finds which accounts are roles, and which have some.
func (i *inspection) rolesAndMembers(ctx context.Context) error {
	i.roles, i.members = map[dbms.Account]bool{}, map[dbms.Account]bool{}
	query := "SELECT 'member', TO_USER, TO_HOST FROM mysql.role_edges UNION SELECT 'role', FROM_USER, FROM_HOST FROM mysql.role_edges"
	if i.about.Product == dbms.MariaDB {
		query = "SELECT 'member', User, Host FROM mysql.roles_mapping UNION SELECT 'role', User, Host FROM mysql.user WHERE is_role = 'Y'"
	}
	rows, err := i.look(ctx, query)
	for _, row := range rows {
		into := i.members
		if row[0] == "role" {
			into = i.roles
		}
		into[dbms.Account{User: row[1], Host: row[2]}] = true
	}
	return err
}

func inOrder(accounts map[dbms.Account]dbms.AccountState) []dbms.AccountState {
	all := slices.Collect(maps.Values(accounts))
	slices.SortFunc(all, func(a, b dbms.AccountState) int { return strings.Compare(a.Account.String(), b.Account.String()) })
	return all
}

// accounts looks at how each account logs in, and from where.
func (i *inspection) accounts(context.Context) error {
	var administrators []string
	for _, a := range inOrder(i.catalogue.Accounts) {
		grants := i.catalogue.Grants(a.Account)
		admin := mysql.Administers(grants)
		if slices.Contains(mysql.SystemAccounts, a.User) || i.roles[a.Account] {
			continue
		}
		if admin && !a.Locked {
			administrators = append(administrators, a.Account.String())
		}
		found := inspect.Finding{On: a.Account.String(), App: i.subject.AppWith(a.User)}
		add := func(kind inspect.Kind, evidence, remedy string) *inspect.Finding {
			f := found
			f.Kind, f.Evidence, f.Remedy = kind, evidence, remedy
			i.Add(f)
			return &i.Findings[len(i.Findings)-1]
		}
		lock, unlock := []dbms.Statement{i.LockAccount(a.Account)}, []dbms.Statement{i.UnlockAccount(a.Account)}
		switch {
		case a.User == "":
			f := add(inspect.AnonymousAccount, "an account without a name takes logins from "+a.Host, "drop it; locked, it is of no use to anybody either, and that can be taken back")
			f.SQL, f.Back, f.Lowered = lock, unlock, &a.Account
			continue
		case a.Locked:
			add(inspect.LockedAccount, "the account is locked", "nothing, or drop it when nobody misses it")
			continue
		case a.Expired:
			add(inspect.ExpiredAccount, "its password has expired", i.newPassword(found.App))
		}
		if takesPassword(a.Verifier.Method()) && !a.Verifier.IsKnown() && !a.SecondMethod {
			f := add(inspect.EmptyPassword, "it logs in with an empty password", i.newPassword(found.App))
			if found.App == "" {
				f.Remedy += ", or lock it"
				f.SQL, f.Back, f.Lowered = lock, unlock, &a.Account
			}
		}
		i.method(a, add)
		i.host(a, admin, add)
		if i.reachesNothing(a.Account, grants) {
			add(inspect.ReachesNothing, "it has no rights on any database, and no role", "drop it when nobody misses it")
		}
	}
	i.Fact("administrators", strings.Join(administrators, ", "))
	return nil
}

// newPassword is how an account gets one.
func (i *inspection) newPassword(app string) string {
	if app != "" {
		return "yellowfield rotate " + app
	}
	return "give it a password: ALTER USER ... IDENTIFIED BY"
}

// takesPassword reports whether a way to log in is by what the server keeps of a password.
func takesPassword(method string) bool {
	return slices.Contains([]string{"", "mysql_native_password", "mysql_old_password", "caching_sha2_password", "sha256_password", "ed25519", "parsec"}, method)
}

// method looks at what the server keeps of a password.
func (i *inspection) method(a dbms.AccountState, add func(kind inspect.Kind, evidence, remedy string) *inspect.Finding) {
	const oldLength = 16
	app := i.subject.AppWith(a.User)
	switch method := a.Verifier.Method(); {
	case method == "mysql_old_password" || method != "" && takesPassword(method) && len(a.Verifier.Bytes()) == oldLength:
		add(inspect.WeakVerifier, "its password is kept as before MySQL 4.1, in 16 characters that are found at once", i.newPassword(app)).Severity = "must-fix"
	case i.about.Product == dbms.MySQL && (method == "mysql_native_password" || method == "sha256_password"):
		add(inspect.WeakVerifier, "it logs in by "+method, i.newPassword(app))
	}
}

// host looks at where an account may log in from.
func (i *inspection) host(a dbms.AccountState, admin bool, add func(kind inspect.Kind, evidence, remedy string) *inspect.Finding) {
	if admin && strings.ContainsAny(a.Host, "%_") {
		f := add(inspect.AnyHostAdmin, "it administers the server, and logs in from any host that is like "+a.Host, "let it come from the hosts that it is used on alone")
		local := dbms.Account{User: a.User, Host: "localhost"}
		if _, exists := i.catalogue.Accounts[local]; !exists {
			f.SQL, f.Back = []dbms.Statement{i.RenameAccount(a.Account, local)}, []dbms.Statement{i.RenameAccount(local, a.Account)}
		}
	}
	byName := strings.ContainsFunc(a.Host, func(c rune) bool { return c >= 'g' && c <= 'z' || c >= 'G' && c <= 'Z' })
	if isOn(i.variables["skip_name_resolve"]) && byName && a.Host != "localhost" {
		add(inspect.HostByName, "it may come from "+a.Host+", and skip_name_resolve is on", "write the host's address instead of its name")
	}
}

func (i *inspection) reachesNothing(a dbms.Account, g dbms.Grants) bool {
	return len(g.Global)+len(g.Databases)+len(g.Below)+len(g.GrantOption) == 0 && !i.members[a]
}

// harmless are global rights that give access to no database.
var harmless = dbms.NewPrivileges("USAGE", "PROCESS", "SHOW DATABASES", "REPLICATION CLIENT", "REPLICATION SLAVE", "BINLOG MONITOR", "SLAVE MONITOR", "REPLICA MONITOR",
	"SHOW_ROUTINE", "SHOW CREATE ROUTINE", "CONNECTION_ADMIN", "CONNECTION ADMIN")

// grants looks at what accounts may do, and on what.
func (i *inspection) grants(ctx context.Context) error {
	names := i.databases()
	reached := map[string]bool{}
	accounts := slices.SortedFunc(maps.Keys(i.catalogue.Granted), func(a, b dbms.Account) int { return strings.Compare(a.String(), b.String()) })
	for _, a := range accounts {
		if slices.Contains(mysql.SystemAccounts, a.User) {
			continue
		}
		g := *i.catalogue.Granted[a]
		_, logsIn := i.catalogue.Accounts[a]
		found := inspect.Finding{On: a.String(), App: i.subject.AppWith(a.User)}
		if logsIn && a.User != "" {
			i.global(a, g, found)
		}
		for _, pattern := range slices.Sorted(maps.Keys(g.Databases)) {
			matched := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return !i.Matches(pattern, name) })
			for _, name := range matched {
				reached[name] = true
			}
			switch {
			case a.User == "" || a.User == "PUBLIC":
				f := found
				f.Kind, f.On, f.Evidence = inspect.OpenDatabase, pattern, fmt.Sprintf("everybody has %s on databases named like %s%s", rights(g.Databases[pattern]), pattern, thatIs(matched))
				f.Remedy = "take the rights away: yellowfield gives each application its own"
				if a.User == "PUBLIC" {
					f.Remedy += "; REVOKE ... FROM PUBLIC"
				} else {
					f.Remedy += "; DELETE FROM mysql.db WHERE User = '' AND Db = " + mysql.QuoteText(pattern) + ", then FLUSH PRIVILEGES"
				}
				i.Add(f)
			default:
				i.pattern(a, g, pattern, matched, found)
			}
		}
		for _, name := range g.Below {
			reached[name] = true
		}
	}
	for _, name := range names {
		if !reached[name] && len(i.roles) == 0 {
			i.Add(inspect.Finding{Kind: inspect.UnreachedDatabase, On: name, App: i.subject.AppOf(name), Evidence: "no account but administrators has rights on it", Remedy: i.leftOver(name)})
		}
	}
	return nil
}

func (i *inspection) leftOver(database string) string {
	if app := i.subject.AppOf(database); app != "" {
		return "yellowfield provision " + app
	}
	return "ask whose it is; before it is dropped, export it"
}

func thatIs(matched []string) string {
	if len(matched) == 0 {
		return " (none now)"
	}
	return ": " + inspect.Some(matched)
}

func rights(p dbms.Privileges) string {
	const many = 6
	if len(p) > many {
		return figures.Counted(len(p), "right", "rights")
	}
	return p.String()
}

// global looks at rights on the whole server.
func (i *inspection) global(a dbms.Account, g dbms.Grants, found inspect.Finding) {
	excess := g.Global.Minus(harmless)
	admin := mysql.Administers(g)
	if len(excess) > 0 && (!admin || found.App != "") {
		f := found
		f.Kind, f.Evidence = inspect.GlobalRights, "it has "+rights(excess)+" on the whole server"
		f.Remedy = "revoke them; rights on its own database are for yellowfield provision --fix rights"
		if f.App != "" {
			f.Severity = "must-fix"
		}
		for _, right := range excess {
			f.SQL = append(f.SQL, i.RevokeGlobal(right, a))
			f.Back = append(f.Back, i.GrantGlobal(right, a))
		}
		f.Lowered = &a
		i.Add(f)
	}
	for _, pattern := range slices.Sorted(slices.Values(g.GrantOption)) {
		if pattern == "" && (admin && found.App == "") {
			continue
		}
		f := found
		f.Kind, f.Evidence, f.Remedy = inspect.GrantOption, "it may give away its rights on "+pattern, "revoke GRANT OPTION"
		f.Lowered = &a
		option := dbms.Privileges{"GRANT OPTION"}
		if pattern == "" {
			f.Evidence, f.Severity = "it may give away rights on the whole server", "must-fix"
			f.SQL, f.Back = []dbms.Statement{i.RevokeGlobal("GRANT OPTION", a)}, []dbms.Statement{i.GrantGlobal("GRANT OPTION", a)}
		} else {
			f.On = inspect.Part(f.On, pattern)
			f.SQL, f.Back = i.Revoke(option, pattern, a), i.Grant(option, pattern, a)
		}
		i.Add(f)
	}
}

// pattern looks at a grant whose database may mean several.
func (i *inspection) pattern(a dbms.Account, g dbms.Grants, pattern string, matched []string, found inspect.Finding) {
	bare := strings.NewReplacer(`\_`, "", `\%`, "").Replace(pattern)
	if i.about.PartialRevokes || !strings.ContainsAny(bare, "_%") {
		return
	}
	f := found
	f.Kind, f.On = inspect.WildcardGrant, inspect.Part(f.On, pattern)
	meant := strings.ReplaceAll(pattern, `\_`, "_")
	byUnderscoreAlone := !strings.Contains(bare, "%")
	others := slices.DeleteFunc(slices.Clone(matched), func(name string) bool { return name == meant })
	f.Evidence = fmt.Sprintf("it has %s on %s, which is a pattern%s", rights(g.Databases[pattern]), pattern, thatIs(matched))
	f.Remedy = "grant the rights on each database by its name, with _ written as \\_"
	switch {
	case byUnderscoreAlone && len(others) > 0:
		f.Severity = "must-fix"
		if slices.Contains(matched, meant) {
			f.Evidence += "; meant is probably " + meant + " alone"
		} else {
			f.Evidence += "; no database is called " + meant
		}
	case !byUnderscoreAlone:
		f.Severity = "good-to-know"
		f.Remedy += ", if the pattern is not meant"
	}
	if byUnderscoreAlone && slices.Contains(matched, meant) {
		privileges := g.Databases[pattern]
		if slices.Contains(g.GrantOption, pattern) {
			privileges = privileges.Plus(dbms.Privileges{"GRANT OPTION"})
		}
		if missing := g.Databases[pattern].Minus(g.Databases[i.Pattern(meant)]); len(missing) > 0 {
			f.SQL, f.Back = i.Grant(missing, i.Pattern(meant), a), i.Revoke(missing, i.Pattern(meant), a)
		}
		f.SQL, f.Back = append(f.SQL, i.Revoke(privileges, pattern, a)...), append(i.Grant(privileges, pattern, a), f.Back...)
		f.Lowered = &a
	}
	i.Add(f)
}

// definers looks for definers that do not exist.
func (i *inspection) definers(ctx context.Context) error {
	known := func(definer string) bool {
		a := dbms.ParseAccount(definer)
		_, exists := i.catalogue.Accounts[a]
		return exists || i.roles[a] || i.roles[dbms.Account{User: definer}]
	}
	query := ""
	for _, of := range []string{"TABLE_SCHEMA, 'view', TABLE_NAME, DEFINER FROM information_schema.VIEWS", "ROUTINE_SCHEMA, LOWER(ROUTINE_TYPE), ROUTINE_NAME, DEFINER FROM information_schema.ROUTINES",
		"TRIGGER_SCHEMA, 'trigger', TRIGGER_NAME, DEFINER FROM information_schema.TRIGGERS", "EVENT_SCHEMA, 'event', EVENT_NAME, DEFINER FROM information_schema.EVENTS"} {
		if query != "" {
			query += " UNION ALL "
		}
		query += "SELECT " + of
	}
	rows, err := i.look(ctx, query)
	gone := map[[2]string][]string{}
	for _, row := range rows {
		if !slices.Contains(mysql.SystemDatabases, row[0]) && !known(row[3]) {
			at := [2]string{row[0], row[3]}
			gone[at] = append(gone[at], row[1]+" "+row[2])
		}
	}
	for at, objects := range gone {
		slices.Sort(objects)
		i.Add(inspect.Finding{Kind: inspect.DefinerGone, On: at[0], App: i.subject.AppOf(at[0]), Evidence: figures.Counted(len(objects), "object", "objects") + " with the definer " + at[1] + ", who does not exist: " + inspect.Some(objects),
			Remedy: "make them anew with the application's account as definer: export and import of the database do that"})
	}
	return err
}

// tables looks for those that are unlike their database.
func (i *inspection) tables(context.Context) error {
	for _, database := range i.databases() {
		app := i.subject.AppOf(database)
		charset := i.catalogue.Databases[database].Charset
		differs, engines := map[string][]string{}, map[string][]string{}
		for _, table := range i.catalogue.Contents[database].Tables {
			if table.View {
				continue
			}
			if own := i.catalogue.Collations[table.Collation]; own != "" && !dbms.SameCharset(own, charset) {
				differs[own] = append(differs[own], table.Name)
			}
			if table.Engine != "" && !slices.Contains([]string{"InnoDB", "MEMORY", "SEQUENCE"}, table.Engine) {
				engines[table.Engine] = append(engines[table.Engine], table.Name)
			}
		}
		for own, names := range differs {
			f := inspect.Finding{Kind: inspect.CharsetDiffers, On: database, App: app, Evidence: figures.Counted(len(names), "table is", "tables are") + " in " + own + ", the database in " + charset + ": " + inspect.Some(names),
				Remedy: "ALTER TABLE ... CONVERT TO CHARACTER SET " + charset + ", after an export"}
			if app != "" {
				f.Remedy = "yellowfield provision " + app + " --fix charset"
			}
			i.Add(f)
		}
		for engine, names := range engines {
			i.Add(inspect.Finding{Kind: inspect.EngineDiffers, On: database, App: app, Evidence: figures.Counted(len(names), "table is", "tables are") + " kept by " + engine + ": " + inspect.Some(names),
				Remedy: "ALTER TABLE ... ENGINE = InnoDB, after an export and while nobody writes"})
		}
	}
	return nil
}

// Sample looks into rows as an application's account may read them.
func Sample(ctx context.Context, server *mysql.Server, report *inspect.Report, app, database string) error {
	session, err := server.OpenSingle(ctx)
	if err != nil {
		return err
	}
	defer session.Close()
	if _, err := session.Exec(ctx, "START TRANSACTION READ ONLY"); err != nil {
		return err
	}
	rows, err := session.Query(ctx, `SELECT c.TABLE_NAME, c.COLUMN_NAME FROM information_schema.COLUMNS c JOIN information_schema.TABLES t USING (TABLE_SCHEMA, TABLE_NAME)
		WHERE c.TABLE_SCHEMA = `+mysql.QuoteText(database)+` AND t.TABLE_TYPE = 'BASE TABLE' AND c.CHARACTER_SET_NAME IS NOT NULL ORDER BY 1, c.ORDINAL_POSITION`)
	if err != nil {
		return err
	}
	from := func(table string) string { return mysql.QuoteName(database) + "." + mysql.QuoteName(table) }
	return report.Sample(ctx, app, database, inspect.ColumnsOf(rows, mysql.QuoteName, from), session.Query)
}
