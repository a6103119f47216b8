package settings

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// otherShapes are files around one value, whose address is given.
var otherShapes = []struct{ file, address, source string }{
	{"a.ini", "[storage] word", "; word = decoy\n[mail]\nword = \"mail\"\n\n[storage]\r\nserver = localhost\r\n  word = old ; it's here\r\n"},
	{"b.ini", "[storage] word", "\ufeff;<?php exit; ?>\n[storage]\nword=\"old\"\nport = 3306\n"},
	{"c.ini", "word", "word = 'old'\n[storage]\nword = decoy\n"},
	{"d.ini", "[s] word", "[s]\nword =\nother = on"},
	{"e.ini", "[s] word", "[s]\nword = 12 ; a number"},
	{".env", "WORD", "# WORD=decoy\nexport WORD=old # the password\nOTHER=\"x\"\n"},
	{"app.env", "WORD", "WORD='old'\r\nWORD_2=decoy\r\n"},
	{".env.local", "WORD", "A=1\nWORD = \"old\\\"er\"   # note\n"},
	{"settings", "WORD", "\nWORD=\nB=2"},
	{"a.yaml", "main.word", "# word: decoy\nmail: {word: decoy}\nmain:\n  ports: [1, 2]   # two\n  é: 'ü'\n  word: old # the password\n"},
	{"b.yml", "main.0.word", "---\nmain:\n  - {word: \"o\\\"ld\", user: x}\n  - word: decoy\n"},
	{"c.yaml", "word", "word:   'it''s'   \nother: |\n  word: decoy\n"},
	{"d.yaml", "n", "n: 12\nb: true\n"},
	{"gauge.conf", "DbPassword", "# DbPassword=decoy\n; Host value\nDbHost=localhost\nDbPassword=old\nDbPort=3306\n"},
	{"relay.cfg", "word", "\ufeffserver  localhost\r\nword\told\r\nport 3306\r\n#word decoy\r\n"},
	{"a.xml", "/ledger/store/word", "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!-- <word>decoy</word> -->\n<ledger>\n  <mail><word>decoy</word></mail>\n  <store kind='mysql' port=\"3306\">\n    <word>old</word><empty/>\n  </store>\n</ledger>\n"},
	{"b.xml", "/c/store/@word", "<c><store host=\"h\" word = 'old' n=\"1\">x &amp; y</store></c>"},
	{"d.xml", "/c/p[@name='word']", "<c><p name='n'>1</p><p name='word'>old</p></c>"},
	{"e.xml", "/c/p[@key='word']/@value", "<c>\n <p key=\"n\" value=\"1\"/>\n <p key=\"word\" value=\"old\"/>\n</c>"},
	{"c.xml", "/d/word", "<d>\n  <word><![CDATA[old & ]]></word><n>1</n></d>"},
	{"blanks.yaml", "s.word", "\ufeffs:  \r\n  host: h  \r\n  word: old \t\r\n  n: 1 # note \r\n"},
	{"dsn.php", "$stock['dsn']#password", "<?php\n$stock = ['dsn' => 'mysql://u:old@h:3306/b?charset=utf8', 'word' => 'decoy'];\n"},
	{"dsn.env", "DATABASE_URL#user", "DATABASE_URL=\"mysql://old:pw@h/b\"  # note\nOTHER=1\n"},
	{"dsn.ini", "[s] dsn#password", "[s]\ndsn = \"mysql://u:old@h/b\"\nport = 3306\n"},
	{"a.json", "main.word", "{\r\n\t\"mail\": {\"word\": \"decoy\"},\r\n\t\"main\": { \"ports\": [1, 2.5], \"word\" : \"old\" }\r\n}\r\n"},
	{"b.json", "list.1.a\\.b", "\ufeff{\"list\":[null,{\"a.b\":true}]}"},
}

// TestYAMLComesBackThroughTheLibrary: the library that estate files are read
// with says what it reads.
func TestYAMLComesBackThroughTheLibrary(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 4))
	for i := range 2000 {
		shape := []string{"word: old # note\n", "word: 'old'\n", "word: \"old\"\n", "word: 12\n", "a:\n- 1\nword:   # none yet\nb:\n", "a:\r\nword:"}[i%6]
		value := randomValue(random)
		before, err := Parse("x.yaml", []byte(shape))
		require.NoError(t, err)
		after, err := before.With([]Change{{Address: "word", Value: value}})
		require.NoError(t, err, "%q", value)
		var got struct{ Word string }
		require.NoError(t, yaml.Unmarshal(after.Bytes(), &got), "%q", after.Bytes())
		require.Equal(t, value, got.Word, "%q", after.Bytes())
	}
}

