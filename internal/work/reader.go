package work

import (
	"context"
	"errors"
	"slices"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// EndReaders logs out, and drops accounts that were made for this.
func (r *Run) EndReaders(ctx context.Context) {
	for _, reader := range r.readers {
		if err := reader.end(context.WithoutCancel(ctx)); err != nil {
			r.TellFault(StepAccount, err)
		}
	}
	r.readers = nil
}

// reader is a login that may read all of a database and nothing beside it: what reads rows
// and views may run the application's functions, and an administrator's rights are not for
// these.
type reader struct {
	dbms.Server
	Who      string
	Database string
	// end logs out, and drops an account that was made for this.
	end func(context.Context) error
}

// ReaderOf logs in with an account of the app that may read all of a database, else with
// one that is made for so long.
func (r *Run) ReaderOf(ctx context.Context, d *estate.Database) (*reader, error) {
	contents := r.Plan.Contents[d.Name]
	if !r.View.AsAdmin() { // triggers and events that are not seen could be there
		contents.Triggers, contents.Events = []dbms.Object{{}}, []dbms.Object{{}}
	}
	var why []string
	for _, account := range r.App.Accounts {
		if !slices.Contains(r.App.DatabasesOf(account), d) {
			continue
		}
		c, err := r.CredentialOf(ctx, account)
		if err != nil {
			why = append(why, fault.As(err).What)
			continue
		}
		if r.Plan.Credentials[account] = c; !c.Knows() || c.Made {
			why = append(why, "the password of "+account.Name+" is not known")
			continue
		}
		login, err := r.OwnLogin(ctx, account, d)
		if err != nil {
			why = append(why, fault.As(err).What)
			continue
		}
		lacks, err := login.LacksForReading(ctx, d.Name, r.View.Catalogue.GrantsOf(login.CurrentUser()), contents)
		if err == nil && len(lacks) == 0 {
			return r.reads(&reader{login, "as " + account.Name, d.Name, func(context.Context) error { login.Close(); return nil }}), nil
		}
		login.Close()
		if err != nil {
			return nil, err
		}
		why = append(why, account.Name+" lacks "+JoinSome(lacks))
	}
	if !r.View.AsAdmin() {
		return nil, r.Estate.Fault(fault.Invalid, "servers."+r.App.Server, "give the server an admin, who makes an account for so long; or give the account these rights",
			"no account of app %s may read all of %s: %s", r.App.Name, d.Name, strings.Join(why, "; "))
	}
	if r.Options.DryRun {
		return &reader{nil, forSoLong, d.Name, func(context.Context) error { return nil }}, nil
	}
	return r.ShortLived(ctx, d.Name, r.View.Server.Reading(contents), "")
}

const forSoLong = "with an account that is made for so long"

// reads makes a reader end with the run.
func (r *Run) reads(one *reader) *reader {
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
	App      string          `json:"app,omitempty"`
	Lock     string          `json:"lock,omitempty"` // that is held on the server while it is needed
}

// ShortLived makes an account with some rights on a database, after statements that make that
// where it is one for so long, too, and logs in with it.
func (r *Run) ShortLived(ctx context.Context, database string, rights dbms.Privileges, scratch string, makes ...dbms.Statement) (*reader, error) {
	a := r.accountThere(dbms.AccountForAWhile(r.LockThere()))
	if err := r.View.Server.Unavailable(); err != nil {
		return nil, err
	}
	note := shortLivedAccount{r.App.Server, r.Where(r.View.Entry.Address()), a, database, rights, scratch, r.App.Name, r.LockThere()}
	release, _, err := r.State.Lock(a.User) // which tells other runs that it is in use
	if err != nil {
		return nil, err
	}
	if err := r.State.SetNote(shortLivedAccounts, a.User, note); err != nil {
		release()
		return nil, err
	}
	drop := func(ctx context.Context) error {
		defer release()
		return r.dropShortLived(context.WithoutCancel(ctx), r.View.Admin, note)
	}
	fail := func(err error) (*reader, error) {
		if left := drop(ctx); left != nil {
			r.TellFault(StepAccount, left)
		}
		return nil, err
	}
	r.Result.ForAWhile = true
	if err := r.View.Server.Exec(ctx, makes...); err != nil {
		return fail(err)
	}
	password := secret.Generate()
	if err = r.makeAccount(ctx, a, password); err == nil {
		err = r.View.Server.Exec(ctx, r.View.Server.Grant(note.Rights, r.View.Server.Pattern(database), a)...)
	}
	if err != nil {
		return fail(err)
	}
	server, err := open(ctx, r.View.Entry.DBMS, dbms.Login{Server: r.App.Server, Address: r.View.Entry.Address(), User: a.User, Password: password, Database: database, AsApplication: true})
	if err != nil {
		return fail(err)
	}
	return r.reads(&reader{server, forSoLong, database, func(ctx context.Context) error { server.Close(); return drop(ctx) }}), nil
}

// accountThere is an account that this program can log in as from where it is.
func (r *Run) accountThere(user string) dbms.Account {
	a := dbms.Account{User: user}
	if r.View.Entry.DBMS.Traits().HostsInAccounts {
		if a.Host = "%"; r.View.Entry.Socket != "" {
			a.Host = "localhost"
		}
	}
	return a
}

func (r *Run) makeAccount(ctx context.Context, a dbms.Account, password secret.Password) error {
	err := r.View.Server.Exec(ctx, r.View.Server.CreateAccount(a, r.View.Server.Verifier(a, password, ""), dbms.AccountOptions{}))
	if dbms.CauseOf(err) == dbms.PolicyRefuses {
		err = r.View.Server.Exec(ctx, r.View.Server.CreateAccountInPlain(a, password, dbms.AccountOptions{}))
	}
	return err
}

// MarkOfMove is the account that says that the app is being moved to its server.
func (r *Run) MarkOfMove() dbms.Account { return r.accountThere(dbms.MarkOfMove(r.LockThere())) }

// MakeMarkOfMove makes it, with a password that nobody learns.
func (r *Run) MakeMarkOfMove(ctx context.Context) error {
	return r.makeAccount(ctx, r.MarkOfMove(), secret.Generate())
}

// ScratchDatabase makes one with an account that has it alone, and logs in there. Both are
// dropped when the readers end.
func (r *Run) ScratchDatabase(ctx context.Context, charset, collation string) (*reader, error) {
	d := dbms.Database{Name: dbms.ScratchName(r.LockThere()), Charset: charset, Collation: collation}
	return r.ShortLived(ctx, d.Name, r.View.Server.Resolve([]string{dbms.LevelStructure}, dbms.Contents{}), d.Name, r.View.Server.CreateDatabase(d)...)
}

func (r *Run) dropShortLived(ctx context.Context, admin dbms.Server, note shortLivedAccount) error {
	_ = admin.EndSessions(ctx, note.Account) // there may be none
	if err := admin.Exec(ctx, admin.Revoke(note.Rights, admin.Pattern(note.Database), note.Account)...); err != nil && !dbms.IsRefusal(err) {
		return err // a right that was not granted yet cannot be revoked
	}
	if strings.HasPrefix(note.Scratch, dbms.ScratchPrefix) {
		if err := admin.Exec(ctx, admin.DropDatabase(note.Scratch)...); err != nil {
			return err
		}
	}
	if err := admin.Exec(ctx, admin.DropAccount(note.Account)); err != nil {
		return err
	}
	return errors.Join(r.State.DropNote(shortLivedAccounts, note.Account.User), r.State.ForgetLock(note.Account.User))
}

// DropForgotten drops the short-lived accounts that runs have left which were killed, also on
// other servers of the estate. A command that changes nothing says so.
func (r *Run) DropForgotten(ctx context.Context) error {
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

func (r *Run) dropIfForgotten(ctx context.Context, name string) error {
	var note shortLivedAccount
	switch found, err := r.State.Note(shortLivedAccounts, name, &note); {
	case err != nil:
		return err
	case !found: // it was dropped meanwhile
		return r.State.ForgetLock(name)
	}
	entry := r.Estate.Servers[note.Server]
	if entry == nil || entry.Admin == nil || r.Where(entry.Address()) != note.Address && !isCluster(note.Address) {
		return nil // another estate file's
	}
	what := "the account " + note.Account.String() + " on " + note.Server
	if note.Scratch != "" {
		what += ", with the database " + note.Scratch
	}
	what += ", which a run made for a while that was cut off"
	there := Row{Step: StepAccount, Outcome: Differs, Severity: estate.ShouldLook, Facts: what + ", is still there", Remedy: "yellowfield provision " + r.App.Name + " drops it"}
	if r.Options.DryRun {
		r.Tell(there)
		return nil
	}
	c, err := r.connect(ctx, note.Server)
	if err != nil && note.Server != r.App.Server { // which is no reason to leave this one alone
		there.Facts += ": " + fault.As(err).What
		r.Tell(there)
		return nil
	}
	if err == nil && r.Where(entry.Address()) != note.Address {
		return nil // another cluster's
	}
	// The server may still be at work on a statement of the run that was killed.
	if err == nil && note.Lock != "" && (note.Server != r.App.Server || note.Lock != r.LockThere()) {
		ours := note.App == r.App.Name
		release, holder, err := r.Lock(ctx, c.Admin, note.Lock, ours)
		switch {
		case err != nil:
			return err
		case holder != nil && ours:
			there.Facts += ": " + holder.Who + " is at work there"
			r.Tell(there)
			return nil
		case holder != nil:
			return nil // who is at work there drops it
		}
		defer release()
	}
	if err == nil {
		err = r.dropShortLived(ctx, c.Admin, note)
	}
	if err == nil {
		r.Tell(Row{Step: StepAccount, Outcome: Fixed, Facts: "dropped " + what})
	}
	return err
}
