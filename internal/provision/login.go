package provision

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"regexp"
	"slices"
	"strings"

	"yellowfield/internal/applogin"
	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/secret"
)

// checkLogins logs in with what each settings file says, as PHP would, and
// looks around. It is the last step of provisioning and the heart of verify.
func (r *run) checkLogins(ctx context.Context) {
	if len(r.app.Settings) == 0 || r.plan.absent {
		r.checkPendingLogin(ctx, r.app.Accounts[0], "no settings file yet")
		return
	}
	for _, s := range r.app.Settings {
		path := r.app.InFolder(s.File)
		if !r.isWritten(path) {
			r.checkPendingLogin(ctx, r.app.AccountOf(s), s.File+" is still to be written")
			continue
		}
		r.checkSettingsLogin(ctx, s, path)
	}
}

// checkPendingLogin proves the account while no settings file can be read.
func (r *run) checkPendingLogin(ctx context.Context, account *estate.Account, why string) {
	c := r.plan.credentials[account]
	missing := r.options.DryRun && r.plan.fresh // verify has named the account that is not there
	if c == nil || !c.knows() || r.plan.stuck != "" || missing {
		r.tell(Row{Step: stepLogin, Outcome: NotReached, Facts: why})
		return
	}
	login := dbms.Login{Server: r.app.Server, Address: r.addressFrom(r.facts(account, secret.Password{})), User: account.Name, Password: c.password, Database: r.app.DatabasesOf(account)[0].Name}
	if err := r.proveLogin(ctx, login); err != nil {
		r.tellUnproved(err, nil)
		return
	}
	r.tell(Row{Step: stepLogin, Outcome: Verified, Facts: fmt.Sprintf("as %s through %s; %s", account.Name, throughWhat(login.Address), why)})
}

func throughWhat(a dbms.Address) string {
	if a.Socket != "" {
		return "the socket"
	}
	return a.String()
}

// checkSettingsLogin reads the published file again from the disk and logs in
// with just what it says.
func (r *run) checkSettingsLogin(ctx context.Context, s *estate.Settings, path string) {
	has, err := r.readFacts(path, s.Values)
	if err != nil {
		r.tellFault(stepLogin, err)
		return
	}
	if has["user"] == "" { // the estate file does not say where it stands
		has["user"] = r.app.AccountOf(s).Name
	}
	if has["password"] == "" {
		r.tell(Row{Step: stepLogin, Outcome: Kept, Facts: s.File + " holds no login of its own"})
		return
	}
	wanted := r.databaseOf(s, has)
	if has["database"] == "" {
		has["database"] = wanted.Name
	}
	if !slices.ContainsFunc(s.Values, func(v estate.Value) bool { return v.Text.Uses("host") || v.Text.Uses("socket") }) {
		// The estate file does not say where the address stands.
		for _, name := range []string{"host", "port"} {
			has[name] = r.facts(r.app.AccountOf(s), secret.Password{})[name]
		}
	}
	login := dbms.Login{Server: r.app.Server, Address: r.addressFrom(has), User: has["user"],
		Password: has.Password(), Database: has["database"], Charset: has["charset"]}
	if r.view.asAdmin() && has["user"] == dbms.ParseAccount(r.view.admin.CurrentUser()).User {
		r.tell(Row{Step: stepLogin, Outcome: Differs, Severity: estate.MustFix, Place: r.placeOfFact(path, s.Values, "user"),
			Facts: s.File + " holds the account of the server's administrator", Remedy: "yellowfield provision " + r.app.Name + " --fix settings"})
		return
	}
	if other := r.otherSocket(login.Address); other != "" {
		r.tell(Row{Step: stepLogin, Outcome: Differs, Severity: estate.MustFix, Place: r.placeOfFact(path, s.Values, "host"), Facts: other, Remedy: r.waysToSocket(r.app.AccountOf(s))})
		return
	}
	answer, err := r.try(ctx, login, wanted)
	if err != nil && r.tellOtherHost(ctx, s, login, err) {
		return
	}
	if err != nil {
		r.tellRefusedLogin(ctx, s, path, login, err)
		return
	}
	seen, fine := r.lookAround(ctx, s, path, answer, login, wanted)
	if !fine {
		return
	}
	r.tell(Row{Step: stepLogin, Outcome: Verified, Facts: fmt.Sprintf("%sas %s through %s%s, %s", r.fileOf(s), login.User, throughWhat(login.Address), fromHere(login.Address), seen)})
	r.settled(login)
}

