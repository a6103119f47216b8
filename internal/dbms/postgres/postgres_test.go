package postgres_test

import (
	"context"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
	"yellowfield/internal/throwaway"
)

func start(t *testing.T) (*throwaway.Server, *postgres.Server) {
	t.Helper()
	server, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.PostgreSQL})
	if err != nil {
		t.Skipf("NOT TESTED: no PostgreSQL can be started: %v", err)
	}
	t.Cleanup(server.Stop)
	admin, err := postgres.Connect(t.Context(), server.Login())
	require.NoError(t, err)
	t.Cleanup(admin.Close)
	return server, admin
}

// TestADatabaseFromItsMakingToItsEnd makes an owner, a database and a role, opens
// and closes it for the application, and takes all of it away again.
func TestADatabaseFromItsMakingToItsEnd(t *testing.T) {
	ctx := context.Background()
	server, admin := start(t)
	assert.Equal(t, dbms.PostgreSQL, admin.About().Product)
	assert.Regexp(t, `^\d+\.\d+$`, admin.About().Version)
	assert.Equal(t, server.Socket, admin.About().Socket)
	assert.NoError(t, admin.Unavailable())

	catalogue := func() *dbms.Catalogue {
		c, err := admin.ReadCatalogue(ctx, true, []string{"hives"})
		require.NoError(t, err)
		return c
	}
	before := catalogue()
	for _, collation := range []string{"C", "C.UTF-8", "icu:en-US"} {
		assert.Equal(t, "UTF8", before.Collations[collation], collation)
	}
	assert.NotContains(t, before.Collations, "icu:tlh-bogus", "a name that no library knows")
	assert.Empty(t, admin.AdministratorLacks(before.GrantsOf(admin.CurrentUser()), "hives", nil))

	var sent []string
	admin.OnChange(func(s dbms.Statement) { sent = append(sent, s.String()) })
	exec := func(statements ...dbms.Statement) { t.Helper(); require.NoError(t, admin.Exec(ctx, statements...)) }
	password := secret.NewPassword(`it's a "word" \ with é and 蜂`)
	comb := dbms.Account{User: "comb_app"}
	verifier := secret.SCRAM(password)
	exec(admin.CreateDatabase(dbms.Database{Name: "hives", Charset: "UTF8", Collation: "C.UTF-8"})...)
	exec(admin.CreateAccount(comb, verifier, dbms.AccountOptions{MaxConnections: 5}))
	verifiers, err := admin.StoredVerifiers(ctx, comb)
	require.NoError(t, err)
	require.Len(t, verifiers, 1)
	stored := verifiers[0]
	assert.Equal(t, secret.MethodSCRAM, stored.Method())
	assert.True(t, verifier.Equal(stored), "the server kept what it was given")
	matches, known := password.Matches("comb_app", stored)
	assert.True(t, matches && known)
	matches, _ = secret.NewPassword("other").Matches("comb_app", stored)
	assert.False(t, matches)
	assert.NotContains(t, strings.Join(sent, "\n"), "SCRAM", "secrets are masked")

	login := dbms.Login{Server: "byre", Address: dbms.Address{Socket: server.Socket}, User: comb.User, Password: password, Database: "hives", AsApplication: true}
	_, err = postgres.Connect(ctx, login)
	assert.Equal(t, dbms.NoRightThere, dbms.CauseOf(err), "nothing is given to everyone")
	wrong := login
	wrong.Password = secret.NewPassword("other")
	_, err = postgres.Connect(ctx, wrong)
	assert.Equal(t, dbms.WrongLogin, dbms.CauseOf(err))
	assert.ErrorContains(t, err, "comb_app cannot log in to server byre at socket")

	c := catalogue()
	assert.Equal(t, dbms.Database{Name: "hives", Charset: "UTF8", Collation: "C.UTF-8"}, c.Databases["hives"])
	assert.Equal(t, 5, c.Accounts[comb].MaxConnections)
	held, _ := admin.HeldOn("hives", c.Grants(comb))
	assert.Empty(t, held)

	// Open: the role works as the owner, and what it makes is the owner's.
	change := func(level string) bool {
		c := catalogue()
		statements, lowers := admin.ChangeRights(comb, "hives", c.Grants(comb), admin.Resolve([]string{level}, dbms.Contents{}))
		exec(statements...)
		held, _ := admin.HeldOn("hives", catalogue().Grants(comb))
		assert.Equal(t, admin.Resolve([]string{level}, dbms.Contents{}), held, level)
		again, _ := admin.ChangeRights(comb, "hives", catalogue().Grants(comb), admin.Resolve([]string{level}, dbms.Contents{}))
		assert.Empty(t, again, "a second time changes nothing")
		return lowers
	}
	assert.False(t, change(dbms.LevelStructure))
	assert.Empty(t, admin.Elsewhere("hives", catalogue().Grants(comb)))
	app, err := postgres.Connect(ctx, login)
	require.NoError(t, err)
	defer app.Close()
	may := func(statement string) { t.Helper(); assert.NoError(t, app.Exec(ctx, dbms.Statement{Text: statement})) }
	mayNot := func(statement, want string) {
		t.Helper()
		err := app.Exec(ctx, dbms.Statement{Text: statement})
		assert.ErrorContains(t, err, want)
	}
	may("CREATE TABLE hive (id serial PRIMARY KEY, name text)")
	may("INSERT INTO hive (name) VALUES ('é')")
	contents, err := app.Contents(ctx, "hives", "none")
	require.NoError(t, err)
	assert.Equal(t, []dbms.Table{{Name: "hive"}}, contents["hives"].Tables)
	assert.NotContains(t, contents, "none")
	facts, err := app.SessionState(ctx)
	require.NoError(t, err)
	assert.Equal(t, dbms.SessionState{Database: "hives", CurrentUser: "comb_app", Charset: "UTF8"}, facts)

	// Closed: rows, those of later tables too, and no more.
	assert.True(t, change(dbms.LevelRows))
	require.NoError(t, admin.EndSessions(ctx, comb))
	assert.Error(t, app.Exec(ctx, dbms.Statement{Text: "SELECT 1"}), "the session has ended")
	release, locked, err := admin.Lock(ctx, "yellowfield:hives")
	require.NoError(t, err)
	assert.True(t, locked)
	holder, err := admin.LockHolder(ctx, "yellowfield:hives")
	require.NoError(t, err)
	assert.Regexp(t, `from the socket, process \d+`, holder.Who)
	assert.True(t, holder.Administers)
	release()
	login.Database = "postgres" // where any role may take the lock
	drone, err := postgres.Connect(ctx, login)
	require.NoError(t, err)
	_, locked, err = drone.Lock(ctx, "yellowfield:hives")
	require.NoError(t, err)
	assert.True(t, locked)
	holder, err = admin.LockHolder(ctx, "yellowfield:hives")
	require.NoError(t, err)
	assert.False(t, holder.Administers)
	assert.Contains(t, holder.Who, "comb_app")
	require.NoError(t, admin.Exec(ctx, holder.End))
	assert.Eventually(t, func() bool {
		holder, err := admin.LockHolder(ctx, "yellowfield:hives")
		return err == nil && holder == nil
	}, 5*time.Second, 50*time.Millisecond)
	drone.Close()
	login.Database = "hives"
	assert.ErrorContains(t, admin.Exec(ctx, dbms.Statement{Text: "SELECT 1; SELECT 2"}), "multiple commands", "a name that breaks out of its quotes comes to nothing")
	for _, text := range []string{"SET ROLE hives_owner", "CREATE TABLE public.later (id serial)", "RESET ROLE"} {
		exec(dbms.Statement{Text: text, Database: "hives"})
	}
	may("INSERT INTO hive (name) VALUES ('x')")
	may("INSERT INTO later DEFAULT VALUES")
	mayNot("CREATE TABLE more (a int)", "permission denied for schema public")
	mayNot("ALTER TABLE hive ADD b int", "must be owner of table hive")
	assert.True(t, change(dbms.LevelRead))
	may("SELECT * FROM later")
	mayNot("INSERT INTO hive (name) VALUES ('y')", "permission denied for table hive")
	assert.False(t, change(dbms.LevelStructure))

	// Locked out, and gone.
	exec(admin.LockAccount(comb))
	require.NoError(t, admin.EndSessions(ctx, comb))
	_, err = postgres.Connect(ctx, login)
	assert.ErrorContains(t, err, "is not permitted to log in")
	exec(admin.UnlockAccount(comb))
	c = catalogue()
	exec(admin.Revoke(c.Grants(comb).Databases["hives"], "hives", comb)...)
	exec(admin.DropDatabase("hives")...)
	exec(admin.DropAccount(comb))
	after := catalogue()
	assert.Equal(t, len(before.Databases), len(after.Databases))
	assert.Equal(t, len(before.Accounts), len(after.Accounts), "the owner is gone, too")
}

