// Package yamlfile reads and edits the settings in YAML files without losing a
// byte: the library tells where a value stands, and the value is spliced, so
// that comments and layout stay.
//
// It must never know of files on disk or of what the settings are for.
package yamlfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"regexp"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"yellowfield/internal/bounds"
	"yellowfield/internal/fault"
	"yellowfield/internal/settings/jsonfile"
	"yellowfield/internal/settings/syntax"
)

// Syntax is YAML as a syntax of settings.
var Syntax = syntax.Syntax{
	Name: "YAML", Parse: parse, Normalise: jsonfile.Normalise, Encode: encode,
	Comments: []string{"#"}, Append: appendLine, Element: jsonfile.Element, Beside: beside,
	Addresses: "write the keys joined by dots: main.server, servers.0.name",
}

// parse gives every value that is no map or list. A value that is written over
// several lines, an alias or a tagged value comes with its Refusal.
func parse(source []byte) ([]syntax.Setting, error) {
	if err := bounds.CheckYAML(source); err != nil {
		return nil, fault.At(fault.Invalid, fault.Place{}, "is this the right file?", "the file %v", err)
	}
	text, inSource := withoutTrailing(source)
	tree, err := parser.ParseBytes(text, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		place := fault.Place{Line: 1}
		var positioned yaml.Error
		if errors.As(err, &positioned) && positioned.GetToken() != nil {
			at := positioned.GetToken().Position
			place = fault.Place{Line: at.Line, Column: at.Column}
		}
		// The library's message may quote the file, where passwords stand.
		return nil, fault.At(fault.Invalid, place, "look at quotes, colons and indentation, which is by spaces", "this is not valid YAML")
	}
	f := &finder{source: text, lines: lineStarts(text)}
	for _, document := range tree.Docs {
		if document.Body != nil {
			f.walk("", document.Body, "")
		}
	}
	for i := range f.found {
		s := &f.found[i]
		length := s.End - s.Start
		s.Start = inSource(s.Start)
		s.End = s.Start + length
	}
	return f.found, nil
}

// withoutTrailing is a text without blanks at the ends of its lines and without a mark of the
// byte order, after which the library counts columns wrongly; inSource gives the place of one
// of its bytes as it was before.
func withoutTrailing(source []byte) (text []byte, inSource func(at int) int) {
	text = make([]byte, 0, len(source))
	var ends, removed []int // of lines, and how much was left out up to the next one
	before := len(source) - len(bytes.TrimPrefix(source, []byte(syntax.ByteOrderMark)))
	out := before
	for line := range bytes.Lines(source[before:]) {
		kept := bytes.TrimRight(line, " \t\r\n")
		text = append(text, kept...)
		if bytes.HasSuffix(line, []byte("\n")) {
			text = append(text, '\n')
		}
		removed = append(removed, out)
		ends = append(ends, len(text))
		out += len(line) - len(kept) - 1
	}
	return text, func(at int) int {
		i := min(sort.SearchInts(ends, at+1), len(removed)-1)
		return at + removed[i]
	}
}

func lineStarts(source []byte) []int {
	starts := []int{0}
	for i, c := range source {
		if c == '\n' {
			starts = append(starts, i+1)
		}
	}
	return starts
}

type finder struct {
	source []byte
	lines  []int
	// line, column and at are where offset was asked for last.
	line, column, at int
	found            []syntax.Setting
}

// walk takes a node; refusal is why nothing below it can be written.
func (f *finder) walk(address string, node ast.Node, refusal string) {
	switch n := node.(type) {
	case *ast.MappingNode:
		for _, pair := range n.Values {
			f.pair(address, pair, refusal)
		}
	case *ast.MappingValueNode:
		f.pair(address, n, refusal)
	case *ast.SequenceNode:
		for i, item := range n.Values {
			f.walk(jsonfile.Join(address, strconv.Itoa(i)), item, refusal)
		}
	case *ast.AnchorNode:
		f.walk(address, n.Value, "marked for use in other places (&)")
	case *ast.TagNode:
		f.walk(address, n.Value, "tagged with a type")
	case *ast.AliasNode:
		f.add(address, n.Start, syntax.Expression, "*", "an alias of another value")
	case *ast.LiteralNode:
		f.add(address, n.Start, syntax.Expression, n.Value.Value, "a block of lines")
	case *ast.StringNode:
		f.scalar(address, n.Token, syntax.String, n.Value, refusal)
	case *ast.IntegerNode:
		f.scalar(address, n.Token, syntax.Integer, n.Token.Value, refusal)
	case *ast.FloatNode:
		f.scalar(address, n.Token, syntax.Float, n.Token.Value, refusal)
	case *ast.BoolNode:
		f.scalar(address, n.Token, syntax.Boolean, n.Token.Value, refusal)
	case *ast.NullNode:
		f.scalar(address, n.Token, syntax.Null, n.Token.Value, refusal)
	}
}

func (f *finder) pair(address string, pair *ast.MappingValueNode, refusal string) {
	if pair.Key.IsMergeKey() {
		return
	}
	key := pair.Key.GetToken().Value
	if text, ok := pair.Key.(*ast.StringNode); ok {
		key = text.Value
	}
	address = jsonfile.Join(address, key)
	if at, nothing := f.nothingBehind(pair); nothing && refusal == "" {
		f.found = append(f.found, syntax.Setting{Address: address, Kind: syntax.Null, Start: at, End: at})
		return
	}
	f.walk(address, pair.Value, refusal)
}

