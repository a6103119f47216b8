package render

import (
	"testing"

	"github.com/stretchr/testify/assert"
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
