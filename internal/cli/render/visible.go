package render

import (
	"fmt"
	"io"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// visible is the one way to the terminal. Names, values and what servers say come
// from applications, and a terminal obeys what stands in them: so every control
// character is shown by its number, but for line ends, tabs and our own styles.
type visible struct{ to io.Writer }

func (v visible) Write(text []byte) (int, error) {
	if _, err := io.WriteString(v.to, shown(string(text))); err != nil {
		return 0, err
	}
	return len(text), nil
}

// ours are the styles of this package: bold, faint, and its three colours.
var ours = regexp.MustCompile(`^\x1b\[(?:(?:0|1|2|22|3[123]|38;5;[123])(?:;(?:0|1|2|22|3[123]|38;5;[123]))*)?m`)

// shown writes control characters as \x1b, those of more than a byte, and marks that
// turn the direction of writing, as \u202e.
func shown(text string) string {
	if strings.IndexFunc(text, hidden) < 0 && utf8.ValidString(text) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		c, size := utf8.DecodeRuneInString(text[i:])
		style := ours.FindString(text[i:])
		switch {
		case style != "":
			size = len(style)
			b.WriteString(style)
		case c == utf8.RuneError && size == 1, hidden(c) && c < 0x80:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case hidden(c):
			fmt.Fprintf(&b, `\u%04x`, c)
		default:
			b.WriteString(text[i : i+size])
		}
		i += size
	}
	return b.String()
}

// inert is shown for a text that has to stay on its line and has no style of ours: the
// bars write to the terminal by themselves.
func inert(text string) string {
	return shown(strings.NewReplacer("\x1b", `\x1b`, "\n", `\n`, "\t", `\t`).Replace(text))
}

// EscapeJSON writes, in a JSON text, the control characters that JSON may hold as they
// are by its escapes: a terminal obeys those, too.
func EscapeJSON(text string) string {
	if strings.IndexFunc(text, hidden) < 0 {
		return text
	}
	var b strings.Builder
	for _, c := range text {
		if hidden(c) { // inside of a string: nothing else of JSON is such
			fmt.Fprintf(&b, `\u%04x`, c)
		} else {
			b.WriteRune(c)
		}
	}
	return b.String()
}

func hidden(c rune) bool {
	return c != '\n' && c != '\t' && (unicode.IsControl(c) || unicode.Is(unicode.Bidi_Control, c) || c == 0x2028 || c == 0x2029)
}
