// Package proof logs in as the application would, with what its settings files say, and tells
// what it meets.
//
// It must never change anything on a server or in a file of the application.
package proof

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
	"yellowfield/internal/content"
	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/figures"
	"yellowfield/internal/secret"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// CheckLogins logs in with what each settings file says, as PHP would, and
// looks around. It is the last step of provisioning and the heart of verify.
func CheckLogins(r *work.Run, ctx context.Context) {
	if len(r.App.Settings) == 0 || r.Plan.Absent {
		checkPendingLogin(r, ctx, r.App.Accounts[0], "no settings file yet")
		return
	}
	for _, s := range r.App.Settings {
		path := r.App.InFolder(s.File)
		if !r.IsWritten(path) {
			checkPendingLogin(r, ctx, r.App.AccountOf(s), s.File+" is still to be written")
			continue
		}
		CheckSettingsLogin(r, ctx, s, path)
	}
}

// checkPendingLogin proves the account while no settings file can be read.
func checkPendingLogin(r *work.Run, ctx context.Context, account *estate.Account, why string) {
	c := r.Plan.Credentials[account]
	missing := r.Options.DryRun && r.Plan.Fresh // verify has named the account that is not there
	if c == nil || !c.Knows() || r.Plan.LoginBlocked != "" || missing {
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.NotReached, Facts: why})
		return
	}
	login := dbms.Login{Server: r.App.Server, Address: r.AddressFrom(r.Facts(account, secret.Password{})), User: account.Name, Password: c.Password, Database: r.App.DatabasesOf(account)[0].Name}
	if err := r.ProveLogin(ctx, login); err != nil {
		tellUnproved(r, err, nil)
		return
	}
	r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Verified, Facts: fmt.Sprintf("as %s through %s; %s", account.Name, ThroughWhat(login.Address), why)})
}

func ThroughWhat(a dbms.Address) string {
	if a.Socket != "" {
		return "the socket"
	}
	return a.String()
}

// CheckSettingsLogin reads the published file again from the disk and logs in
// with just what it says.
func CheckSettingsLogin(r *work.Run, ctx context.Context, s *estate.Settings, path string) {
	has, err := r.ReadFacts(path, s.Values)
	if err != nil {
		r.TellFault(work.StepLogin, err)
		return
	}
	if has["user"] == "" { // the estate file does not say where it stands
		has["user"] = r.App.AccountOf(s).Name
	}
	if has["password"] == "" {
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Kept, Facts: s.File + " holds no login of its own"})
		return
	}
	wanted := databaseOf(r, s, has)
	if has["database"] == "" {
		has["database"] = wanted.Name
	}
	if !slices.ContainsFunc(s.Values, func(v estate.Value) bool { return v.Text.Uses("host") || v.Text.Uses("socket") }) {
		// The estate file does not say where the address stands.
		for _, name := range []string{"host", "port"} {
			has[name] = r.Facts(r.App.AccountOf(s), secret.Password{})[name]
		}
	}
	login := dbms.Login{Server: r.App.Server, Address: r.AddressFrom(has), User: has["user"],
		Password: has.Password(), Database: has["database"], Charset: has["charset"]}
	if r.View.AsAdmin() && has["user"] == dbms.ParseAccount(r.View.Admin.CurrentUser()).User {
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Differs, Severity: estate.MustFix, Place: r.PlaceOfFact(path, s.Values, "user"),
			Facts: s.File + " holds the account of the server's administrator", Remedy: "yellowfield provision " + r.App.Name + " --fix settings"})
		return
	}
	if other := r.OtherSocket(login.Address); other != "" {
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Differs, Severity: estate.MustFix, Place: r.PlaceOfFact(path, s.Values, "host"), Facts: other, Remedy: r.WaysToSocket(r.App.AccountOf(s))})
		return
	}
	answer, err := r.Try(ctx, login, wanted)
	if err != nil && TellOtherHost(r, ctx, s, login, err) {
		return
	}
	if err != nil {
		tellRefusedLogin(r, ctx, s, path, login, err)
		return
	}
	seen, fine := lookAround(r, ctx, s, path, answer, login, wanted)
	if !fine {
		return
	}
	r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Verified, Facts: fmt.Sprintf("%sas %s through %s%s, %s", fileOf(r, s), login.User, ThroughWhat(login.Address), fromHere(login.Address), seen)})
	settled(r, login)
}

// refusedHost is the host that a server names where it refuses a login.
var refusedHost = regexp.MustCompile(`'[^']*'@'([^']*)'|Host '([^']*)'`)

