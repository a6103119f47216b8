package render

import (
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/load"
)

func TestATerminalObeysNothingButOurStyles(t *testing.T) {
	for text, want := range map[string]string{
		"Грѐчка, é, 🐝\n\tx":           "Грѐчка, é, 🐝\n\tx",
		"a\x1b]0;title\x07b":          `a\x1b]0;title\x07b`,
		"\x1b[2J\x1b[1;1H":            `\x1b[2J\x1b[1;1H`,
		"\x1b[8mhidden":               `\x1b[8mhidden`,
		"over\rwritten":               `over\x0dwritten`,
		"\u009b31m":                   `\u009b31m`,
		"\u202egpj.exe":               `\u202egpj.exe`,
		"\xff\xfe":                    `\xff\xfe`,
		accent.Render("combledger"):   accent.Render("combledger"),
		bad.Render("failed") + "\x7f": bad.Render("failed") + `\x7f`,
	} {
		assert.Equal(t, want, shown(text))
	}
}

func TestBarsAreInert(t *testing.T) {
	assert.Equal(t, `a\x1b[31mb\x1b]0;x\x07\nc\td`, inert("a\x1b[31mb\x1b]0;x\x07\nc\td"))
	assert.NotContains(t, counts(load.Progress{Rows: 1, Table: "\x1b]0;title\x07"}), "\x1b")
}

func TestJSONHoldsNoControlCharacters(t *testing.T) {
	value := map[string]string{"k\u009b": "a\x1b[2J\u0085\x7f\u202e\u2028é🐝\n"}
	text, err := json.Marshal(value)
	require.NoError(t, err)
	escaped := EscapeJSON(string(text))
	assert.Equal(t, -1, strings.IndexFunc(escaped, hidden), escaped)
	var back map[string]string
	require.NoError(t, json.Unmarshal([]byte(escaped), &back))
	assert.Equal(t, value, back)
}

// FuzzShown lets a text say what it will: nothing of it reaches a terminal but what
// it can show, and what is shown is shown again as it is.
func FuzzShown(f *testing.F) {
	for _, text := range []string{"a", "\x1b[31m", "\x1b[31;5m", "\x1b[1;\x1b[1m", "\u009b1m", "\xc2", "\x1b[38;5;1m", "\x1b]8;;http://x\x07", "\r\n", "\u202e"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		out := shown(text)
		assert.True(t, utf8.ValidString(out))
		assert.Equal(t, out, shown(out))
		for rest := out; rest != ""; {
			if style := ours.FindString(rest); style != "" {
				rest = rest[len(style):]
				continue
			}
			c, size := utf8.DecodeRuneInString(rest)
			assert.False(t, hidden(c), "%q of %q", c, out)
			rest = rest[size:]
		}
	})
}