// nothingBehind is the place after the colon of a key that has no value: a comment at most
// stands there.
func (f *finder) nothingBehind(pair *ast.MappingValueNode) (at int, nothing bool) {
	if _, null := pair.Value.(*ast.NullNode); !null {
		return 0, false
	}
	colon := f.offset(pair.Start.Position)
	if colon < 0 || colon >= len(f.source) || f.source[colon] != ':' {
		return 0, false
	}
	rest, _, _ := bytes.Cut(f.source[colon+1:], []byte("\n"))
	return colon + 1, onlyComment.Match(rest)
}

var onlyComment = regexp.MustCompile(`^[ \t]*(?:[ \t]#[^\r]*)?\r?$`)

// offset is the byte that a position means; columns count characters.
func (f *finder) offset(p *token.Position) int {
	if p.Line < 1 || p.Line > len(f.lines) {
		return -1
	}
	if p.Line != f.line || p.Column < f.column {
		f.line, f.column, f.at = p.Line, 1, f.lines[p.Line-1]
	}
	for ; f.column < p.Column; f.column++ {
		if f.at >= len(f.source) {
			return -1
		}
		_, size := utf8.DecodeRune(f.source[f.at:])
		f.at += size
	}
	return f.at
}

func (f *finder) add(address string, t *token.Token, kind syntax.Kind, value, refusal string) {
	at := max(f.offset(t.Position), 0)
	f.found = append(f.found, syntax.Setting{Address: address, Kind: kind, Value: value, Start: at, End: at, Refusal: refusal})
}

// scalar takes a value on one line: quoted, or as the token has it. What the
// source does not show in that form, such as a value that goes on in the next
// line, is not written.
func (f *finder) scalar(address string, t *token.Token, kind syntax.Kind, value, refusal string) {
	start := f.offset(t.Position)
	if start < 0 {
		f.add(address, t, syntax.Expression, value, "written in a way that is not understood")
		return
	}
	rest := f.source[start:]
	length := -1
	switch {
	case bytes.HasPrefix(rest, []byte(`"`)):
		if i := syntax.ClosingQuote(f.source[start:], true); i > 0 {
			length = i + 1
		}
	case bytes.HasPrefix(rest, []byte("'")):
		length = singleQuoted(rest)
	case t.Value != "" && bytes.HasPrefix(rest, []byte(t.Value)):
		length = len(t.Value)
	}
	if length < 0 || bytes.ContainsAny(rest[:length], "\r\n") {
		if refusal == "" {
			refusal = "written over several lines, or empty"
		}
		f.add(address, t, syntax.Expression, value, refusal)
		return
	}
	f.found = append(f.found, syntax.Setting{Address: address, Kind: kind, Value: value, Start: start, End: start + length, Refusal: refusal})
}

// singleQuoted is the length of the text in single quotes at the beginning, -1
// when it is not closed; a doubled quote stands for one.
func singleQuoted(text []byte) int {
	for i := 1; i < len(text); i++ {
		if text[i] != '\'' {
			continue
		}
		if i+1 < len(text) && text[i+1] == '\'' {
			i++
			continue
		}
		return i + 1
	}
	return -1
}

var (
	integer = regexp.MustCompile(`^-?(0|[1-9][0-9]*)$`)
	float   = regexp.MustCompile(`^-?(0|[1-9][0-9]*)\.[0-9]+$`)
	// plain can stand without quotes and is a text to every YAML reader.
	plain = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_]*([./@-][A-Za-z0-9_]+)*$`)
	words = regexp.MustCompile(`(?i)^(y|n|yes|no|on|off|true|false|null|inf|nan)$`)
)

// encode keeps the quoting of the old value where the new one allows it. Behind a key that
// had none a blank comes first.
func encode(old syntax.Setting, literal, value string) (string, error) {
	text, err := encoded(old, literal, value)
	if old.Start == old.End {
		text = " " + text
	}
	return text, err
}

func encoded(old syntax.Setting, literal, value string) (string, error) {
	// Two characters end a line for YAML and not for JSON; in quotes they
	// would be folded.
	special := strings.ContainsFunc(value, func(c rune) bool {
		return c < ' ' || c == 0x7f || c == 0x85 || c == 0x2028 || c == 0x2029 || c == 0xfeff
	})
	switch {
	case !utf8.ValidString(value):
		return "", errors.New("is not valid UTF-8, which YAML cannot hold")
	case old.Kind == syntax.Integer && integer.MatchString(value), old.Kind == syntax.Float && (float.MatchString(value) || integer.MatchString(value)),
		old.Kind == syntax.Boolean && (value == "true" || value == "false"):
		return value, nil
	case plain.MatchString(value) && !words.MatchString(value) && !strings.HasPrefix(literal, `"`) && !strings.HasPrefix(literal, "'"):
		return value, nil
	case !special && !strings.HasPrefix(literal, `"`):
		return "'" + strings.ReplaceAll(value, "'", "''") + "'", nil
	}
	var text strings.Builder
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	err := encoder.Encode(value)
	return strings.NewReplacer("\n", "", "\x7f", `\u007f`, "\u0085", `\u0085`, "\ufeff", `\ufeff`).Replace(text.String()), err
}

func appendLine(f syntax.File, address string) (int, string, error) {
	if strings.Contains(address, ".") {
		return 0, "", errors.New("the file has no key beside it")
	}
	return len(f.Source), address + ": x", nil
}

// beside puts a key of a block on a line of its own, and one of a flow after the other.
func beside(f syntax.File, s syntax.Sibling, key string) (int, string, bool) {
	if !s.Alone(",{[(") {
		return s.End, ", " + key + ": x", true
	}
	if s.Parent == "" {
		return 0, "", false
	}
	end := s.End + bytes.IndexByte(append(bytes.Clone(f.Source[s.End:]), '\n'), '\n')
	return end, f.LineEnd + s.Indent + key + ": x", true
}
