package work

import (
	"bytes"
	"context"
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

// Kinds are all kinds of change that work on an app can make. What each means stands where
// it is planned.
var Kinds effect.Kinds[*Run]

// Proof is a step that changes nothing that could be undone: a login, a wait, a command, the
// end of a note.
type Proof func(context.Context) (facts string, err error)

// Kinds of change, see init.
var (
	NoteSet   = effect.Define[*Run, noteState](&Kinds, "note")
	proofMade = effect.Define[*Run, struct{}](&Kinds, "proof")
)

func init() {
	proofMade.Means(effect.Spec[*Run, struct{}]{
		Do: func(_ *Run, ctx context.Context, d *effect.Doing[struct{}]) (string, error) {
			return d.Material.(Proof)(ctx)
		},
	})
	NoteSet.Means(effect.Spec[*Run, noteState]{
		Object: func(c effect.Change[noteState]) string { return c.After.About },
		Do: func(r *Run, _ context.Context, d *effect.Doing[noteState]) (string, error) {
			d.Touched = true
			return "", r.setNote(d.After)
		},
		Undo: func(r *Run, _ context.Context, c effect.Change[noteState]) error { return r.setNote(c.Before) },
		Look: func(r *Run, _ context.Context, c effect.Change[noteState]) (effect.Standing, error) {
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

func (r *Run) setNote(n noteState) error {
	if len(n.Note) == 0 {
		return r.State.DropNote(n.Kind, n.Name)
	}
	return r.State.SetNote(n.Kind, n.Name, n.Note)
}

// PlanNote has a note written, or dropped for nil; about is what it is called for people.
func (r *Run) PlanNote(row Row, kind, name, about string, note any) (*Step, error) {
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
	s := r.Plan.Change(row, NoteSet.Of(kind+" "+name, before, after), nil)
	s.Silent = row.Outcome == ""
	return s, nil
}

// Now reads what the server holds of the app at this moment: what was read when the run began
// is older than what is taken back.
func (r *Run) Now(ctx context.Context) (*dbms.Catalogue, error) {
	if !r.View.AsAdmin() {
		return r.View.Server.ReadCatalogue(ctx, false, r.DatabaseNames())
	}
	var users []string
	for _, account := range r.App.Accounts {
		users = append(users, account.Name)
	}
	return r.View.Server.Reread(ctx, r.View.Catalogue, r.DatabaseNames(), users)
}

// FileState is a file as an effect has it.
type FileState struct {
	Absent     bool                   `json:"absent,omitempty"`
	Digest     string                 `json:"digest,omitempty"` // of its content
	Copy       string                 `json:"copy,omitempty"`   // where that is kept
	Attributes *atomicfile.Attributes `json:"attributes,omitempty"`
	App        string                 `json:"app,omitempty"` // whose it is
	For        string                 `json:"for,omitempty"` // the account that a rule is for
}

func FileWith(content []byte) FileState { return FileState{Digest: atomicfile.Digest(content)} }

// is reports whether a file that was read is in the state.
func (s FileState) is(content []byte, absent bool) bool {
	return s.Absent && absent || !s.Absent && !absent && s.Digest == atomicfile.Digest(content)
}

// StandingOf tells how a file stands that was read with an error or without.
func StandingOf(before, after FileState, content []byte, err error) (effect.Standing, error) {
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

// LookAtFile tells how a file of the app stands.
func (r *Run) LookAtFile(_ context.Context, c effect.Change[FileState]) (effect.Standing, error) {
	content, err := r.OwnerOf(c.After).Read(c.Subject)
	return StandingOf(c.Before, c.After, content, err)
}

// OwnerOf is the work on the app that a file belongs to.
func (r *Run) OwnerOf(s FileState) *Run {
	if app := r.Estate.Apps[s.App]; s.App != "" && s.App != r.App.Name && app != nil {
		return r.RunFor(app)
	}
	return r
}

// RestoreFile puts a file back as it was, byte for byte, or removes one that was not there. A
// file that someone changed in the meantime is left alone.
func (r *Run) RestoreFile(files *host.Folder, c effect.Change[FileState]) error {
	now, err := files.Read(c.Subject)
	standing, err := StandingOf(c.Before, c.After, now, err)
	switch {
	case err != nil:
		return err
	case standing == effect.NotDone:
		return nil
	case standing != effect.Done:
		return ChangedSince(c.Subject, c.Before.Copy)
	}
	// What is removed may be of use to somebody. Where this run has written the file itself,
	// it has kept the old content already.
	if kept := r.Journal.CopyOf(c.Subject); !c.After.Absent && kept != c.Before.Copy && c.Material == nil {
		if _, err := r.Journal.KeepCopy(c.Subject, now); err != nil {
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

// ChangedSince is the fault of a file that somebody has changed since a run has written it.
func ChangedSince(path, kept string) error {
	next := "look at it, and change it by hand"
	if kept != "" {
		next = "the old content is kept in " + kept
	}
	return fault.At(fault.Protected, fault.Place{File: path}, next, "the file was changed by someone else in the meantime")
}

// SentStatement is a statement in the journal; none of them holds a secret.
type SentStatement struct {
	Database string `json:"database,omitempty"`
	Text     string `json:"text"`
}

func WriteStatements(statements []dbms.Statement) []SentStatement {
	all := []SentStatement{}
	for _, s := range statements {
		all = append(all, SentStatement{s.Database, s.Text})
	}
	return all
}

func ReadStatements(written []SentStatement) (all []dbms.Statement) {
	for _, s := range written {
		all = append(all, dbms.Statement{Text: s.Text, Database: s.Database})
	}
	return all
}

// ErrChangedSince refuses to take back what is not as a run has left it.
func ErrChangedSince(what, has, left string) error {
	return fault.New(fault.Protected, "look at it, and change it by hand", "%s was changed since: it is %s, and the run has left %s", what, has, left)
}

// OutOfUse is why what retire does is not taken back by its journal.
func (r *Run) OutOfUse() (why, next string) {
	return "the run has taken the app out of use, or brought it back", fmt.Sprintf("yellowfield retire %[1]s --back, or yellowfield retire %[1]s", r.App.Name)
}

// RunFor is the work on another app, in the middle of the one on this.
func (r *Run) RunFor(app *estate.App) *Run {
	if app == r.App {
		return r
	}
	if r.Others[app] == nil {
		quiet := *r.Engine
		quiet.Listener = Listener{}
		if r.Others == nil {
			r.Others = map[*estate.App]*Run{}
		}
		r.Others[app] = NewRun(&quiet, app, r.Options)
		r.Others[app].View = r.View
	}
	r.Others[app].Plan, r.Others[app].Journal = r.Plan, r.Journal
	return r.Others[app]
}

// Why making a database and an import are not undone once a run has ended.
const (
	Filled     = "the run has made or filled a database, and the application may have stored something since"
	DropByHand = "drop by hand what nobody needs"
)
