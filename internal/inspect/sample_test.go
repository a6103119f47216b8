package inspect

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTextThatWasEncodedTwice(t *testing.T) {
	for text, want := range map[string]string{
		"HonigglÃ¤ser":   "Ã¤ for ä",
		"â‚¬ 5":          "â‚¬ for €",
		"ruche, Ã\u00a0": "Ã\u00a0 for à",
		"x Â°C":          "Â° for °",
		"¤Ã¤":            "Ã¤ for ä",
		"Honiggläser":    "",
		"Ã and Â":        "",
		"蜂蜜":             "",
		"":               "",
		"ÄÖÜ äöü":        "",
	} {
		assert.Equal(t, want, seenTwice(text), text)
	}
}

func TestASampleStaysSmall(t *testing.T) {
	var rows [][]string
	for range 1000 {
		rows = append(rows, []string{"wide", "c"})
	}
	plain := func(name string) string { return name }
	tables := ColumnsOf(append(rows, []string{"slim", "c"}), plain, plain)
	assert.Len(t, tables, 2)
	assert.Contains(t, tables[0].Query, "LEFT(c, 16)")
	assert.Equal(t, "SELECT LEFT(c, 2000) FROM slim LIMIT 500", tables[1].Query)
}
