// Package secret is all that Yellowfield knows of passwords: making one,
// obtaining one, keeping it off every screen, and turning it into what each
// database server stores instead of it.
//
// It must never know of connections, estate files or settings files.
package secret

import (
	"crypto/rand"
	"fmt"
	"io"
	"log/slog"
	"math/big"
	"strings"
)

// Mask is what stands wherever a password would otherwise be printed.
const Mask = "********"

// Password is a plain password that prints as Mask in every way Go can print
// a value. Only Reveal gives the text; search for its callers to see every
// place where plain text leaves the program.
type Password struct{ plain string }

// NewPassword wraps a plain password.
func NewPassword(plain string) Password { return Password{plain: plain} }

// Reveal gives the plain text.
func (p Password) Reveal() string { return p.plain }

// IsZero reports whether no password is held. An empty password counts as
// none: Yellowfield makes no account without one.
func (p Password) IsZero() bool { return p.plain == "" }

// Format implements fmt.Formatter, so that every verb prints the mask, also
// where the password is a field of something printed with %+v or %#v.
func (p Password) Format(state fmt.State, _ rune) { _, _ = io.WriteString(state, Mask) }

// MarshalText implements encoding.TextMarshaler (JSON and YAML use it).
func (p Password) MarshalText() ([]byte, error) { return []byte(Mask), nil }

// LogValue implements slog.LogValuer.
func (p Password) LogValue() slog.Value { return slog.StringValue(Mask) }

// GeneratedLength is the number of characters of a generated password: with
// 64 to choose from, 28 carry 168 bits.
const GeneratedLength = 28

const (
	lower   = "abcdefghijklmnopqrstuvwxyz"
	upper   = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	digits  = "0123456789"
	special = "-_"
)

// Generate makes a password from crypto/rand.
//
// The alphabet needs no escaping or quoting in PHP, INI, dotenv, YAML, a URL
// or a shell: letters, digits, hyphen and underscore, a letter first (so that
// YAML and INI take it for a string) and a letter or digit last. It always
// holds a small and a capital letter, a digit and a special character, which
// satisfies the password policies that MySQL (validate_password) and MariaDB
// (simple_password_check) bring along.
func Generate() Password {
	classes := []string{lower, upper, digits, special}
	for {
		var text strings.Builder
		for i := range GeneratedLength {
			alphabet := lower + upper + digits + special
			switch i {
			case 0:
				alphabet = lower + upper
			case GeneratedLength - 1:
				alphabet = lower + upper + digits
			}
			text.WriteByte(alphabet[randomBelow(len(alphabet))])
		}
		complete := true
		for _, class := range classes {
			complete = complete && strings.ContainsAny(text.String(), class)
		}
		if complete {
			return NewPassword(text.String())
		}
	}
}

// randomBelow draws uniformly from 0 to n-1. crypto/rand never fails on the
// systems Go supports: it ends the program rather than return weak bytes.
func randomBelow(n int) int {
	drawn, err := rand.Int(rand.Reader, big.NewInt(int64(n)))
	if err != nil {
		panic(err)
	}
	return int(drawn.Int64())
}