func TestOneAtATimeAndFromElsewhere(t *testing.T) {
	ctx := context.Background()
	server, admin := start(t)
	release, held, err := admin.Lock(ctx, "yellowfield:hives")
	require.NoError(t, err)
	require.True(t, held)
	_, held, err = admin.Lock(ctx, "yellowfield:hives")
	require.NoError(t, err)
	assert.False(t, held)
	release()
	release, held, err = admin.Lock(ctx, "yellowfield:hives")
	require.NoError(t, err)
	assert.True(t, held)
	release()

	err = admin.Exec(ctx, dbms.Statement{Text: "CREATE TABLE (", Shown: "CREATE ..."})
	assert.ErrorContains(t, err, "server throwaway: syntax error")
	assert.Contains(t, fault.As(err).Next, "CREATE ...")
	for _, address := range []dbms.Address{{Socket: server.Folder + "/none"}, {Host: "127.0.0.1", Port: 1}} {
		_, err = postgres.Connect(ctx, dbms.Login{Server: "byre", Address: address, User: "x"})
		assert.ErrorContains(t, err, "server byre cannot be reached")
	}
	folder, port := dbms.Address{Socket: "/run/postgresql"}.PostgresSocket()
	assert.Equal(t, []any{"/run/postgresql", 5432}, []any{folder, port})
	folder, port = dbms.Address{Socket: "/run/postgresql/.s.PGSQL.5433"}.PostgresSocket()
	assert.Equal(t, []any{"/run/postgresql", 5433}, []any{folder, port})
}