// TestJSONComesBackThroughRealPHP lets json_decode read what was written.
func TestJSONComesBackThroughRealPHP(t *testing.T) {
	random := rand.New(rand.NewPCG(8, 8))
	shape := otherShapes[len(otherShapes)-2]
	var texts, wanted []string
	for range 1000 {
		value := randomValue(random)
		before, err := Parse(shape.file, []byte(shape.source))
		require.NoError(t, err)
		after, err := before.With([]Change{{Address: shape.address, Value: value}})
		require.NoError(t, err)
		texts, wanted = append(texts, string(after.Bytes())), append(wanted, value)
	}
	path := filepath.Join(t.TempDir(), "all.json")
	all, err := json.Marshal(texts)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, all, 0o600))
	out, err := exec.Command("php", "-r", `echo json_encode(array_map(fn($t) => base64_encode(json_decode($t, true)["main"]["word"]),
		json_decode(file_get_contents("`+path+`"))));`).Output()
	require.NoError(t, err)
	var got [][]byte
	require.NoError(t, json.Unmarshal(out, &got))
	for i := range wanted {
		require.Equal(t, wanted[i], string(got[i]))
	}
}

func TestOtherSyntaxesKeepEveryOtherByte(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 9))
	for i := range 4000 {
		shape := otherShapes[i%len(otherShapes)]
		value := randomValue(random)
		before, err := Parse(shape.file, []byte(shape.source))
		require.NoError(t, err, shape.file)
		after, err := before.With([]Change{{Address: shape.address, Value: value}})
		if err != nil {
			require.Contains(t, err.Error(), "cannot take this value", "%s %q", shape.file, value)
			require.Contains(t, []string{"INI", "key and value", "XML"}, before.Syntax.Name)
			continue
		}
		requireOnlyTheValueChanged(t, before, after, shape.address)
		again, err := after.With([]Change{{Address: shape.address, Value: value}})
		require.NoError(t, err)
		require.Equal(t, string(after.Bytes()), string(again.Bytes()))
	}
}

// TestXMLComesBackThroughRealPHP lets PHP's DOM read what was written, by the address as
// XPath.
func TestXMLComesBackThroughRealPHP(t *testing.T) {
	if exec.Command("php", "-r", `exit((int) !extension_loaded("dom"));`).Run() != nil {
		t.Skip("NOT TESTED: PHP's DOM is not at hand")
	}
	random := rand.New(rand.NewPCG(6, 6))
	var texts [][2]string
	var wanted []string
	for i := 0; len(texts) < 1000; i++ {
		shape := otherShapes[15+i%5]
		require.Contains(t, shape.file, ".xml")
		value := randomValue(random)
		before, err := Parse(shape.file, []byte(shape.source))
		require.NoError(t, err)
		after, err := before.With([]Change{{Address: shape.address, Value: value}})
		if err != nil {
			require.ErrorContains(t, err, "cannot take this value", "%q", value)
			continue
		}
		texts, wanted = append(texts, [2]string{shape.address, string(after.Bytes())}), append(wanted, value)
	}
	all, err := json.Marshal(texts)
	require.NoError(t, err)
	command := exec.Command("php", "-r", `echo json_encode(array_map(function ($t) {
		$d = new DOMDocument(); $d->loadXML($t[1]);
		$word = (new DOMXPath($d))->query($t[0])->item(0);
		return base64_encode($t[0] == "/ledger/store/word" ? preg_replace("/^[ \n\r\t]+|[ \n\r\t]+$/", "", $word->textContent) : $word->nodeValue);
	}, json_decode(stream_get_contents(STDIN))));`)
	command.Stdin = strings.NewReader(string(all))
	out, err := command.Output()
	require.NoError(t, err)
	var got [][]byte
	require.NoError(t, json.Unmarshal(out, &got))
	for i := range wanted {
		require.Equal(t, wanted[i], string(got[i]), "%q", texts[i])
	}
}

