package effect

import (
	"encoding/json"
	"fmt"
	"strings"

	"yellowfield/internal/state"
)

// Journals of layout 1 had sentences instead of effects. This file, and no other, knows what
// they were.

// Converted gives the entries of journals with effects in all that are about one.
func Converted(entries []state.Entry) (all []state.Entry) {
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
	numbers, last := map[string]int{}, 0
	for _, e := range run {
		if e.Step == "" || e.Copy != "" || e.Note != "" {
			all = append(all, e)
			continue
		}
		key := e.Step + " " + e.Object
		if e.Event == state.Intended || numbers[key] == 0 {
			last++
			numbers[key] = last
		}
		e.Number = numbers[key]
		if e.Event == state.Intended || e.Event == state.Done {
			e.Effect = effectOfLayout1(e, run)
		}
		all = append(all, e)
	}
	return all
}

// data is what an effect was before or after, by the names that JSON has for it.
type data map[string]any

func of(kind, subject string, before, after any) *Effect {
	e := &Effect{Kind: kind, Subject: subject}
	if err := encode(e, before, after); err != nil {
		return &Effect{Subject: subject}
	}
	return e
}

// effectOfLayout1 is what an entry was about; one of no kind for what never could be taken
// back.
func effectOfLayout1(e state.Entry, run []state.Entry) *Effect {
	command := run[0].Command
	back := command == "retire --back"
	retiring := command == "retire" || back || command == "retire --drop-database"
	exists, absent := data{"exists": true}, data{"exists": false}
	word, rest, _ := strings.Cut(e.Object, " ")
	_, behind, _ := strings.Cut(e.Object, " of ")
	switch {
	case strings.HasPrefix(command, "inspect"):
		return of("finding", e.Object, json.RawMessage(e.Before), nil)
	case e.Step == "database" && word == "database" && retiring:
		return of("database-dropped", rest, exists, absent)
	case e.Step == "database" && word == "database":
		return of("database", rest, absent, exists)
	case e.Step == "account" && word == "account" && retiring:
		return of("account-dropped", rest, exists, absent)
	case e.Step == "account" && word == "account":
		return of("account", rest, absent, data{"exists": true, "pending": true})
	case word == "lock":
		return of("account-lock", behind, data{"locked": back}, data{"locked": !back})
	case word == "password":
		return of("password", behind, data{}, data{"begun": true})
	case word == "rights" && e.Before+e.After != "":
		user, database, _ := strings.Cut(behind, " on ")
		name, host, _ := strings.Cut(user, "@")
		account := data{"User": name, "Host": host}
		return of("rights", behind, data{"account": account, "database": database, "held": listOf(e.Before)}, data{"account": account, "database": database, "held": listOf(e.After)})
	case word == "import":
		return of("import", behind, data{}, data{})
	case e.Step == "settings" && word == "settings" && !retiring && e.After != "":
		before := data{"absent": true}
		if kept := keptOf(run, e.Step, rest); kept != "" {
			before = data{"copy": kept, "digest": "of layout 1"} // which had none of what was there before
		}
		return of("settings-file", rest, before, data{"digest": e.After})
	case word == "owner" && e.Before != "":
		before, errBefore := attributesOf(e.Before)
		after, errAfter := attributesOf(e.After)
		if errBefore == nil && errAfter == nil {
			return of("attributes", strings.TrimPrefix(e.Object, "owner and mode of "), before, after)
		}
	case word == "installer":
		return of("installer", rest, data{"exists": true, "copy": keptOf(run, e.Step, rest)}, data{})
	case word == "drop-in":
		return of("php-file", rest, contentOf(e.Before), contentOf(e.After))
	case word == "folder":
		return of("folder", rest, data{}, data{"made": []string{rest}})
	}
	return &Effect{Subject: e.Object}
}

// keptOf is where a run has kept what was at a path first.
func keptOf(run []state.Entry, step, path string) string {
	for _, e := range run {
		if e.Step == step && e.Object == path && e.Copy != "" {
			return e.Copy
		}
	}
	return ""
}

func listOf(written string) []string {
	if written == "" {
		return nil
	}
	return strings.Split(written, ", ")
}

func attributesOf(written string) (data, error) {
	var uid, gid, mode int
	_, err := fmt.Sscanf(written, "%d:%d %o", &uid, &gid, &mode)
	return data{"UID": uid, "GID": gid, "Mode": mode}, err
}

func contentOf(written string) data {
	if written == "" {
		return data{}
	}
	return data{"content": written}
}
