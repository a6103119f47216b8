package php

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzLex: the lexer never panics and loses no byte.
func FuzzLex(f *testing.F) {
	for _, seed := range []string{
		"a<?php $x = 'y\\''; // z ?>\r\nb<?= 1 ?>", "<?php <<<A\n x\n A; <<<'B'\nB\n", "<?php #[X] 1.5e-3 0x1F \\a\\b \"{$c}\" `d` /* e */", "<?phpx <? <?PHP\t1",
	} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		tokens, err := lex(src)
		if err != nil {
			return
		}
		joined := ""
		for _, token := range tokens {
			joined += string(src[token.start:token.end])
		}
		require.Equal(t, string(src), joined)
	})
}
