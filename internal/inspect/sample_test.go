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
