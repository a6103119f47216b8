package settings

import (
	"encoding/base64"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shapes are the ways a value can stand in a PHP file, each with decoys
// around it. The mark @N@ keeps constants of different files apart.
var shapes = []struct{ name, address, source, read string }{
	{"define", "HIVE_@N@", "<?php\n// define('HIVE_@N@', 'decoy');\ndefine( 'HIVE_@N@' , 'old' ); # it's here\n", "HIVE_@N@"},
	{"define, double quotes", "HIVE_@N@", "\ufeff<?php\r\ndefine(\"HIVE_@N@\", \"old\\\"er\");\r\n?>\r\n", "HIVE_@N@"},
	{"const", "HIVE_@N@", "<?php\nconst OTHER_@N@ = 'x', HIVE_@N@ = 'old';", "HIVE_@N@"},
	{"variable", "$hive", "<?php /* $hive = 'decoy'; ?> */ $hive = 'old' ?>\n<p>$hive = 'decoy';</p>\n", "$hive"},
	{"integer", "$hive", "<?php\n$hive=3306;", "$hive"},
	{"elements", "$hive['main']['pass']", "<?php\n$hive['main']['user'] = 'u';\n$hive[\"main\"][\"pass\"]='old';\n$hive['test']['pass']='decoy';", "$hive['main']['pass']"},
	{"nested, long notation", "$hive['main']['pass']", "<?php $hive = array('main' => array('user' => 'u', /* 'pass' => 'decoy', */ 'pass' => 'old', ), 'x' => fn($a) => ['pass' => 'decoy']);", "$hive['main']['pass']"},
	{"returned array", "return['db'][0]['pass']", "<?php\nreturn [\n  'db' => [ [ 'pass' => \"old\" ], [ 'pass' => 'decoy' ] ],\n];", "(include $file)['db'][0]['pass']"},
	{"appended", "$hive[]['pass']", "<?php $hive[] = array('user' => 'u', 'pass' => 'old');\n// $hive[] = array('pass' => 'decoy');\n$tools[] = ['pass' => 'decoy'];", "$hive[0]['pass']"},
	{"by a counter", "$hive[$n]['pass']", "<?php $n = 1;\n$hive[ $n ]['user'] = 'u';\n$hive[$n]['pass'] = 'old'; $hive[$m ?? 2]['pass'] = 'decoy';", "$hive[1]['pass']"},
	{"object property", "$hive->main->pass", "<?php $hive = new stdClass; $hive->main = new stdClass;\n$hive->main->user = 'u'; $hive->main->pass = \"old\";", "$hive->main->pass"},
	{"static property", "Hive@N@::$pass", "<?php\n#[Allow]\nfinal class Hive@N@ extends ArrayObject {\n  private const OTHER = 'x';\n  public static ?string $user = 'u', $pass = 'old'; // 'decoy'\n" +
		"  function pass(string $pass = 'decoy') { $pass = 'decoy'; return [1]; }\n}", "Hive@N@::$pass"},
	{"property in an array", "Hive@N@::$db['main']['pass']", "<?php class Hive@N@ { public static $db = array('main' => ['pass' => 'old']); }", "Hive@N@::$db['main']['pass']"},
	{"class constant", "Hive@N@::PASS", "<?php abstract class Hive@N@ { abstract function f(); public const USER = 'u', PASS = 'old'; }", "Hive@N@::PASS"},
	{"argument", "real_connect(password)", "<?php $hive = new class { public $got; function real_connect($host, $user, $password = 'decoy') { $this->got = $password; } };\n" +
		"if ($hive->real_connect(\"localhost\", 'root', /* 'decoy' */ 'old', 'base')) { exit; } // $hive->real_connect('a', 'b', 'decoy');", "$hive->got"},
	{"cast array", "return['db']['pass']", "<?php\nreturn (object) ['x' => (object) array('pass' => 'decoy'), 'db' => (object) ['user' => 'u', 'pass' => 'old']];", "(include $file)->db->pass"},
	{"merged array", "return['db']['pass']", "<?php\nreturn array_replace_recursive(['db' => array_merge([], ['other' => 'decoy'])], [\n\t'db' => ['pass' => 'old'], // ['pass' => 'decoy']\n]);", "(include $file)['db']['pass']"},
	{"array that is wrapped", "$hive['db']['pass']", "<?php $hive = new ArrayObject(array('x' => 'decoy', 'db' => ['pass' => \"old\"]));", "$hive['db']['pass']"},
	{"setter", "Hive@N@::set('db.pass')", "<?php class Hive@N@ { public static $a; static function set($key, $value) { self::$a[$key] = $value; } }\nHive@N@::set('db.user', 'u');\nHive@N@::set( \"db.pass\" , 'old' ); // Hive@N@::set('db.pass', 'decoy');", "Hive@N@::$a['db.pass']"},
	{"method that sets", "$hive->setOption('pass')", "<?php $hive = new class { public $a; function setOption($key, $value) { $this->a[$key] = $value; } };\n$hive->setOption('user', 'decoy'); $hive->setOption('pass', \"old\");", "$hive->a['pass']"},
	{"behind the environment", "$hive['pass']", "<?php $hive['user'] = getenv('HIVE_USER_DECOY') ?: 'decoy';\n$hive['pass'] = $_ENV['HIVE_NO_SUCH'] ?? 'old';", "$hive['pass']"},
	{"returned by a function", "hive@N@()['pass']", "<?php\nfunction hive@N@(): array\n{\n\treturn array('user' => 'u', 'pass' => 'old'); // 'pass' => 'decoy'\n}\n", "hive@N@()['pass']"},
	{"returned by a method", "Hive@N@::all()['pass']", "<?php class Hive@N@ { static function none() { return; } public static function all() { return ['pass' => \"old\"]; } }", "Hive@N@::all()['pass']"},
	{"define, if it is not", "HIVE_@N@", "<?php\nif (!defined('HIVE_@N@')) {\n\tdefine('HIVE_@N@', 'old');\n}\n", "HIVE_@N@"},
	{"define, or it is", "HIVE_@N@", "<?php\ndefined('HIVE_@N@') or define('HIVE_@N@', \"old\");\ndefined('HIVE_X@N@') || define('HIVE_X@N@', 'decoy');", "HIVE_@N@"},
	{"variable of a function", "hive@N@()$pass", "<?php\nfunction &hive@N@($pass2 = 'decoy') {\n\t$user = 'decoy';\n\ttry { $pass = 'old'; } catch (Error $e) { $user = 'decoy'; }\n\treturn $pass; // $pass = 'decoy';\n}\n$pass = 'decoy';", "hive@N@()"},
	{"static variable of a function", "hive@N@()$all['pass']", "<?php function hive@N@() { static $n = 'decoy'; static $all = array('user' => 'decoy', 'pass' => \"old\"); return $all; }", "hive@N@()['pass']"},
	{"property that a constructor sets", "Hive@N@::__construct()$this->pass", "<?php class Hive@N@ { public $pass; function __construct() { $this->pass = \"old\"; } function other() { $this->pass = 'decoy'; } }", "(new Hive@N@())->pass"},
	{"default of a parameter", "Hive@N@::__construct()$pass", "<?php class Hive@N@ { function __construct(public string $user = 'decoy', public ?string $pass = 'old', $x = ['decoy']) {} }", "(new Hive@N@())->pass"},
	{"closure", "return['all']()['pass']", "<?php return ['x' => fn() => ['pass' => 'decoy'], 'all' => static function () use (&$x): array { $pass = 'decoy'; return array('pass' => 'old'); }];", "(include $file)['all']()['pass']"},
	{"arrow function", "$hive['all']()['pass']", "<?php $hive = ['x' => fn() => ['pass' => 'decoy'], 'all' => static fn(): array => ['pass' => 'old']];", "$hive['all']()['pass']"},
	{"static property that is set", "Hive@N@::$pass['x']", "<?php abstract class Hive@N@ { public static $pass, $other; }\nHive@N@::$other['x'] = 'decoy';\nHive@N@::$pass[\"x\"] = 'old';", "Hive@N@::$pass['x']"},
	{"handed to a class", "Hive@N@(3)", "<?php class Hive@N@ { function __construct(public $host, public $user, public $pass) {} }\n$hive = new Hive@N@('localhost', 'root', 'old'); // new Hive@N@('a', 'b', 'decoy');", "$hive->pass"},
	{"argument with a name", "Hive@N@(pass)", "<?php class Hive@N@ { function __construct(public $pass, public $host = '', public $user = '') {} }\n$hive = new Hive@N@(host: 'decoy', user: \"decoy\", /* pass: 'decoy' */ pass: 'old');", "$hive->pass"},
	{"array for a method", "$hive->add()[ArrayObject::class]['pass']", "<?php $hive = new class { public $a; function add($all) { $this->a = $all; } };\n$hive->add([ ArrayObject::class => ['pass' => 'old'], 'x' => ['pass' => 'decoy']], 'decoy');", "$hive->a['ArrayObject']['pass']"},
	{"environment", "putenv(HIVE_@N@)", "<?php putenv('HIVE=decoy'); putenv(\"HIVE_@N@=old\"); // putenv('HIVE_@N@=decoy');", "getenv('HIVE_@N@')"},
	{"null", "$hive", "<?php $hive = NULL;", "$hive"},
}

// TestValuesComeBackThroughRealPHP writes random values into every shape and
// lets PHP itself say what it reads.
func TestValuesComeBackThroughRealPHP(t *testing.T) {
	if _, err := exec.LookPath("php"); err != nil {
		t.Fatal("php is missing: run scripts/setup test")
	}
	const files = 3000
	random := rand.New(rand.NewPCG(7, 11))
	folder := t.TempDir()
	var script strings.Builder
	script.WriteString("<?php\n")
	wanted := make([]string, files)
	for i := range files {
		shape := shapes[i%len(shapes)]
		fill := func(s string) string { return strings.ReplaceAll(s, "@N@", fmt.Sprint(i)) }
		value := randomValue(random)
		if shape.name == "environment" {
			value = strings.ReplaceAll(value, "\x00", "")
		}
		wanted[i] = value

		before, err := Parse("x.php", []byte(fill(shape.source)))
		require.NoError(t, err, shape.name)
		after, err := before.With([]Change{{Address: fill(shape.address), Value: value}})
		require.NoError(t, err, "%s: %q", shape.name, value)
		requireOnlyTheValueChanged(t, before, after, fill(shape.address))

		again, err := after.With([]Change{{Address: fill(shape.address), Value: value}})
		require.NoError(t, err)
		require.Equal(t, string(after.Bytes()), string(again.Bytes()), "a second run changes nothing")

		name := filepath.Join(folder, fmt.Sprintf("%d.php", i))
		require.NoError(t, os.WriteFile(name, after.Bytes(), 0o600))
		fmt.Fprintf(&script, "(function() { $file = '%s'; ob_start(); $got = %s; ob_end_clean(); echo base64_encode((string)$got), \"\\n\"; })();\n",
			name, phpRead(fill(shape.read)))
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, "read.php"), []byte(script.String()), 0o600))
	out, err := exec.Command("php", "-d", "memory_limit=1G", filepath.Join(folder, "read.php")).CombinedOutput()
	require.NoError(t, err, string(out[:min(len(out), 2000)]))
	lines := strings.Split(strings.TrimSuffix(string(out), "\n"), "\n")
	require.Equal(t, files, len(lines))
	for i, line := range lines {
		got, err := base64.StdEncoding.DecodeString(line)
		require.NoError(t, err, line)
		require.Equal(t, wanted[i], string(got), "file %d, %s", i, shapes[i%len(shapes)].name)
	}
}

