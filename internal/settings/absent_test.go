package settings

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCommentsThatHoldSettings(t *testing.T) {
	for _, row := range []struct{ file, source, want string }{
		{"a.php", "<?php\n// define('HOST', 'x'); // note\n#define('PORT', 3306);\n// the host: see above\n/* define('USER', 'u'); */\n/*\n * $a['b'] = 'c';\n */\n", "2 HOST=x|3 PORT=3306"},
		{"b.php", "<?php\nreturn [\n  'main' => [\n    // 'port' => 3306,\n    'host' => 'h', // 'host' => 'no'\n    # 'host' => 'twin',\n  ],\n];\n", "4 return['main']['port']=3306|6 return['main']['host']=twin"},
		{"a.ini", "[s]\n; port = 3306 ; note\n;plain words\n#host=h\n[t]\n;port=1\n", "2 [s] port=3306|4 [s] host=h|6 [t] port=1"},
		{".env", "A=1\r\n# B=two\r\n#C=\"three\" # note\r\n# words and words\r\n", "2 B=two|3 C=three"},
		{"gauge.conf", "# The host to talk to.\n# DbHost=localhost\nDbPort=3306\n", "2 DbHost=localhost"},
		{"a.yaml", "main:\n  # port: 3306\n  host: h\n# word: x\n", "2 main.port=3306|4 word=x"},
		{"a.xml", "<a>\n  <!-- <b>x</b> -->\n  <c>1</c>\n</a>\n", "2 /a/b=x"},
	} {
		file, err := Parse(row.file, []byte(row.source))
		require.NoError(t, err)
		var got []string
		for _, c := range file.Commented() {
			got = append(got, fmt.Sprintf("%d %s=%s", c.Place.Line, c.Address, c.Value))
		}
		assert.Equal(t, row.want, strings.Join(got, "|"), row.file)
	}
}

