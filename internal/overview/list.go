// Package overview tells how apps and servers are, and changes nothing.
package overview

import (
	"errors"
	"io/fs"
	"math"
	"time"

	"yellowfield/internal/fault"
	"yellowfield/internal/steps"
	"yellowfield/internal/work"
)

// AppState is the stage of its life that an app is in.
type AppState string

// States of an app.
const (
	IsAbsent  AppState = "absent"  // it has no database yet
	IsWaiting AppState = "waiting" // for its installer
	IsOpen    AppState = "open"    // its accounts have the rights for installing
	IsClosed  AppState = "closed"
	IsReady   AppState = "ready" // installing and running are the same for it
	IsRetired AppState = "retired"
	IsUnknown AppState = "unknown" // the server or the folder cannot be looked at
)

// Listed is what can be told of an app without reading its scripts or logging in as it would.
type Listed struct {
	App    string   `json:"app"`
	Server string   `json:"server"`
	Labels []string `json:"labels"`
	State  AppState `json:"state"`
	// OpenUntil is when an open app was to be closed again, by reopen --for.
	OpenUntil *time.Time `json:"open_until,omitempty"`
	// Unfinished is the command of a run that was cut off, or could not take everything back.
	Unfinished string `json:"unfinished,omitempty"`
	// Verified is when verify looked at it last on this host, and VerifiedExit how that ended.
	Verified     *time.Time `json:"verified,omitempty"`
	VerifiedExit int        `json:"verified_exit"`
	// PasswordDays is the age of the oldest password of its accounts.
	PasswordDays *int `json:"password_days,omitempty"`
	// Problem says why it is not known how the app is, and Remedy what to do about that.
	Problem string `json:"problem,omitempty"`
	Remedy  string `json:"remedy,omitempty"`
}

// IsOverdue reports whether the app should have been closed by now.
func (l Listed) IsOverdue() bool { return l.OpenUntil != nil && time.Now().After(*l.OpenUntil) }

// ListApp looks at the app.
func ListApp(r *work.Run) (l Listed, err error) {
	if r.Interrupted != nil {
		l.Unfinished = r.Interrupted.Command
	}
	var moved work.MoveRecord
	if found, err := r.State.Note(work.Movements, r.NoteName(), &moved); err == nil && found && !moved.Done {
		l.Unfinished = "move"
	}
	oldest := -1.0
	for _, account := range r.App.Accounts {
		age, known, err := r.AgeOf(account)
		if err != nil {
			return l, err
		}
		if known {
			oldest = max(oldest, math.Floor(age.Hours()/24))
		}
	}
	if oldest >= 0 {
		days := int(oldest)
		l.PasswordDays = &days
	}
	r.Plan = r.EmptyPlan()
	l.State, err = appState(r)
	if l.State == IsOpen {
		until, errUntil := steps.OpenUntil(r)
		if errUntil == nil && !until.IsZero() {
			until = until.UTC()
			l.OpenUntil = &until
		}
		err = errors.Join(err, errUntil)
	}
	return l, err
}

func appState(r *work.Run) (AppState, error) {
	if r.App.Retired != "" {
		return IsRetired, nil
	}
	empty := true
	for _, d := range r.App.All() {
		if !r.Exists(d.Name) {
			return IsAbsent, nil
		}
		empty = empty && r.Plan.Contents[d.Name].Empty()
	}
	waits := empty && len(r.App.Import) == 0
	for _, s := range r.App.Settings {
		_, err := r.Attributes(r.App.InFolder(s.File))
		switch {
		case errors.Is(err, fs.ErrNotExist):
			waits = true
		case err != nil:
			return IsUnknown, fault.At(fault.Failed, fault.Place{File: r.App.InFolder(s.File)}, "run it as a user who may look there", "the settings file cannot be looked at: %v", err)
		}
	}
	hasStates := steps.PlanState(r)
	switch {
	case waits:
		return IsWaiting, nil
	case !hasStates:
		return IsReady, nil
	case r.Plan.Open:
		return IsOpen, nil
	}
	return IsClosed, nil
}