// TestINIComesBackThroughRealPHP lets parse_ini_file read what was written.
func TestINIComesBackThroughRealPHP(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 4))
	folder := t.TempDir()
	var wanted []string
	for i := 0; len(wanted) < 1500; i++ {
		shape := otherShapes[i%5]
		value := randomValue(random)
		before, err := Parse(shape.file, []byte(shape.source))
		require.NoError(t, err)
		after, err := before.With([]Change{{Address: shape.address, Value: value}})
		if err != nil {
			require.ErrorContains(t, err, "cannot take this value", "%q", value)
			continue
		}
		require.NoError(t, os.WriteFile(filepath.Join(folder, fmt.Sprintf("%d.ini", len(wanted))), after.Bytes(), 0o600))
		wanted = append(wanted, value)
	}
	out, err := exec.Command("php", "-r", fmt.Sprintf(`$all = [];
		for ($i = 0; $i < %d; $i++) {
			$text = preg_replace('/^\xEF\xBB\xBF/', '', file_get_contents("%s/$i.ini"));
			$ini = parse_ini_string($text, true);
			$all[] = base64_encode($ini['storage']['word'] ?? $ini['s']['word'] ?? $ini['word'] ?? '(none)');
			if (isset($ini['word'], $ini['storage'])) $all[$i] = base64_encode($ini['word']);
		}
		echo json_encode($all);`, len(wanted), folder)).Output()
	require.NoError(t, err, string(out[:min(len(out), 500)]))
	var got [][]byte
	require.NoError(t, json.Unmarshal(out, &got))
	for i := range wanted {
		content, _ := os.ReadFile(filepath.Join(folder, fmt.Sprintf("%d.ini", i)))
		require.Equal(t, wanted[i], string(got[i]), "%q", content)
	}
}

func TestRefusalsOfOtherSyntaxes(t *testing.T) {
	ini, err := Parse("x.ini", []byte("[s]\na = \"x${HOME}\"\nb = 1 | 2\nc = \"x\" CONST\nd = x\nd = y\ne = z\n"))
	require.NoError(t, err)
	env, err := Parse(".env", []byte("A=\"mysql://${USER}\"\nB=$C\nD='x'y\nE=z\n"))
	require.NoError(t, err)
	yml, err := Parse("x.yaml", []byte("a: &x one\nb: *x\nc: |\n  text\nd: one\n  two\ne: !!str 5\nf: z\nf: y\n"))
	require.NoError(t, err)
	_, err = Parse("x.yaml", []byte("a: [1\nb: 2\n"))
	assert.ErrorContains(t, err, "this is not valid YAML")
	for _, row := range []struct {
		file                 *File
		address, value, want string
	}{
		{ini, "[s] a", "x", "x.ini:2:5: [s] a cannot be written: it is a string with a variable in it"},
		{ini, "[s] b", "x", "it is an expression that PHP evaluates"}, {ini, "[s] c", "x", "it is put together from pieces"},
		{ini, "[s] d", "x", "[s] d is set twice, first in line 5"}, {ini, "[s]e", "a\nb", "cannot take this value: it has a line break, which INI cannot hold"},
		{ini, "[s] e", "it's ${x}", "has both a quote and"}, {ini, "[s] f", "x", "there is no setting [s] f"}, {ini, "[s", "x", "is no address of a setting in INI"},
		{yml, "a", "x", "x.yaml:1:7: a cannot be written: it is marked for use in other places"}, {yml, "b", "x", "an alias of another value"},
		{yml, "c", "x", "a block of lines"}, {yml, "d", "x", "written over several lines"}, {yml, "e", "x", "tagged with a type"},
		{yml, "f", "x", "f is set twice, first in line 8"}, {yml, "h", "x", "there is no setting h"},
		{env, "A", "x", ".env:1:3: A cannot be written: it is a string with a variable in it"}, {env, "B", "x", "put together with a variable"},
		{env, "D", "x", "put together from pieces"}, {env, "F", "x", "there is no setting F"}, {env, "a b", "x", "is no address of a setting in dotenv"},
	} {
		_, err := row.file.With([]Change{{Address: row.address, Value: row.value}})
		assert.ErrorContains(t, err, row.want, row.address)
	}
	_, err = Parse("x.ini", []byte("[s]\na = \"open\n"))
	assert.ErrorContains(t, err, "x.ini:2:5: a quote is opened here and never closed")
	for source, want := range map[string]string{
		"{\"a\": 1,\n \"b\": }":  "x.json:2:7: this is not JSON: a value is missing",
		"{\"a\": \"open":         "x.json:1:7: this is not JSON: a quote is opened here",
		"{\"a\" 1}":              "a colon is missing",
		"{a: 1}":                 "a key in double quotes is missing",
		"{\"a\": [1 2]}":         "a comma or ] is missing",
		"{} {}":                  "nothing may follow the value",
		strings.Repeat("[", 500): "it is nested too deep",
		"{\"a\": 01}":            "not written as JSON wants it",
	} {
		_, err = Parse("x.json", []byte(source))
		assert.ErrorContains(t, err, want, source)
	}
	conf, err := Parse("gauge.conf", []byte("Host localhost\nHost other\nWord=x\n"))
	require.NoError(t, err)
	x, err := Parse("x.xml", []byte("<a><b>one<!-- two --></b><c>1</c><c>2</c><d n='5'/></a>"))
	require.NoError(t, err)
	source, err := Parse("x.php", []byte("<?php $a = ['dsn' => 'mysql:host=h;dbname=b', 'plain' => 'localhost', 'made' => 'mysql:host=' . $h];"))
	require.NoError(t, err)
	for _, row := range []struct {
		file                 *File
		address, value, want string
	}{
		{conf, "Host", "x", "Host is set twice, first in line 1"}, {conf, "Word", " x", "begins or ends with a blank"}, {conf, "a b", "x", "is no address of a setting in key and value"},
		{x, "/a/b", "x", "x.xml:1:7: /a/b cannot be written: it is put together from text and markup"}, {x, "/a/c", "x", "/a/c is set twice"},
		{x, "/a/d/@n", "\x01", "has a character that XML cannot hold"}, {x, "a", "x", "is no address of a setting in XML"},
		{source, "$a['dsn']#password", "a\x00b", "x.php:1:22: $a['dsn']#password cannot take this value: it has a NUL byte"},
		{source, "$a['plain']#host", "x", "the value is no data source name"}, {source, "$a['dsn']#pasword", "x", `a data source name has no part "pasword"`},
		{source, "$a['made']#host", "x", "cannot be written: it is"},
	} {
		_, err := row.file.With([]Change{{Address: row.address, Value: row.value}})
		assert.ErrorContains(t, err, row.want, row.address)
	}
	_, err = Parse("x.xml", []byte("<a>\n<b>\n</a>"))
	assert.ErrorContains(t, err, "x.xml:3:1: this does not close /a/b")
	_, err = Parse(".env", []byte("A='open\n"))
	assert.ErrorContains(t, err, ".env:1:3: a quote is opened here and never closed")
}