// TestTheFirstRuleThatFitsDecides has the traps of host-based rules (PostgreSQL,
// "The pg_hba.conf File").
func TestTheFirstRuleThatFitsDecides(t *testing.T) {
	rule := func(line int, kind, databases, users, address, mask, method string) postgres.HostRule {
		return postgres.HostRule{Place: fault.Place{Line: line}, Type: kind, Databases: strings.Split(databases, ","), Users: strings.Split(users, ","), Address: address, Netmask: mask, Method: method}
	}
	socket := postgres.ClientLogin{Database: "hives", User: "comb_app", Roles: []string{"comb_app", "staff"}}
	loopback, tls := socket, socket
	loopback.From = netip.MustParseAddr("127.0.0.1")
	tls.From, tls.TLS = loopback.From, true
	for name, row := range map[string]struct {
		guest  postgres.ClientLogin
		rules  []postgres.HostRule
		line   int // of the rule that decides, 0 for none
		unsure bool
	}{
		"the first":                      {socket, []postgres.HostRule{rule(1, "local", "all", "all", "", "", "peer"), rule(2, "local", "hives", "comb_app", "", "", "md5")}, 1, false},
		"not a host line":                {socket, []postgres.HostRule{rule(1, "host", "all", "all", "all", "", "md5")}, 0, false},
		"of another database":            {socket, []postgres.HostRule{rule(1, "local", "other,replication", "all", "", "", "peer"), rule(2, "local", "other,hives", "all", "", "", "md5")}, 2, false},
		"of a role one is in":            {socket, []postgres.HostRule{rule(1, "local", "all", "staff", "", "", "peer"), rule(2, "local", "all", "+staff", "", "", "ident")}, 2, false},
		"the database of one's own name": {socket, []postgres.HostRule{rule(1, "local", "sameuser", "all", "", "", "peer"), rule(2, "local", "samerole", "all", "", "", "peer")}, 0, false},
		"a network":                      {loopback, []postgres.HostRule{rule(1, "host", "all", "all", "10.0.0.0", "255.0.0.0", "md5"), rule(2, "host", "all", "all", "127.0.0.0", "255.0.0.0", "ident")}, 2, false},
		"version 6 is another family":    {loopback, []postgres.HostRule{rule(1, "host", "all", "all", "::1", "ffff:ffff:ffff:ffff:ffff:ffff:ffff:ffff", "md5")}, 0, false},
		"with TLS only":                  {loopback, []postgres.HostRule{rule(1, "hostssl", "all", "all", "all", "", "cert"), rule(2, "hostnossl", "all", "all", "all", "", "md5")}, 2, false},
		"with TLS":                       {tls, []postgres.HostRule{rule(1, "hostnossl", "all", "all", "all", "", "md5"), rule(2, "hostssl", "all", "all", "all", "", "cert")}, 2, false},
		"a name that may be ours":        {loopback, []postgres.HostRule{rule(1, "host", "all", "all", "hive.meadowgate.example", "", "md5"), rule(2, "host", "all", "all", "samehost", "", "ident")}, 2, true},
		"a broken line is none":          {socket, []postgres.HostRule{{Place: fault.Place{Line: 1}, Error: "invalid"}, rule(2, "local", "all", "all", "", "", "md5")}, 2, false},
	} {
		found, ok, unsure := postgres.FirstMatch(row.rules, row.guest)
		assert.Equal(t, row.line, found.Place.Line, name)
		assert.Equal(t, row.line > 0, ok, name)
		assert.Equal(t, row.unsure, unsure, name)
	}
	assert.Equal(t, "host  hives  comb_app  127.0.0.1/32  scram-sha-256", (&postgres.RuleMatch{Login: loopback}).Proposal())
	assert.Equal(t, "hostssl  hives  comb_app  127.0.0.1/32  scram-sha-256", (&postgres.RuleMatch{Login: tls}).Proposal())
	// Put in by hand or by us: before the rule that decides, else at the end.
	const file = "# ours\nlocal all all peer\nlast"
	m := &postgres.RuleMatch{Login: postgres.ClientLogin{Database: "hives", User: "comb_app"}, Fits: true, Rule: postgres.HostRule{Place: fault.Place{File: "hba", Line: 2}}}
	assert.Equal(t, "# ours\nlocal  hives  comb_app  scram-sha-256\nlocal all all peer\nlast", string(m.Insert([]byte(file))))
	assert.Equal(t, "put before line 2: local  hives  comb_app  scram-sha-256; then SELECT pg_reload_conf()", m.ByHand())
	m = &postgres.RuleMatch{Login: loopback, File: "hba"}
	assert.Equal(t, file+"\nhost  hives  comb_app  127.0.0.1/32  scram-sha-256\n", string(m.Insert([]byte(file))))
	assert.Equal(t, &fault.Place{File: "hba"}, m.Place())
	assert.Contains(t, m.String(), "no host-based rule lets comb_app in from 127.0.0.1")
}