// TellOtherHost says where a login cannot be tried from this host as the
// application would: its way does not lead there from here, or its account may
// come from other hosts only. What can be tried from here is: the file's user and
// password, on our own way. false: the failure is one of the application's, too.
func TellOtherHost(r *work.Run, ctx context.Context, s *estate.Settings, login dbms.Login, err error) bool {
	entry := r.Estate.Servers[r.App.Server]
	account := r.App.AccountOf(s)
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
	remedy := "run yellowfield verify " + r.App.Name + " on the application's host"
	own := login
	own.Address = r.View.Entry.Address()
	if r.ProveLogin(ctx, own) != nil {
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.NotReached, Facts: fileOf(r, s) + why, Remedy: remedy})
		return true
	}
	r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Verified, Facts: fmt.Sprintf("%sas %s through %s, from this host", fileOf(r, s), login.User, ThroughWhat(own.Address))})
	r.Tell(work.Row{Step: work.StepLogin, Outcome: work.NotReached, Facts: "the application's own way: " + why, Remedy: remedy})
	settled(r, login)
	return true
}

// databaseOf is the database that a settings file is about, and takes what it
// says of that as has["database"]: the main one, or the one that it names alone.
func databaseOf(r *work.Run, s *estate.Settings, has estate.Facts) *estate.Database {
	databases := r.App.DatabasesOf(r.App.AccountOf(s))
	if has["database"] != "" || len(databases) == 0 {
		return &r.App.Database
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
func tellRefusedLogin(r *work.Run, ctx context.Context, s *estate.Settings, path string, login dbms.Login, err error) {
	f := fault.As(err)
	if f.Class == fault.Differs {
		tellUnproved(r, err, r.PlaceOfFact(path, s.Values, "user"))
		return
	}
	row := work.Row{Step: work.StepLogin, Outcome: work.Failed, Facts: fileOf(r, s) + f.What, Remedy: f.Next, Place: r.PlaceOfFact(path, s.Values, "user")}
	var spoken *dbms.ServerError
	if errors.As(err, &spoken) {
		row.Facts = fmt.Sprintf("%sas %s through %s: %s", fileOf(r, s), login.User, ThroughWhat(login.Address), spoken.Error())
	}
	account := r.App.AccountOf(s)
	if met, wrong := steps.HostRuleFor(r, ctx, account, login.Database); wrong == nil && met != nil && !met.LetsIn() {
		row.Facts, row.Place, row.Remedy = row.Facts+"; "+met.String(), met.Place(), steps.ByHandOrUs(r, met)
		r.Tell(row)
		r.Result.Exit = fault.Graver(r.Result.Exit, f.Class.ExitCode())
		return
	}
	switch dbms.CauseOf(err) {
	case dbms.WrongLogin:
		row.Place = r.PlaceOfFact(path, s.Values, "password")
		row.Remedy = "yellowfield provision " + r.App.Name + " --fix server-password"
		if login.User != account.Name {
			row.Place = r.PlaceOfFact(path, s.Values, "user")
			row.Remedy = "yellowfield provision " + r.App.Name + " --fix settings"
		}
	case dbms.NoRightThere, dbms.NoDatabase:
		row.Place = r.PlaceOfFact(path, s.Values, "database")
	default:
		if dbms.IsRefusal(err) {
			break
		}
		if place := r.PlaceOfFact(path, s.Values, "host"); place != nil {
			row.Place = place
		}
	}
	r.Tell(row)
	r.Result.Exit = fault.Graver(r.Result.Exit, f.Class.ExitCode())
}

// lookAround checks from inside what the application will meet, and tells what is not
// right. fine: the application can work; seen is what it finds.
func lookAround(r *work.Run, ctx context.Context, s *estate.Settings, path string, answer applogin.Answer, login dbms.Login, wanted *estate.Database) (seen string, fine bool) {
	session, tables := answer.State, answer.Tables
	if wrong := wrongSession(r, session, s, path, login, wanted); wrong != nil {
		r.Tell(*wrong)
		return "", false
	}
	if want := wanted.Charset; login.Charset != "" && !dbms.SameCharset(session.Charset, want) {
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Differs, Severity: estate.ShouldLook, Finding: estate.FindingConnectionCharset, On: s.File, Place: r.PlaceOfFact(path, s.Values, "charset"),
			Facts: fmt.Sprintf("%s connects with %s, and the database has %s", s.File, session.Charset, want), Remedy: "yellowfield provision " + r.App.Name + " --fix settings"})
	}
	if answer.OtherCharset {
		if err := lookAtTables(r, ctx, s, login, wanted); err != nil {
			r.TellFault(work.StepLogin, err)
			return "", false
		}
	}
	if tables == 0 && slices.ContainsFunc(r.App.Import, func(s estate.Script) bool { return r.App.DatabaseFor(s.Into) == wanted }) {
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Differs, Severity: estate.MustFix,
			Facts: "the database holds no table that " + login.User + " can see", Remedy: "yellowfield provision " + r.App.Name})
		return "", false
	}
	if err := lookAtKeys(r, ctx, login); err != nil {
		r.TellFault(work.StepLogin, err)
		return "", false
	}
	seen = "no tables yet"
	if tables > 0 {
		seen = figures.Counted(tables, "table", "tables")
	}
	return session.Charset + ", " + seen, lookAtOthers(r, ctx, s, path, login)
}