func FuzzOtherSyntaxes(f *testing.F) {
	for _, shape := range otherShapes {
		f.Add(shape.file, []byte(shape.source), "new'value")
	}
	f.Fuzz(func(t *testing.T, name string, source []byte, value string) {
		if strings.ContainsAny(name, "/\x00") {
			return
		}
		file, err := Parse(name, source)
		if err != nil {
			return
		}
		requireEverySettingTakes(t, file, value)
	})
}

// TestDotenvComesBackThroughAShell: what the libraries read alike, a shell
// reads too. Control characters are left out: a shell has no escapes for them.
func TestDotenvComesBackThroughAShell(t *testing.T) {
	random := rand.New(rand.NewPCG(2, 7))
	folder := t.TempDir()
	var wanted []string
	var script strings.Builder
	for i := 0; len(wanted) < 600; i++ {
		shape := otherShapes[5+i%2]
		value := strings.NewReplacer("\n", "", "\r", "", "\t", "", "\x00", "", "\x7f", "").Replace(randomValue(random))
		before, err := Parse(shape.file, []byte(strings.ReplaceAll(shape.source, "\r", "")))
		require.NoError(t, err)
		after, err := before.With([]Change{{Address: shape.address, Value: value}})
		require.NoError(t, err)
		name := filepath.Join(folder, fmt.Sprintf("%d.env", i))
		require.NoError(t, os.WriteFile(name, after.Bytes(), 0o600))
		fmt.Fprintf(&script, ". %s; printf '%%s\\n' \"$WORD\"\n", name)
		wanted = append(wanted, value)
	}
	command := exec.Command("sh")
	command.Stdin = strings.NewReader(script.String())
	out, err := command.CombinedOutput()
	require.NoError(t, err)
	require.Equal(t, wanted, strings.Split(strings.TrimSuffix(string(out), "\n"), "\n"))
}