// refusedHost is the host that a server names where it refuses a login.
var refusedHost = regexp.MustCompile(`'[^']*'@'([^']*)'|Host '([^']*)'`)

// tellOtherHost says where a login cannot be tried from this host as the
// application would: its way does not lead there from here, or its account may
// come from other hosts only. What can be tried from here is: the file's user and
// password, on our own way. false: the failure is one of the application's, too.
func (r *run) tellOtherHost(ctx context.Context, s *estate.Settings, login dbms.Login, err error) bool {
	entry := r.Estate.Servers[r.app.Server]
	account := r.app.AccountOf(s)
	why := ""
	var network net.Error
	switch {
	case login.Address.Socket != "":
		return false
	case errors.As(err, &network) && entry.SeenByApps != nil && entry.SeenByApps.Host == login.Address.Host:
		why = fmt.Sprintf("%s cannot be reached from this host", login.Address)
	case dbms.CauseOf(err) == dbms.WrongLogin && entry.DBMS.Traits().HostsInAccounts:
		found := refusedHost.FindStringSubmatch(err.Error())
		if found == nil {
			return false
		}
		here := found[1] + found[2]
		if slices.ContainsFunc(account.ClientHosts, func(pattern string) bool { return dbms.HostMatches(pattern, here) }) {
			return false
		}
		why = fmt.Sprintf("the server sees this host as %s, and %s may come from %s", here, account.Name, strings.Join(account.ClientHosts, ", "))
	default:
		return false
	}
	remedy := "run yellowfield verify " + r.app.Name + " on the application's host"
	own := login
	own.Address = r.view.entry.Address()
	if r.proveLogin(ctx, own) != nil {
		r.tell(Row{Step: stepLogin, Outcome: NotReached, Facts: r.fileOf(s) + why, Remedy: remedy})
		return true
	}
	r.tell(Row{Step: stepLogin, Outcome: Verified, Facts: fmt.Sprintf("%sas %s through %s, from this host", r.fileOf(s), login.User, throughWhat(own.Address))})
	r.tell(Row{Step: stepLogin, Outcome: NotReached, Facts: "the application's own way: " + why, Remedy: remedy})
	r.settled(login)
	return true
}

// databaseOf is the database that a settings file is about, and takes what it
// says of that as has["database"]: the main one, or the one that it names alone.
func (r *run) databaseOf(s *estate.Settings, has estate.Facts) *estate.Database {
	databases := r.app.DatabasesOf(r.app.AccountOf(s))
	if has["database"] != "" || len(databases) == 0 {
		return &r.app.Database
	}
	for _, d := range databases {
		if name := has["database:"+d.Key]; name != "" {
			has["database"] = name
			return d
		}
	}
	return databases[0]
}

