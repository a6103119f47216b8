package provision

import (
	"context"
	"crypto/rand"
	"errors"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// endReaders logs out, and drops accounts that were made for this.
func (r *run) endReaders(ctx context.Context) {
	for _, reader := range r.readers {
		if err := reader.end(context.WithoutCancel(ctx)); err != nil {
			r.tellFault(stepAccount, err)
		}
	}
	r.readers = nil
}

// reader is a login that may read all of a database and nothing beside it: what reads rows
// and views may run the application's functions, and an administrator's rights are not for
// these.
type reader struct {
	dbms.Server
	who      string
	database string
	// end logs out, and drops an account that was made for this.
	end func(context.Context) error
}

// readerOf logs in with an account of the app that may read all of a database, else with
// one that is made for so long.
func (r *run) readerOf(ctx context.Context, d *estate.Database) (*reader, error) {
	contents := r.plan.contents[d.Name]
	if !r.view.asAdmin() { // triggers and events that are not seen could be there
		contents.Triggers, contents.Events = []dbms.Object{{}}, []dbms.Object{{}}
	}
	var why []string
	for _, account := range r.app.Accounts {
		if !slices.Contains(r.app.DatabasesOf(account), d) {
			continue
		}
		c, err := r.credentialOf(ctx, account)
		if err != nil {
			why = append(why, fault.As(err).What)
			continue
		}
		if r.plan.credentials[account] = c; !c.knows() || c.made {
			why = append(why, "the password of "+account.Name+" is not known")
			continue
		}
		login, err := r.ownLogin(ctx, account, d)
		if err != nil {
			why = append(why, fault.As(err).What)
			continue
		}
		lacks, err := login.LacksForReading(ctx, d.Name, r.view.catalogue.GrantsOf(login.CurrentUser()), contents)
		if err == nil && len(lacks) == 0 {
			return r.reads(&reader{login, "as " + account.Name, d.Name, func(context.Context) error { login.Close(); return nil }}), nil
		}
		login.Close()
		if err != nil {
			return nil, err
		}
		why = append(why, account.Name+" lacks "+some(lacks))
	}
	if !r.view.asAdmin() {
		return nil, r.Estate.Fault(fault.Invalid, "servers."+r.app.Server, "give the server an admin, who makes an account for so long; or give the account these rights",
			"no account of app %s may read all of %s: %s", r.app.Name, d.Name, strings.Join(why, "; "))
	}
	if r.options.DryRun {
		return &reader{nil, forSoLong, d.Name, func(context.Context) error { return nil }}, nil
	}
	return r.shortLived(ctx, d.Name, r.view.server.Reading(contents), "")
}

const forSoLong = "with an account that is made for so long"

// reads has a reader ended with the run.
func (r *run) reads(one *reader) *reader {
	r.readers = append(r.readers, one)
	return one
}

// shortLivedAccounts are the notes of accounts that are to be dropped again.
const shortLivedAccounts = "short-lived-accounts"

// shortLivedAccount is one with the rights that reading a database takes.
type shortLivedAccount struct {
	Server   string          `json:"server"`
	Address  string          `json:"address"` // or the cluster
	Account  dbms.Account    `json:"account"`
	Database string          `json:"database"`
	Rights   dbms.Privileges `json:"rights"`
	Scratch  string          `json:"scratch,omitempty"` // a database that was made for it
}

// scratchPrefix begins the names of databases that are dropped again.
const scratchPrefix = "yellowfield_scratch_"

// shortLived makes an account with some rights on a database, behind statements that make
// that where it is one for so long, too, and logs in with it.
func (r *run) shortLived(ctx context.Context, database string, rights dbms.Privileges, scratch string, makes ...dbms.Statement) (*reader, error) {
	a := dbms.Account{User: "yellowfield_" + strings.ToLower(rand.Text()[:12])}
	if r.view.entry.DBMS.Traits().HostsInAccounts {
		if a.Host = "%"; r.view.entry.Socket != "" {
			a.Host = "localhost"
		}
	}
	note := shortLivedAccount{r.app.Server, r.where(r.view.entry.Address()), a, database, rights, scratch}
	release, _, err := r.State.Lock(a.User) // which tells others that somebody is at work with it
	if err != nil {
		return nil, err
	}
	if err := r.State.SetNote(shortLivedAccounts, a.User, note); err != nil {
		release()
		return nil, err
	}
	drop := func(ctx context.Context) error {
		defer release()
		return r.dropShortLived(context.WithoutCancel(ctx), r.view.admin, note)
	}
	fail := func(err error) (*reader, error) {
		if left := drop(ctx); left != nil {
			r.tellFault(stepAccount, left)
		}
		return nil, err
	}
	if err := r.view.server.Exec(ctx, makes...); err != nil {
		return fail(err)
	}
	password := secret.Generate()
	verifier := r.view.server.Verifier(a, password, "")
	err = r.view.server.Exec(ctx, r.view.server.CreateAccount(a, verifier, dbms.AccountOptions{}))
	if dbms.CauseOf(err) == dbms.PolicyRefuses {
		err = r.view.server.Exec(ctx, r.view.server.CreateAccountInPlain(a, password, dbms.AccountOptions{}))
	}
	if err == nil {
		err = r.view.server.Exec(ctx, r.view.server.Grant(note.Rights, r.view.server.Pattern(database), a)...)
	}
	if err != nil {
		return fail(err)
	}
	server, err := open(ctx, r.view.entry.DBMS, dbms.Login{Server: r.app.Server, Address: r.view.entry.Address(), User: a.User, Password: password, Database: database, AsApplication: true})
	if err != nil {
		return fail(err)
	}
	return r.reads(&reader{server, forSoLong, database, func(ctx context.Context) error { server.Close(); return drop(ctx) }}), nil
}

// scratchDatabase makes one with an account that has it alone, and logs in there. Both are
// dropped when the readers end.
func (r *run) scratchDatabase(ctx context.Context, charset, collation string) (*reader, error) {
	d := dbms.Database{Name: scratchPrefix + strings.ToLower(rand.Text()[:12]), Charset: charset, Collation: collation}
	return r.shortLived(ctx, d.Name, r.view.server.Resolve([]string{dbms.LevelStructure}, dbms.Contents{}), d.Name, r.view.server.CreateDatabase(d)...)
}

func (r *run) dropShortLived(ctx context.Context, admin dbms.Server, note shortLivedAccount) error {
	_ = admin.EndSessions(ctx, note.Account) // there may be none
	if err := admin.Exec(ctx, admin.Revoke(note.Rights, admin.Pattern(note.Database), note.Account)...); err != nil && !dbms.IsRefusal(err) {
		return err // what was not granted yet is refused
	}
	if strings.HasPrefix(note.Scratch, scratchPrefix) {
		if err := admin.Exec(ctx, admin.DropDatabase(note.Scratch)...); err != nil {
			return err
		}
	}
	if err := admin.Exec(ctx, admin.DropAccount(note.Account)); err != nil {
		return err
	}
	return errors.Join(r.State.DropNote(shortLivedAccounts, note.Account.User), r.State.ForgetLock(note.Account.User))
}

// dropForgotten drops the short-lived accounts that runs have left which were killed, also on
// other servers of the estate. A command that changes nothing says so.
func (r *run) dropForgotten(ctx context.Context) error {
	names, err := r.State.Notes(shortLivedAccounts)
	for _, name := range names {
		release, held, err := r.State.Lock(name)
		if err != nil {
			return err
		}
		if !held {
			continue // it is at work
		}
		err = r.dropIfForgotten(ctx, name)
		release()
		if err != nil {
			return err
		}
	}
	return err
}

func (r *run) dropIfForgotten(ctx context.Context, name string) error {
	var note shortLivedAccount
	switch found, err := r.State.Note(shortLivedAccounts, name, &note); {
	case err != nil:
		return err
	case !found: // it was dropped meanwhile
		return r.State.ForgetLock(name)
	}
	entry := r.Estate.Servers[note.Server]
	if entry == nil || entry.Admin == nil || r.where(entry.Address()) != note.Address && !isCluster(note.Address) {
		return nil // another estate file's
	}
	what := "the account " + note.Account.String() + " on " + note.Server
	if note.Scratch != "" {
		what += ", with the database " + note.Scratch
	}
	what += ", which a run made for a while that was cut off"
	there := Row{Step: stepAccount, Outcome: Differs, Severity: estate.ShouldLook, Facts: what + ", is still there", Remedy: "yellowfield provision " + r.app.Name + " drops it"}
	if r.options.DryRun {
		r.tell(there)
		return nil
	}
	c, err := r.connect(ctx, note.Server)
	if err != nil && note.Server != r.app.Server { // which is no reason to leave this one alone
		there.Facts += ": " + fault.As(err).What
		r.tell(there)
		return nil
	}
	if err == nil && r.where(entry.Address()) != note.Address {
		return nil // another cluster's
	}
	if err == nil {
		err = r.dropShortLived(ctx, c.admin, note)
	}
	if err == nil {
		r.tell(Row{Step: stepAccount, Outcome: Fixed, Facts: "dropped " + what})
	}
	return err
}
