package provision

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
)

// kinds are all kinds of change that work on an app can make. What each means stands where
// it is planned.
var kinds effect.Kinds[*run]

// proof is something to do that changes nothing which could be taken back: a login, a wait, a
// command, the end of a note.
type proof func(context.Context) (facts string, err error)

// Kinds of change, see init.
var (
	noteSet   = effect.Define[*run, noteState](&kinds, "note")
	proofMade = effect.Define[*run, struct{}](&kinds, "proof")
)

func init() {
	proofMade.Means(effect.Spec[*run, struct{}]{
		Do: func(_ *run, ctx context.Context, d *effect.Doing[struct{}]) (string, error) {
			return d.Material.(proof)(ctx)
		},
	})
	noteSet.Means(effect.Spec[*run, noteState]{
		Object: func(c effect.Change[noteState]) string { return c.After.About },
		Do: func(r *run, _ context.Context, d *effect.Doing[noteState]) (string, error) {
			d.Touched = true
			return "", r.setNote(d.After)
		},
		Undo: func(r *run, _ context.Context, c effect.Change[noteState]) error { return r.setNote(c.Before) },
		Look: func(r *run, _ context.Context, c effect.Change[noteState]) (effect.Standing, error) {
			var now json.RawMessage
			_, err := r.State.Note(c.Before.Kind, c.Before.Name, &now)
			switch {
			case err != nil:
				return effect.Unseen, err
			case bytes.Equal(now, c.Before.Note):
				return effect.NotDone, nil
			case bytes.Equal(now, c.After.Note):
				return effect.Done, nil
			}
			return effect.ChangedElse, nil
		},
	})
}

// noteState is a note in the state folder; none of these has a secret in it.
type noteState struct {
	Kind  string          `json:"kind"`
	Name  string          `json:"name"`
	Note  json.RawMessage `json:"note,omitempty"` // nothing for no note
	About string          `json:"about,omitempty"`
}

func (r *run) setNote(n noteState) error {
	if len(n.Note) == 0 {
		return r.State.DropNote(n.Kind, n.Name)
	}
	return r.State.SetNote(n.Kind, n.Name, n.Note)
}

// planNote has a note written, or dropped for nil; about is what it is called for people.
func (r *run) planNote(row Row, kind, name, about string, note any) (*step, error) {
	before, after := noteState{Kind: kind, Name: name}, noteState{Kind: kind, Name: name, About: about}
	if _, err := r.State.Note(kind, name, &before.Note); err != nil {
		return nil, err
	}
	if note != nil {
		content, err := json.Marshal(note)
		if err != nil {
			return nil, err
		}
		after.Note = content
	}
	s := r.plan.change(row, noteSet.Of(kind+" "+name, before, after), nil)
	s.silent = row.Outcome == ""
	return s, nil
}

// now reads what the server holds of the app at this moment: what was read when the run began
// is older than what is taken back.
func (r *run) now(ctx context.Context) (*dbms.Catalogue, error) {
	if !r.view.asAdmin() {
		return r.view.server.ReadCatalogue(ctx, false, r.databaseNames())
	}
	var users []string
	for _, account := range r.app.Accounts {
		users = append(users, account.Name)
	}
	return r.view.server.Reread(ctx, r.view.catalogue, r.databaseNames(), users)
}

// fileState is a file as an effect has it.
type fileState struct {
	Absent     bool                   `json:"absent,omitempty"`
	Digest     string                 `json:"digest,omitempty"` // of its content
	Copy       string                 `json:"copy,omitempty"`   // where that is kept
	Attributes *atomicfile.Attributes `json:"attributes,omitempty"`
	App        string                 `json:"app,omitempty"` // whose it is
	For        string                 `json:"for,omitempty"` // the account that a rule is for
}

// digest tells contents apart in the journal, which holds none.
func digest(content []byte) string {
	sum := sha256.Sum256(content)
	return hex.EncodeToString(sum[:])
}

func fileWith(content []byte) fileState { return fileState{Digest: digest(content)} }

// is reports whether a file that was read is in the state.
func (s fileState) is(content []byte, absent bool) bool {
	return s.Absent && absent || !s.Absent && !absent && s.Digest == digest(content)
}