// wrongSession says why a login that succeeded is not the one that was meant; nil where
// it is.
func wrongSession(r *work.Run, session dbms.SessionState, s *estate.Settings, path string, login dbms.Login, wanted *estate.Database) *work.Row {
	row := work.Row{Step: work.StepLogin, Outcome: work.Differs, Severity: estate.MustFix}
	user, _, _ := strings.Cut(session.CurrentUser, "@")
	switch {
	case session.Database != wanted.Name:
		row.Place, row.Remedy = r.PlaceOfFact(path, s.Values, "database"), "yellowfield provision "+r.App.Name+" --fix settings"
		row.Facts = fmt.Sprintf("%s uses the database %s, not %s", s.File, session.Database, wanted.Name)
	case user != login.User:
		row.Remedy = "remove the anonymous account on the server"
		row.Facts = fmt.Sprintf("the server took %s for %s", login.User, session.CurrentUser)
	case session.ReadOnly != "" && writes(r.App.AccountOf(s)):
		row.Remedy = "point the estate file at the server that takes writes, or have this one take them"
		row.Facts = fmt.Sprintf("%s logs in and cannot write: %s", login.User, session.ReadOnly)
	default:
		return nil
	}
	return &row
}

// writes reports whether an account is to change rows.
func writes(account *estate.Account) bool {
	return slices.ContainsFunc(account.Rights.Running, func(word string) bool { return word != dbms.LevelRead && !strings.EqualFold(word, "SELECT") })
}

// lookAtOthers makes sure that the login reaches the further databases that a
// settings file names, and that these are the right ones.
func lookAtOthers(r *work.Run, ctx context.Context, s *estate.Settings, path string, login dbms.Login) bool {
	has, err := r.ReadFacts(path, s.Values)
	for _, d := range r.App.All()[1:] {
		fact := "database:" + d.Key
		if _, named := has[fact]; err != nil || !named {
			continue
		}
		if has[fact] != d.Name {
			r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Differs, Severity: estate.MustFix, Place: r.PlaceOfFact(path, s.Values, fact),
				Facts: fmt.Sprintf("%s names the database %s, not %s", s.File, has[fact], d.Name), Remedy: "yellowfield provision " + r.App.Name + " --fix settings"})
			return false
		}
		login.Database = d.Name
		if err := r.ProveLogin(ctx, login); err != nil {
			tellRefusedLogin(r, ctx, s, path, login, err)
			return false
		}
	}
	return true
}

// fileOf names the settings file at the head of facts where there are several.
func fileOf(r *work.Run, s *estate.Settings) string {
	if len(r.App.Settings) > 1 {
		return s.File + ": "
	}
	return ""
}

// lookAtTables names the tables that are not as the database is to be. It reads their rows,
// so that it goes the way to the server that the estate file gives.
func lookAtTables(r *work.Run, ctx context.Context, s *estate.Settings, login dbms.Login, database *estate.Database) error {
	login.Address = r.AddressFrom(r.Facts(r.App.AccountOf(s), login.Password))
	server, err := r.Open(ctx, login)
	if err != nil {
		return err
	}
	defer server.Close()
	return content.LookAtCharsets(r, ctx, server, database)
}

// tellUnproved tells of a login that was not made as the application would, or that is not
// to be made. place is where a settings file says who logs in; nil for no file.
func tellUnproved(r *work.Run, err error, place *fault.Place) {
	var unseen *work.NotSeen
	f := fault.As(err)
	switch {
	case errors.As(err, &unseen):
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.NotReached, Place: place, Facts: "not seen: " + unseen.Why.What, Remedy: unseen.Why.Next})
		r.Result.Exit = fault.Graver(r.Result.Exit, fault.Differs.ExitCode()) // it is not verified
	case f.Class == fault.Differs:
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Differs, Severity: estate.MustFix, Place: place, Facts: f.What, Remedy: f.Next})
	default:
		r.TellFault(work.StepLogin, err)
	}
}

// lookAtKeys names a MySQL server whose logins over plain TCP work only for a
// while.
func lookAtKeys(r *work.Run, ctx context.Context, login dbms.Login) error {
	if login.Address.Encrypted() {
		return nil
	}
	lacks, err := r.View.Server.LacksPasswordKey(ctx)
	if lacks {
		r.Tell(work.Row{Step: work.StepLogin, Outcome: work.Differs, Severity: estate.MustFix,
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
func settled(r *work.Run, login dbms.Login) {
	account := r.StateAccount(login.User)
	if pending, found, err := r.State.Pending(account); err == nil && found && pending.Reveal() == login.Password.Reveal() {
		if err := r.State.DropPending(account); err != nil {
			r.TellFault(work.StepLogin, err)
		}
	}
}
