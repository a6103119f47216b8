package effect

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"yellowfield/internal/estate"
	"yellowfield/internal/state"
)

// Effect is one change to a server, a file or the state folder, as data: what kind of change,
// to what, what it was and what it will be. It holds no password and no verifier, only where
// one is kept.
type Effect = state.Effect

// Standing tells how the world is, seen from an effect.
type Standing int

// Standings of an effect.
const (
	Unseen      Standing = iota // it cannot be told
	NotDone                     // the world is as before it
	Done                        // the world is as the effect makes it
	Between                     // a part of it was done
	ChangedElse                 // somebody has changed it to something else
)

// Change is an effect with its data decoded.
type Change[T any] struct {
	Subject       string
	Before, After T
	// Material is what doing it takes beside the data, and what no journal may hold: a
	// password, an opened file. It is nil where another run takes the effect back.
	Material any
}

// Doing is a change while it is made.
type Doing[T any] struct {
	Change[T]
	// Touched is set as soon as something may have been changed, so that the change is undone
	// also when it fails later.
	Touched bool
	record  func(Change[T]) error
}

// Record writes the change into the journal again, as it is now. What is learned while it is
// made, and undoing it takes, is recorded before the world is touched.
func (d *Doing[T]) Record() error { return d.record(d.Change) }

// Spec says what a kind of change means. W is the world that it works on.
type Spec[W, T any] struct {
	// Do makes the change, and may give facts about what really came of it.
	Do func(w W, ctx context.Context, d *Doing[T]) (facts string, err error)
	// Undo takes the change back, whether all or a part of it was done, or nothing: it looks
	// at the world. It is nil where nothing can be taken back, or nothing has to be.
	Undo func(w W, ctx context.Context, c Change[T]) error
	// Look tells from the world alone whether the change was done; nil where that cannot be
	// seen.
	Look func(w W, ctx context.Context, c Change[T]) (Standing, error)
	// Object names the change for people; nil where the subject does.
	Object func(c Change[T]) string
	// Kept says why the change is not taken back any more once its run has ended, and what to
	// do instead; nil where Undo is for then, too.
	Kept func(w W, c Change[T]) (why, next string)
	// Irreversible changes stay, and so does everything done before them.
	Irreversible bool
	// UndoFirst runs this undo before all others: somebody is waiting for it.
	UndoFirst bool
}

// Kind is one kind of change.
type Kind[W, T any] struct {
	Name string
	spec *Spec[W, T]
}

// Kinds are all kinds of change to a world, by their names.
type Kinds[W any] struct{ byName map[string]kind[W] }

// kind is a Kind whose data is not decoded yet.
type kind[W any] interface {
	do(w W, ctx context.Context, e *Effect, material any, record func() error) (facts string, touched bool, err error)
	undo(w W, ctx context.Context, e Effect, material any) error
	look(w W, ctx context.Context, e Effect) (Standing, error)
	object(e Effect) string
	kept(w W, e Effect) (why, next string)
	traits() traits
}

// traits are what is the same for all changes of a kind.
type traits struct{ undoable, irreversible, undoFirst, defined bool }

// Define adds a kind, whose meaning is given with Means: it mostly leads to code that makes
// changes of the kind.
func Define[W, T any](kinds *Kinds[W], name string) *Kind[W, T] {
	k := &Kind[W, T]{Name: name, spec: &Spec[W, T]{}}
	if kinds.byName == nil {
		kinds.byName = map[string]kind[W]{}
	}
	if kinds.byName[name] != nil {
		panic("two kinds of effects are called " + name)
	}
	kinds.byName[name] = k
	return k
}

// Means says what a kind means.
func (k *Kind[W, T]) Means(spec Spec[W, T]) { *k.spec = spec }

// Of gives an effect of the kind. The data must be such that JSON can hold it.
func (k *Kind[W, T]) Of(subject string, before, after T) *Effect {
	e := &Effect{Kind: k.Name, Subject: subject}
	if err := encode(e, before, after); err != nil {
		panic(err) // a programming error, never caused by input
	}
	return e
}

