package php

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestCodeIsNotReadForEver has no limit of its own: what reads such code again for each of
// its parts would not come to its end before the tests are given up.
func TestCodeIsNotReadForEver(t *testing.T) {
	for _, part := range []string{"function a(){return ", "define('a',", "const A = ", "'a'.(", "include "} {
		code := ReadCode([]byte("<?php\n"+strings.Repeat(part, 40_000)), func(string) bool { return true })
		assert.NotNil(t, code)
	}
}

func TestCodeTellsWhatItUses(t *testing.T) {
	code := ReadCode([]byte(`<?php
namespace Hive;
require_once dirname(__DIR__) . '/conf/hive.php';
$link = new \mysqli($conf['db']["host"], DB_USER, Conf::PASS, $this->base, 3306);
mysqli_connect("h{$x}", ...$rest);
$text = "define('A', '" . $a . "');\n" . 'x';
$doc = <<<"END"
  \$b = '$a';
  END;
function mysqli_query($a) {}
$o->connect(1); // mysqli_close()
`), func(function string) bool {
		return strings.HasPrefix(function, "mysqli") || strings.HasPrefix(function, "require") || function == "->connect"
	})
	declared := map[string]string{}
	for _, d := range ReadCode([]byte(`<?php class A { const int B = 1, C = 2; static function f(): ?string { return self::B . '/x'; } function g($a) { return 1; } function h() { $x = 1; return $x; } }`), nil).Declares {
		declared[d.Name] = d.Value.Source
	}
	assert.Equal(t, map[string]string{"B": "1", "f()": "self::B . '/x'"}, declared)
	var uses []string
	for _, use := range code.Uses {
		line := use.Function
		if use.New {
			line = "new " + line
		}
		for _, argument := range use.Arguments {
			line += " |"
			for _, piece := range argument.Pieces {
				line += " " + piece.Text + piece.Address
			}
		}
		uses = append(uses, line)
	}
	assert.Equal(t, []string{"require_once | __DIR__ /conf/hive.php", "new mysqli | $conf['db']['host'] | DB_USER | Conf::PASS | $this->base |",
		"mysqli_connect | h{$x} | $rest", "->connect |"}, uses)
	var literals []string
	for _, literal := range code.Literals {
		literals = append(literals, literal.Text)
	}
	assert.Contains(t, literals, "define('A', '');\nx", "joined by dots")
	assert.Contains(t, literals, "  $b = '$a';", "a heredoc")
	assert.Equal(t, 3, code.Uses[0].Line)
}

// FuzzReadCode: code of others may be anything.
func FuzzReadCode(f *testing.F) {
	for _, seed := range []string{"<?php f($a['b'], \"c\" . D);", "<?php include 'a' ?> x", "<?php new f(((", "<?php f('a' . g(1)[2] . 'b'"} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(_ *testing.T, source []byte) {
		ReadCode(source, func(string) bool { return true })
	})
}