func TestAbsentSettingsComeToLifeOrAreAdded(t *testing.T) {
	for _, row := range []struct {
		file, source, address string
		add                   bool
		want                  string
	}{
		{"a.php", "<?php\r\n// define('HOST', \"x\"); // note\r\ndefine('A', 1);\r\n", "HOST", false, "<?php\r\n// define('HOST', \"x\"); // note\r\ndefine('HOST', \"new'\"); // note\r\ndefine('A', 1);\r\n"},
		{"b.php", "<?php\nreturn [\n  'main' => [\n    // 'port' => 3306,\n    'host' => 'h',\n  ],\n];\n", "return['main']['port']", false, "<?php\nreturn [\n  'main' => [\n    // 'port' => 3306,\n    'port' => 'new\\'',\n    'host' => 'h',\n  ],\n];\n"},
		{"a.ini", "[s]\n;word=old\nhost=h\n", "[s] word", false, "[s]\n;word=old\nword=\"new'\"\nhost=h\n"},
		{"gauge.conf", "# Word=old\n\nPort=1", "Word", false, "# Word=old\nWord=new'\n\nPort=1"},
		{"a.php", "<?php\n$a['b'] = 'c';\n?>\n", "$a['word']", true, "<?php\n$a['b'] = 'c';\n$a['word'] = 'new\\'';\n?>\n"},
		{"a.php", "<?php\ndefine('A', 1);", "WORD", true, "<?php\ndefine('A', 1);\ndefine('WORD', 'new\\'');\n"},
		{"a.ini", "a = 1\n\n[s]\nhost = h\n\n; about t\n[t]\nb = 2\n", "[s] word", true, "a = 1\n\n[s]\nhost = h\n\n; about t\nword = \"new'\"\n[t]\nb = 2\n"},
		{"a.ini", "a = 1\n[s]\nb = 2\n", "word", true, "a = 1\nword = \"new'\"\n[s]\nb = 2\n"},
		{"a.ini", "[s]\nb = 2\n", "[t] word", true, "[s]\nb = 2\n\n[t]\nword = \"new'\"\n"},
		{".env", "A=1", "WORD", true, "A=1\nWORD=\"new'\"\n"},
		{"relay.conf", "host h\n", "word", true, "host h\nword new'\n"},
		{"a.yaml", "a: 1\n", "word", true, "a: 1\nword: 'new'''\n"},
		{"a.php", "<?php\nreturn [\n  'main' => [\n    'host' => 'h', // here\n  ],\n];\n", "return['main']['word']", true, "<?php\nreturn [\n  'main' => [\n    'host' => 'h', // here\n    'word' => 'new\\'',\n  ],\n];\n"},
		{"a.php", "<?php $a = array('b' => array('c' => 1));", "$a['b']['word']", true, "<?php $a = array('b' => array('c' => 1, 'word' => 'new\\''));"},
		{"a.json", "{\n\t\"a\": {\n\t\t\"b\": 1\n\t}\n}\n", "a.word", true, "{\n\t\"a\": {\n\t\t\"b\": 1,\n\t\t\"word\": \"new'\"\n\t}\n}\n"},
		{"a.json", "{\"a\": 1}", "word", true, "{\"a\": 1, \"word\": \"new'\"}"},
		{"a.yaml", "s:\n  a: 1 # one\nt: 2\n", "s.word", true, "s:\n  a: 1 # one\n  word: 'new'''\nt: 2\n"},
		{"a.yaml", "s: {a: 1, b: 2}\n", "s.word", true, "s: {a: 1, b: 2, word: 'new'''}\n"},
		{"a.xml", "<s>\n  <a>1</a>\n</s>\n", "/s/word", true, "<s>\n  <a>1</a>\n  <word>new&apos;</word>\n</s>\n"},
	} {
		file, err := Parse(row.file, []byte(row.source))
		require.NoError(t, err)
		after, err := file.With([]Change{{Address: row.address, Value: "new'", Add: row.add}})
		require.NoError(t, err, row.source)
		assert.Equal(t, row.want, string(after.Bytes()))
		again, err := after.With([]Change{{Address: row.address, Value: "new'", Add: row.add}})
		require.NoError(t, err)
		assert.Equal(t, string(after.Bytes()), string(again.Bytes()), "a second time changes nothing")
	}
	for _, row := range []struct{ file, source, address, want string }{
		{"a.php", "<?php return ['a' => 1];", "return['b']['c']", "the file has no element beside it"},
		{"a.php", "<?php class A { const B = 1; }", "A::C", "or it is a member of a class"},
		{"a.yaml", "a:\n  b: 1\n", "b.c", "the file has no key beside it"},
		{"a.json", "{\"a\": {}}", "a.b", "JSON no other place for it"},
	} {
		file, err := Parse(row.file, []byte(row.source))
		require.NoError(t, err)
		_, err = file.With([]Change{{Address: row.address, Value: "x", Add: true}})
		assert.ErrorContains(t, err, row.want)
		_, err = file.With([]Change{{Address: row.address, Value: "x"}})
		assert.ErrorContains(t, err, "there is no setting")
	}
}

func TestExpressionsAreReplacedOnlyWhenAskedFor(t *testing.T) {
	file, err := Parse("a.php", []byte("<?php\n$a = isset($b) ? 'a' : 'b';\ndefine('B', \"x{$a}\");\nif ($a) { $c = D; }\n"))
	require.NoError(t, err)
	after, err := file.With([]Change{{Address: "$a", Value: "it's", ReplaceExpression: true}, {Address: "B", Value: "y", ReplaceExpression: true}})
	require.NoError(t, err)
	assert.Equal(t, "<?php\n$a = 'it\\'s';\ndefine('B', 'y');\nif ($a) { $c = D; }\n", string(after.Bytes()))
	_, err = file.With([]Change{{Address: "$a", Value: "x"}})
	assert.ErrorContains(t, err, "it is a condition")
	_, err = file.With([]Change{{Address: "$c", Value: "x", ReplaceExpression: true}})
	assert.ErrorContains(t, err, "cannot be written")
}

func TestRolesAreToldByTheLastWord(t *testing.T) {
	for address, want := range map[string]Role{
		"LEDGER_SQL_HOST": "host", "$stock['main']['server']": "host", "[storage] dbname": "database", "DbPassword": "password",
		"main.sqlUser": "user", "$wiring->tablePrefix": "prefix", "/ledger/store/@port": "port", "DATABASE_URL": "dsn", "CHARSET": "charset",
		"$combDBserver": "host", "LEDGER_TITLE": "", "$a['debug']": "", "warn_below": "",
	} {
		assert.Equal(t, want, RoleOf(address), address)
	}
}