func TestAStandbyIsRefused(t *testing.T) {
	folder, err := os.MkdirTemp("/tmp", "yf-")
	require.NoError(t, err)
	defer os.RemoveAll(folder)
	primary, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.PostgreSQL, Folder: folder})
	if err != nil {
		t.Skipf("NOT TESTED: no PostgreSQL can be started: %v", err)
	}
	assert.True(t, postgres.Answers(t.Context(), primary.Socket))
	primary.Stop()
	assert.False(t, postgres.Answers(t.Context(), primary.Socket))
	require.NoError(t, os.WriteFile(filepath.Join(primary.Data(), "standby.signal"), nil, 0o644))
	standby, err := throwaway.Start(t.Context(), throwaway.Options{Product: dbms.PostgreSQL, Data: primary.Data()})
	require.NoError(t, err)
	defer standby.Stop()
	admin, err := postgres.Connect(t.Context(), standby.Login())
	require.NoError(t, err)
	defer admin.Close()
	assert.ErrorContains(t, admin.Unavailable(), "server throwaway is a standby and takes no changes")
	assert.Contains(t, fault.As(admin.Unavailable()).Next, "name the primary server")
}

func TestThePasswordFile(t *testing.T) {
	path := filepath.Join(t.TempDir(), ".pgpass")
	require.NoError(t, os.WriteFile(path, []byte("# keeper\nlocalhost:5433:*:keeper:of-the-socket\ndb.meadowgate.example:*:*:keeper:a\\:b\n"), 0o600))
	for _, row := range []struct {
		address dbms.Address
		user    string
		want    string
	}{
		{dbms.Address{Socket: "/run/postgresql/.s.PGSQL.5433"}, "keeper", "of-the-socket"},
		{dbms.Address{Socket: "/run/postgresql"}, "keeper", ""},
		{dbms.Address{Host: "db.meadowgate.example", Port: 5432}, "keeper", "a:b"},
		{dbms.Address{Host: "db.meadowgate.example", Port: 5432}, "other", ""},
	} {
		got, err := postgres.PasswordFromFile(path, dbms.Login{Address: row.address, User: row.user})
		require.NoError(t, err)
		assert.Equal(t, row.want, got.Reveal())
	}
	_, err := postgres.PasswordFromFile(path+".none", dbms.Login{})
	assert.ErrorContains(t, err, ".pgpass.none: the password file cannot be read")
	t.Setenv("HOME", t.TempDir())
	got, err := postgres.PasswordFromFile("", dbms.Login{})
	assert.NoError(t, err)
	assert.True(t, got.IsZero(), "no file is no error")
}