func phpRead(expression string) string {
	if strings.HasPrefix(expression, "(include") {
		return expression
	}
	return "(function() use ($file) { include $file; return " + expression + "; })()"
}

func randomValue(random *rand.Rand) string {
	pieces := []string{`'`, `"`, `\`, `\\`, `$`, `${`, `{$x}`, `$x`, `?>`, `<?php`, `#`, `;`, `%`, ` `, "\n", "\r\n", "\t", "\x00", "\x7f",
		"é", "Пчела", "蜂", "🐝", "//", "/*", "*/", "a", "Z", "0", "7", "-", ".", `\n`, `\x41`, `\u{41}`, `\101`, "null", "true"}
	var b strings.Builder
	for range random.IntN(12) {
		b.WriteString(pieces[random.IntN(len(pieces))])
	}
	return b.String()
}

func requireOnlyTheValueChanged(t *testing.T, before, after *File, address string) {
	t.Helper()
	old, err := before.Lookup(address)
	require.NoError(t, err)
	now, err := after.Lookup(address)
	require.NoError(t, err)
	require.Equal(t, string(before.Bytes()[:old.Start]), string(after.Bytes()[:now.Start]))
	require.Equal(t, string(before.Bytes()[old.End:]), string(after.Bytes()[now.End:]))
}

func TestRefusalsSayWhyAndWhere(t *testing.T) {
	source := `<?php
define('HOST', getenv('DB_HOST'));
$hive['name'] = 'x' . SUFFIX;
$hive['user'] = "{$prefix}user";
$hive['pass'] = $other;
$hive['port'] = $a ? 1 : 2;
$hive['text'] = <<<END
  hello ; ' "
  END;
if (true) { $hive['branch'] = 'x'; } else $hive['else'] = 'x';
if (!defined('LATE')) { if ($other) define('LATE', 'x'); }
$late || define('LAZY', 'x');
function f() { $local = 'x'; if ($a) { $asked = 'x'; } }
class K { const HOST = 'x' . 'y'; public $pass = PASS; }
$twice = 'a'; $twice = 'b';
$hive['note'] .= 'more';
$list = ['a' => 1] + ['a' => 2];
$heir = PARENT_HOST;
$open[] = ['x' => 1]; $open[] = ['x' => 2]; putenv('HIVE=x');
`
	file, err := Parse("hive.php", []byte(source))
	require.NoError(t, err)
	for address, want := range map[string]string{
		"HOST":                "hive.php:2:16: HOST cannot be written: it is the result of getenv()",
		"$hive['name']":       "hive.php:3:17: $hive['name'] cannot be written: it is a concatenation",
		`$hive["user"]`:       "it is a string with a variable in it",
		"$hive[ 'pass' ]":     "it is taken from $other",
		"$hive['port']":       "it is a condition",
		"$hive['text']":       "it is a heredoc",
		"$hive['branch']":     "it is inside a branch",
		"$hive['else']":       "it is inside a branch",
		"LATE":                "it is inside a branch",
		"LAZY":                "it is inside a branch",
		"$local":              "did you mean f()$local (line 13)",
		"f()$asked":           "it is inside a branch",
		"K::HOST":             "hive.php:14:24: K::HOST cannot be written: it is a concatenation",
		"K :: $pass":          "it is taken from the constant PASS",
		"$twice":              "hive.php:15:24: $twice is set twice, first in line 15",
		"$hive['note']":       "it is a change of an earlier value (.=)",
		"$list['a']":          "there is no setting $list['a']",
		"$list":               "it is an expression",
		"$heir":               "it is taken from the constant PARENT_HOST",
		"$hive['nane']":       "did you mean $hive['name'] (line 3)",
		"$elsewhere['thing']": "the file sets: HOST",
		"$hive[f()]":          "is no address of a setting in PHP",
		"putenv(HIVE)":        "a NUL byte",
		"$open[]['x']":        "hive.php:19:41: $open[]['x'] is set twice",
	} {
		_, err := file.With([]Change{{Address: address, Value: "new\x00"}})
		assert.ErrorContains(t, err, want, address)
	}
}

func TestFilesThatDoNotParse(t *testing.T) {
	for source, want := range map[string]string{
		"<?php\n$a = 'x;\n":            "x.php:2:6: a string is opened here and never closed",
		"<?php\n$a = array('x' => 1;":  "x.php:2:11: this ( is never closed",
		"<?php\n$a = 1];":              "x.php:2:7: this ] closes nothing",
		"<?php\n/* $a = 1;":            "x.php:2:1: a comment is opened here and never closed",
		"<?php\n$a = <<<X\n hello\n Y": "the heredoc X is opened here and never closed",
		"server: x\n":                  "x.php: it cannot be told in which syntax this file is written",
	} {
		_, err := Parse("x.php", []byte(source))
		assert.ErrorContains(t, err, want)
	}
}

// requireEverySettingTakes writes a value to every address in turn: either it
// is refused, or it reads back.
func requireEverySettingTakes(t *testing.T, file *File, value string) {
	t.Helper()
	for _, s := range file.Settings {
		if changed, err := file.With([]Change{{Address: s.Address, Value: value}}); err == nil {
			got, err := changed.Lookup(s.Address)
			require.NoError(t, err)
			require.Equal(t, value, got.Value)
		}
	}
}

func FuzzPHP(f *testing.F) {
	for _, shape := range shapes {
		f.Add([]byte(shape.source), "new'value")
	}
	f.Fuzz(func(t *testing.T, source []byte, value string) {
		file, err := Parse("f.php", source)
		if err != nil {
			return
		}
		requireEverySettingTakes(t, file, value)
	})
}
