package secret

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"strings"
	"time"

	"yellowfield/internal/fault"
)

// Source says where a password comes from. Exactly one field is set; the
// estate file checks that. None of them puts the password on a command line.
type Source struct {
	File    string   // path of a file that holds the password in its first line
	Env     string   // name of an environment variable
	Command []string // argument list of a command that prints it; run without a shell
	Ask     bool     // ask on the terminal
}

// Asker asks a person for a password; label says for what. It returns an
// error where there is no terminal.
type Asker func(label string) (Password, error)

// lingers is how long a command's children may keep its output open after the command has
// ended or was told to.
const lingers = time.Second

// Obtain gets the password from its source. label names its use in messages
// and prompts, for instance "the administrator of barn".
func (s Source) Obtain(ctx context.Context, label string, ask Asker) (Password, error) {
	var text string
	switch {
	case s.File != "":
		content, err := os.ReadFile(s.File)
		if err != nil {
			return Password{}, fault.New(fault.Invalid, "create the file with mode 0600, the password in its first line",
				"cannot read the password of %s: %v", label, err).With(err)
		}
		text = string(content)
	case s.Env != "":
		value, set := os.LookupEnv(s.Env)
		if !set {
			return Password{}, fault.New(fault.Invalid, "export "+s.Env+" and run the command again",
				"the password of %s is to come from the environment variable %s, which is not set", label, s.Env)
		}
		text = value
	case len(s.Command) > 0:
		command := exec.CommandContext(ctx, s.Command[0], s.Command[1:]...)
		command.WaitDelay = lingers
		out, err := command.Output()
		if err != nil && !errors.Is(err, exec.ErrWaitDelay) {
			detail := err.Error()
			var exit *exec.ExitError
			if errors.As(err, &exit) && len(exit.Stderr) > 0 {
				first, _, _ := bytes.Cut(bytes.TrimSpace(exit.Stderr), []byte("\n"))
				detail += ": " + string(first)
			}
			return Password{}, fault.New(fault.Invalid, "run it by hand to see why",
				"the command %q, which gives the password of %s, failed: %s", s.Command[0], label, detail).With(err)
		}
		text = string(out)
	case s.Ask:
		if ask == nil {
			return Password{}, fault.New(fault.Invalid, "run it on a terminal, or give file, env or command instead of ask",
				"the password of %s is to be asked for, and there is no terminal", label)
		}
		return ask(label)
	}
	text, _, _ = strings.Cut(text, "\n")
	text = strings.TrimRight(text, "\r")
	if text == "" {
		return Password{}, fault.New(fault.Invalid, "put the password into its first line", "the password of %s is empty", label)
	}
	return NewPassword(text), nil
}