// tellRefusedLogin explains a refused login from both sides.
func (r *run) tellRefusedLogin(ctx context.Context, s *estate.Settings, path string, login dbms.Login, err error) {
	f := fault.As(err)
	if f.Class == fault.Differs {
		r.tellUnproved(err, r.placeOfFact(path, s.Values, "user"))
		return
	}
	row := Row{Step: stepLogin, Outcome: Failed, Facts: r.fileOf(s) + f.What, Remedy: f.Next, Place: r.placeOfFact(path, s.Values, "user")}
	var spoken *dbms.ServerError
	if errors.As(err, &spoken) {
		row.Facts = fmt.Sprintf("%sas %s through %s: %s", r.fileOf(s), login.User, throughWhat(login.Address), spoken.Error())
	}
	account := r.app.AccountOf(s)
	if met, wrong := r.hostRuleFor(ctx, account, login.Database); wrong == nil && met != nil && !met.LetsIn() {
		row.Facts, row.Place, row.Remedy = row.Facts+"; "+met.String(), met.Place(), r.byHandOrUs(met)
		r.tell(row)
		r.result.Exit = fault.Graver(r.result.Exit, f.Class.ExitCode())
		return
	}
	switch dbms.CauseOf(err) {
	case dbms.WrongLogin:
		row.Place = r.placeOfFact(path, s.Values, "password")
		row.Remedy = "yellowfield provision " + r.app.Name + " --fix server-password"
		if login.User != account.Name {
			row.Place = r.placeOfFact(path, s.Values, "user")
			row.Remedy = "yellowfield provision " + r.app.Name + " --fix settings"
		}
	case dbms.NoRightThere, dbms.NoDatabase:
		row.Place = r.placeOfFact(path, s.Values, "database")
	default:
		if dbms.IsRefusal(err) {
			break
		}
		if place := r.placeOfFact(path, s.Values, "host"); place != nil {
			row.Place = place
		}
	}
	r.tell(row)
	r.result.Exit = fault.Graver(r.result.Exit, f.Class.ExitCode())
}

// lookAround checks from inside what the application will meet, and tells what is not
// right. fine: the application can work; seen is what it finds.
func (r *run) lookAround(ctx context.Context, s *estate.Settings, path string, answer applogin.Answer, login dbms.Login, wanted *estate.Database) (seen string, fine bool) {
	session, tables := answer.State, answer.Tables
	if wrong := r.wrongSession(session, s, path, login, wanted); wrong != nil {
		r.tell(*wrong)
		return "", false
	}
	if want := wanted.Charset; login.Charset != "" && !dbms.SameCharset(session.Charset, want) {
		r.tell(Row{Step: stepLogin, Outcome: Differs, Severity: estate.ShouldLook, Finding: estate.FindingConnectionCharset, On: s.File, Place: r.placeOfFact(path, s.Values, "charset"),
			Facts: fmt.Sprintf("%s connects with %s, and the database has %s", s.File, session.Charset, want), Remedy: "yellowfield provision " + r.app.Name + " --fix settings"})
	}
	if answer.OtherCharset {
		if err := r.lookAtTables(ctx, s, login, wanted); err != nil {
			r.tellFault(stepLogin, err)
			return "", false
		}
	}
	if tables == 0 && slices.ContainsFunc(r.app.Import, func(s estate.Script) bool { return r.app.DatabaseFor(s.Into) == wanted }) {
		r.tell(Row{Step: stepLogin, Outcome: Differs, Severity: estate.MustFix,
			Facts: "the database holds no table that " + login.User + " can see", Remedy: "yellowfield provision " + r.app.Name})
		return "", false
	}
	if err := r.lookAtKeys(ctx, login); err != nil {
		r.tellFault(stepLogin, err)
		return "", false
	}
	seen = "no tables yet"
	if tables > 0 {
		seen = figures.Counted(tables, "table", "tables")
	}
	return session.Charset + ", " + seen, r.lookAtOthers(ctx, s, path, login)
}

// wrongSession says why a login that succeeded is not the one that was meant; nil where
// it is.
func (r *run) wrongSession(session dbms.SessionState, s *estate.Settings, path string, login dbms.Login, wanted *estate.Database) *Row {
	row := Row{Step: stepLogin, Outcome: Differs, Severity: estate.MustFix}
	user, _, _ := strings.Cut(session.CurrentUser, "@")
	switch {
	case session.Database != wanted.Name:
		row.Place, row.Remedy = r.placeOfFact(path, s.Values, "database"), "yellowfield provision "+r.app.Name+" --fix settings"
		row.Facts = fmt.Sprintf("%s uses the database %s, not %s", s.File, session.Database, wanted.Name)
	case user != login.User:
		row.Remedy = "remove the anonymous account on the server"
		row.Facts = fmt.Sprintf("the server took %s for %s", login.User, session.CurrentUser)
	default:
		return nil
	}
	return &row
}