// Change decodes an effect of the kind.
func (k *Kind[W, T]) Change(e Effect) (c Change[T], err error) {
	c.Subject = e.Subject
	for _, one := range []struct {
		from json.RawMessage
		to   *T
	}{{e.Before, &c.Before}, {e.After, &c.After}} {
		if len(one.from) == 0 {
			continue
		}
		if err := json.Unmarshal(one.from, one.to); err != nil {
			return c, fmt.Errorf("an effect of kind %s on %s: %w", k.Name, e.Subject, err)
		}
	}
	return c, nil
}

func encode[T any](e *Effect, before, after T) (err error) {
	if e.Before, err = json.Marshal(before); err == nil {
		e.After, err = json.Marshal(after)
	}
	return err
}

func (k *Kind[W, T]) do(w W, ctx context.Context, e *Effect, material any, record func() error) (facts string, touched bool, err error) {
	c, err := k.Change(*e)
	if err != nil {
		return "", false, err
	}
	c.Material = material
	d := &Doing[T]{Change: c}
	d.record = func(now Change[T]) error {
		if err := encode(e, now.Before, now.After); err != nil {
			return err
		}
		return record()
	}
	facts, err = k.spec.Do(w, ctx, d)
	if encoded := encode(e, d.Before, d.After); err == nil {
		err = encoded
	}
	return facts, d.Touched, err
}

func (k *Kind[W, T]) undo(w W, ctx context.Context, e Effect, material any) error {
	c, err := k.Change(e)
	if err != nil || k.spec.Undo == nil {
		return err
	}
	c.Material = material
	return k.spec.Undo(w, ctx, c)
}

func (k *Kind[W, T]) look(w W, ctx context.Context, e Effect) (Standing, error) {
	c, err := k.Change(e)
	if err != nil || k.spec.Look == nil {
		return Unseen, err
	}
	return k.spec.Look(w, ctx, c)
}

func (k *Kind[W, T]) object(e Effect) string {
	c, err := k.Change(e)
	if err != nil || k.spec.Object == nil {
		return e.Subject
	}
	return k.spec.Object(c)
}

func (k *Kind[W, T]) kept(w W, e Effect) (why, next string) {
	c, err := k.Change(e)
	if err != nil || k.spec.Kept == nil {
		return "", ""
	}
	return k.spec.Kept(w, c)
}

func (k *Kind[W, T]) traits() traits {
	return traits{undoable: k.spec.Undo != nil, irreversible: k.spec.Irreversible, undoFirst: k.spec.UndoFirst, defined: k.spec.Do != nil}
}

// Names of all kinds, sorted.
func (k *Kinds[W]) Names() []string { return estate.Names(k.byName) }

// Undefined are the kinds to which nobody has given a meaning.
func (k *Kinds[W]) Undefined() []string {
	return slices.DeleteFunc(k.Names(), func(name string) bool { return k.byName[name].traits().defined })
}

// Object names an effect for people.
func (k *Kinds[W]) Object(e Effect) string {
	if kind := k.byName[e.Kind]; kind != nil {
		return kind.object(e)
	}
	return e.Subject
}

// IsUndoable reports whether effects of a kind can be taken back.
func (k *Kinds[W]) IsUndoable(name string) bool {
	kind := k.byName[name]
	return kind != nil && kind.traits().undoable
}

// IsIrreversible reports whether an effect stands for good, with all before it.
func (k *Kinds[W]) IsIrreversible(name string) bool {
	kind := k.byName[name]
	return kind != nil && kind.traits().irreversible
}

// Look tells from the world alone how an effect stands.
func (k *Kinds[W]) Look(ctx context.Context, w W, e Effect) (Standing, error) {
	if kind := k.byName[e.Kind]; kind != nil {
		return kind.look(w, ctx, e)
	}
	return Unseen, nil
}

// Kept says why an effect is not taken back any more once its run has ended, and what to do
// instead; nothing where it is.
func (k *Kinds[W]) Kept(w W, e Effect) (why, next string) {
	if kind := k.byName[e.Kind]; kind != nil {
		return kind.kept(w, e)
	}
	return "", ""
}

// Undo takes an effect back that another run has made, or had begun.
func (k *Kinds[W]) Undo(w W, ctx context.Context, e Effect) error {
	if kind := k.byName[e.Kind]; kind != nil {
		return kind.undo(w, ctx, e, nil)
	}
	return fmt.Errorf("there is no kind of effect %q", e.Kind)
}
