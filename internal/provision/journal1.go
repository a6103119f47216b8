package provision

import (
	"encoding/json"
	"fmt"
	"strings"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/dbms"
	"yellowfield/internal/effect"
	"yellowfield/internal/state"
)

// Journals of layout 1 had sentences in the place of effects. Here, and nowhere else, it is
// known what these were.

// asEffects gives the entries of journals with effects in all that are about one.
func asEffects(entries []state.Entry) (all []state.Entry) {
	var run []state.Entry
	end := func() {
		if len(run) > 0 && run[0].Version < 2 {
			run = fromLayout1(run)
		}
		all, run = append(all, run...), nil
	}
	for _, e := range entries {
		if e.Event == state.Begun {
			end()
		}
		run = append(run, e)
	}
	end()
	return all
}

// fromLayout1 converts the journal of one run.
func fromLayout1(run []state.Entry) (all []state.Entry) {
	numbers := map[string]int{}
	for _, e := range run {
		if e.Step == "" || e.Copy != "" || e.Note != "" {
			all = append(all, e)
			continue
		}
		key := e.Step + " " + e.Object
		if e.Event == state.Intended || numbers[key] == 0 {
			numbers[key] = len(numbers) + 1
		}
		e.Number = numbers[key]
		if e.Event == state.Intended || e.Event == state.Done {
			e.Effect = effectOfLayout1(e, run)
		}
		all = append(all, e)
	}
	return all
}

// effectOfLayout1 is what an entry was about; one of no kind for what never could be taken
// back.
func effectOfLayout1(e state.Entry, run []state.Entry) *effect.Effect {
	command := run[0].Command
	retiring := command == RetireQuietly || command == RetireBack || command == RetireDrop
	subject := func(begin string) (string, bool) { return strings.CutPrefix(e.Object, begin) }
	kept := func(path string) (copied string) {
		for _, other := range run {
			if other.Step == e.Step && other.Object == path && other.Copy != "" && copied == "" {
				copied = other.Copy
			}
		}
		return copied
	}
	if name, is := subject("database "); is && e.Step == stepDatabase {
		if retiring {
			return databaseDropped.Of(name, databaseState{Exists: true}, databaseState{})
		}
		return databaseMade.Of(name, databaseState{}, databaseState{Exists: true})
	}
	if name, is := subject("account "); is && e.Step == stepAccount {
		if retiring {
			return accountDropped.Of(name, accountState{Exists: true}, accountState{})
		}
		return accountMade.Of(name, accountState{}, accountState{Exists: true, Pending: true})
	}
	if name, is := subject("lock of "); is {
		return accountLock.Of(name, lockState{command == RetireBack}, lockState{command != RetireBack})
	}
	if name, is := subject("password of "); is {
		return passwordSet.Of(name, passwordState{}, passwordState{Begun: true})
	}
	if on, is := subject("rights of "); is && e.Before+e.After != "" {
		account, database, _ := strings.Cut(on, " on ")
		a := dbms.ParseAccount(account)
		return rightsSet.Of(on, rightsState{Account: a, Database: database, Held: privilegesOf(e.Before)}, rightsState{Account: a, Database: database, Held: privilegesOf(e.After)})
	}
	if name, is := subject("import of "); is {
		return sqlImported.Of(name, importState{}, importState{})
	}
	if path, is := subject("settings "); is && e.Step == stepSettings && !retiring && e.After != "" {
		before := fileState{Copy: kept(path)}
		if before.Absent = before.Copy == ""; !before.Absent {
			before.Digest = "of layout 1" // which had none of what was there before
		}
		return settingsWritten.Of(path, before, fileState{Digest: e.After})
	}
	if path, is := subject("owner and mode of "); is && e.Before != "" {
		before, errBefore := attributesOf(e.Before)
		after, errAfter := attributesOf(e.After)
		if errBefore == nil && errAfter == nil {
			return attributesSet.Of(path, before, after)
		}
	}
	if path, is := subject("installer "); is {
		return installerMoved.Of(path, removedState{Exists: true, Copy: kept(path)}, removedState{})
	}
	if path, is := subject("drop-in "); is {
		return dropInWritten.Of(path, contentOrNone(e.Before), contentOrNone(e.After))
	}
	if path, is := subject("folder "); is {
		return folderMade.Of(path, folderState{}, folderState{Made: []string{path}})
	}
	if strings.HasPrefix(command, "inspect") {
		var back []sentStatement
		if json.Unmarshal([]byte(e.Before), &back) == nil {
			return findingMended.Of(e.Object, back, nil)
		}
	}
	return &effect.Effect{Subject: e.Object}
}

func privilegesOf(written string) dbms.Privileges {
	if written == "" {
		return nil
	}
	return dbms.NewPrivileges(strings.Split(written, ", ")...)
}

func attributesOf(written string) (a atomicfile.Attributes, err error) {
	_, err = fmt.Sscanf(written, "%d:%d %o", &a.UID, &a.GID, &a.Mode)
	return a, err
}

func contentOrNone(written string) contentState {
	if written == "" {
		return contentState{}
	}
	return contentOf([]byte(written))
}