// lookAtOthers makes sure that the login reaches the further databases that a
// settings file names, and that these are the right ones.
func (r *run) lookAtOthers(ctx context.Context, s *estate.Settings, path string, login dbms.Login) bool {
	has, err := r.readFacts(path, s.Values)
	for _, d := range r.app.All()[1:] {
		fact := "database:" + d.Key
		if _, named := has[fact]; err != nil || !named {
			continue
		}
		if has[fact] != d.Name {
			r.tell(Row{Step: stepLogin, Outcome: Differs, Severity: estate.MustFix, Place: r.placeOfFact(path, s.Values, fact),
				Facts: fmt.Sprintf("%s names the database %s, not %s", s.File, has[fact], d.Name), Remedy: "yellowfield provision " + r.app.Name + " --fix settings"})
			return false
		}
		login.Database = d.Name
		if err := r.proveLogin(ctx, login); err != nil {
			r.tellRefusedLogin(ctx, s, path, login, err)
			return false
		}
	}
	return true
}

// fileOf names the settings file at the head of facts where there are several.
func (r *run) fileOf(s *estate.Settings) string {
	if len(r.app.Settings) > 1 {
		return s.File + ": "
	}
	return ""
}

// lookAtTables names the tables that are not as the database is to be. It reads their rows,
// so that it goes the way to the server that the estate file gives.
func (r *run) lookAtTables(ctx context.Context, s *estate.Settings, login dbms.Login, database *estate.Database) error {
	login.Address = r.addressFrom(r.facts(r.app.AccountOf(s), login.Password))
	server, err := r.open(ctx, login)
	if err != nil {
		return err
	}
	defer server.Close()
	return r.lookAtCharsets(ctx, server, database)
}

// tellUnproved tells of a login that was not made as the application would, or that is not
// to be made. place is where a settings file says who logs in; nil for no file.
func (r *run) tellUnproved(err error, place *fault.Place) {
	var unseen *notSeen
	f := fault.As(err)
	switch {
	case errors.As(err, &unseen):
		r.tell(Row{Step: stepLogin, Outcome: NotReached, Place: place, Facts: "not seen: " + unseen.why.What, Remedy: unseen.why.Next})
		r.result.Exit = fault.Graver(r.result.Exit, fault.Differs.ExitCode()) // it is not verified
	case f.Class == fault.Differs:
		r.tell(Row{Step: stepLogin, Outcome: Differs, Severity: estate.MustFix, Place: place, Facts: f.What, Remedy: f.Next})
	default:
		r.tellFault(stepLogin, err)
	}
}

// lookAtKeys names a MySQL server whose logins over plain TCP work only for a
// while.
func (r *run) lookAtKeys(ctx context.Context, login dbms.Login) error {
	if login.Address.Encrypted() {
		return nil
	}
	lacks, err := r.view.server.LacksPasswordKey(ctx)
	if lacks {
		r.tell(Row{Step: stepLogin, Outcome: Differs, Severity: estate.MustFix,
			Facts:  fmt.Sprintf("the server has no RSA key: logins of %s over TCP end with 2006, MySQL server has gone away, after its next start", login.User),
			Remedy: "have it make its keys: caching_sha2_password_auto_generate_rsa_keys=ON, and a restart; or use TLS or the socket"})
	}
	return err
}

// fromHere says from where a login was tried, where that is not plain.
func fromHere(a dbms.Address) string {
	if ip, err := netip.ParseAddr(a.Host); a.Socket != "" || a.Host == "localhost" || err == nil && ip.IsLoopback() {
		return ""
	}
	return " from this host"
}

// settled forgets a pending password once a settings file logs in with it.
func (r *run) settled(login dbms.Login) {
	account := r.stateAccount(login.User)
	if pending, found, err := r.State.Pending(account); err == nil && found && pending.Reveal() == login.Password.Reveal() {
		if err := r.State.DropPending(account); err != nil {
			r.tellFault(stepLogin, err)
		}
	}
}