// standingOf tells how a file stands that was read with an error or without.
func standingOf(before, after fileState, content []byte, err error) (effect.Standing, error) {
	absent := errors.Is(err, fs.ErrNotExist)
	switch {
	case err != nil && !absent:
		return effect.Unseen, err
	case before.is(content, absent):
		return effect.NotDone, nil
	case after.is(content, absent):
		return effect.Done, nil
	}
	return effect.ChangedElse, nil
}

// lookAtFile tells how a file of the app stands.
func (r *run) lookAtFile(_ context.Context, c effect.Change[fileState]) (effect.Standing, error) {
	content, err := r.ownerOf(c.After).read(c.Subject)
	return standingOf(c.Before, c.After, content, err)
}

// ownerOf is the work on the app whose a file is.
func (r *run) ownerOf(s fileState) *run {
	if app := r.Estate.Apps[s.App]; s.App != "" && s.App != r.app.Name && app != nil {
		return r.other(app)
	}
	return r
}

// restoreFile puts a file back as it was, byte for byte, or removes one that was not there. A
// file that someone changed in the meantime is left alone.
func (r *run) restoreFile(files *host.Folder, c effect.Change[fileState]) error {
	now, err := files.Read(c.Subject)
	standing, err := standingOf(c.Before, c.After, now, err)
	switch {
	case err != nil:
		return err
	case standing == effect.NotDone:
		return nil
	case standing != effect.Done:
		return changedSince(c.Subject, c.Before.Copy)
	}
	// What is taken away may be of use to somebody. This run keeps it already where it has
	// written it itself.
	if kept := r.journal.CopyOf(c.Subject); !c.After.Absent && kept != c.Before.Copy && c.Material == nil {
		if _, err := r.journal.KeepCopy(c.Subject, now); err != nil {
			return err
		}
	}
	if c.Before.Absent {
		return files.Remove(c.Subject)
	}
	old, err := r.State.Copy(c.Before.Copy)
	if err != nil {
		return err
	}
	attributes := c.Before.Attributes
	if attributes == nil {
		has, err := files.Attributes(c.Subject)
		if err != nil {
			return err
		}
		attributes = &has
	}
	return files.Write(c.Subject, old, *attributes)
}

// changedSince is the fault of a file that somebody has changed since a run has written it.
func changedSince(path, kept string) error {
	next := "look at it, and change it by hand"
	if kept != "" {
		next = "the old content is kept in " + kept
	}
	return fault.At(fault.Protected, fault.Place{File: path}, next, "the file was changed by someone else in the meantime")
}

// sentStatement is a statement in the journal; none of them holds a secret.
type sentStatement struct {
	Database string `json:"database,omitempty"`
	Text     string `json:"text"`
}

func writeStatements(statements []dbms.Statement) []sentStatement {
	all := []sentStatement{}
	for _, s := range statements {
		all = append(all, sentStatement{s.Database, s.Text})
	}
	return all
}

func readStatements(written []sentStatement) (all []dbms.Statement) {
	for _, s := range written {
		all = append(all, dbms.Statement{Text: s.Text, Database: s.Database})
	}
	return all
}

// wasChanged refuses to take back what is not as a run has left it.
func wasChanged(what, has, left string) error {
	return fault.New(fault.Protected, "look at it, and change it by hand", "%s was changed since: it is %s, and the run has left %s", what, has, left)
}

// outOfUse is why what retire does is not taken back by its journal.
func (r *run) outOfUse() (why, next string) {
	return "the run has taken the app out of use, or brought it back", fmt.Sprintf("yellowfield retire %[1]s --back, or yellowfield retire %[1]s", r.app.Name)
}

// other is the work on another app, in the middle of the one on this.
func (r *run) other(app *estate.App) *run {
	if app == r.app {
		return r
	}
	if r.others[app] == nil {
		quiet := *r.Base
		quiet.Listener = Listener{}
		if r.others == nil {
			r.others = map[*estate.App]*run{}
		}
		r.others[app] = &run{Base: &quiet, app: app, options: r.options, view: r.view}
	}
	r.others[app].plan, r.others[app].journal = r.plan, r.journal
	return r.others[app]
}

// What a database's making, and an import, are no more taken back for once a run has ended.
const (
	filled     = "the run has made or filled a database, and the application may have stored something since"
	dropByHand = "drop by hand what nobody needs"
)