// TestAnOwnersSettingsAreNotTheAdministrators: what an owner has set for its database does not
// hold in the administrator's sessions there, none is refused at their start, and a look does
// not wait for what the owner keeps open.
func TestAnOwnersSettingsAreNotTheAdministrators(t *testing.T) {
	server, admin := start(t)
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	password := secret.NewPassword("owner-of-this-one")
	exec := func(statements ...dbms.Statement) { t.Helper(); require.NoError(t, admin.Exec(ctx, statements...)) }
	exec(admin.CreateAccount(dbms.Account{User: "keeper"}, admin.Verifier(dbms.Account{User: "keeper"}, password, ""), dbms.AccountOptions{}), dbms.Statement{Text: "CREATE DATABASE mine OWNER keeper"})
	login := server.Login()
	login.User, login.Password, login.Database, login.AsApplication = "keeper", password, "mine", true
	owner, err := postgres.Connect(ctx, login)
	require.NoError(t, err)
	defer owner.Close()
	held, err := owner.OpenSingle(ctx, func(string) {})
	require.NoError(t, err)
	defer held.Close()
	require.NoError(t, held.Send(ctx, "BEGIN ISOLATION LEVEL SERIALIZABLE READ WRITE NOT DEFERRABLE; SELECT count(*) FROM pg_class", func(int64) {}))
	for _, setting := range []string{"default_transaction_isolation=serializable", "default_transaction_deferrable=on", "default_transaction_read_only=on", "idle_session_timeout=1", "idle_in_transaction_session_timeout=1",
		"jit_above_cost=0", "enable_seqscan=off", "enable_hashjoin=off", "work_mem=64", "statement_timeout=1", "lock_timeout=1", "client_min_messages=error", "DateStyle='German'", "bytea_output=escape", "quote_all_identifiers=on", "TimeZone='Asia/Tokyo'"} {
		require.NoError(t, owner.Exec(ctx, dbms.Statement{Text: "ALTER DATABASE mine SET " + setting}))
	}

	fresh, err := postgres.Connect(ctx, server.Login())
	require.NoError(t, err)
	defer fresh.Close()
	const asked = "SELECT name, setting FROM pg_settings WHERE context = 'user' AND name NOT IN ('transaction_read_only', 'transaction_deferrable') ORDER BY 1"
	there, err := fresh.Look(ctx, "mine", asked)
	require.NoError(t, err)
	here, err := fresh.Look(ctx, "postgres", asked)
	require.NoError(t, err)
	assert.Equal(t, here, there)
	left, err := fresh.Look(ctx, "mine", "SELECT name FROM pg_settings WHERE source IN ('database', 'user', 'database user')")
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestALookHasAnEnd: what takes too long is given up, and the next look is answered.
func TestALookHasAnEnd(t *testing.T) {
	_, admin := start(t)
	back := postgres.SetLongestQuery(300 * time.Millisecond)
	_, err := admin.Look(t.Context(), "postgres", "SELECT pg_catalog.pg_sleep(600)")
	back()
	assert.ErrorContains(t, err, "has not answered a look at the database postgres within 300ms")
	found, err := admin.Look(t.Context(), "postgres", "SELECT 1")
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"1"}}, found)
}
