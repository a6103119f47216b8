// Package xmlfile reads and edits the settings in XML files: the text of
// elements without children, and attributes. Layout, comments and everything
// else stay as they are.
//
// It must never know of files on disk or of what the settings are for.
package xmlfile

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"regexp"
	"strings"

	"yellowfield/internal/bounds"
	"yellowfield/internal/fault"
	"yellowfield/internal/settings/syntax"
	"yellowfield/internal/wordset"
)

// Syntax is XML as a syntax of settings.
var Syntax = syntax.Syntax{
	Name: "XML", Parse: parse, Normalise: normalise, Encode: encode,
	Comments: []string{"<!--"}, CommentEnd: "-->", Append: noPlace, Element: lastElement, Beside: beside,
	Addresses: "write /outer/inner for the text of an element, /outer/inner/@name for an attribute, and /outer/inner[@name='x'] for one of several",
}

// element is an open element.
type element struct {
	address  string
	name     string
	start    int // of its content
	children bool
	markup   bool // holds comments or CDATA, so that its text is not one piece
}

// parse gives the text of every element that has no children, and every
// attribute. Elements of one name beside each other are told apart by the attribute
// that names them, as in XPath. A file that is not well-formed is an error with its place.
func parse(source []byte) ([]syntax.Setting, error) {
	counted := map[string]int{}
	if _, err := settingsOf(source, func(address string, _ []xml.Attr) string {
		counted[address]++
		return address
	}); err != nil {
		return nil, err
	}
	return settingsOf(source, func(address string, attributes []xml.Attr) string {
		plain := predicate.ReplaceAllString(address, "")
		if counted[plain] < 2 {
			return address
		}
		for _, a := range attributes {
			if names[full(a.Name)] && nameable.MatchString(a.Value) {
				return address + "[@" + full(a.Name) + "='" + a.Value + "']"
			}
		}
		return address
	})
}

var (
	names     = wordset.Of("name key id") // attributes that name their element
	nameable  = regexp.MustCompile(`^[\w.-]+$`)
	predicate = regexp.MustCompile(`\[@\w+='[\w.-]+'\]`)
)

// settingsOf gives the settings with the addresses that addressed makes of the plain ones.
func settingsOf(source []byte, addressed func(address string, attributes []xml.Attr) string) ([]syntax.Setting, error) {
	decoder := xml.NewDecoder(bytes.NewReader(source))
	decoder.Strict = true
	decoder.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	var found []syntax.Setting
	var open []element
	for {
		before := int(decoder.InputOffset())
		token, err := decoder.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, malformed(source, before, err)
		}
		after := int(decoder.InputOffset())
		switch t := token.(type) {
		case xml.StartElement:
			address := "/" + full(t.Name)
			if len(open) > 0 {
				open[len(open)-1].children = true
				address = open[len(open)-1].address + address
			}
			address = addressed(address, t.Attr)
			found = append(found, attributes(source, before, after, address, t.Attr)...)
			if open = append(open, element{address: address, name: full(t.Name), start: after}); len(open) > bounds.Deepest {
				return nil, malformed(source, before, outline("elements are nested too deep"))
			}
		case xml.EndElement:
			if len(open) == 0 {
				return nil, malformed(source, before, outline("this closes nothing"))
			}
			e := open[len(open)-1]
			open = open[:len(open)-1]
			if e.name != full(t.Name) {
				return nil, malformed(source, before, outline("this does not close "+e.address))
			}
			if !e.children && before >= e.start && source[after-1] == '>' && bytes.HasPrefix(source[before:], []byte("</")) {
				found = append(found, text(source, e, before))
			}
		case xml.Comment, xml.Directive, xml.ProcInst:
			if len(open) > 0 {
				open[len(open)-1].markup = true
			}
		case xml.CharData:
			if len(open) > 0 && bytes.Contains(source[before:after], []byte("<![CDATA[")) {
				open[len(open)-1].markup = true
			}
		}
	}
	if len(open) > 0 {
		return nil, malformed(source, open[len(open)-1].start, outline("this is never closed: "+open[len(open)-1].address))
	}
	return found, nil
}

func full(n xml.Name) string {
	if n.Space != "" {
		return n.Space + ":" + n.Local
	}
	return n.Local
}

// outline is what is wrong with a file's elements.
type outline string

func (o outline) Error() string { return string(o) }

func malformed(source []byte, at int, err error) error {
	what := "this is no well-formed XML" // the library's own message may quote the file, where passwords stand
	var ours outline
	if errors.As(err, &ours) {
		what = string(ours)
	}
	return fault.At(fault.Invalid, syntax.PlaceAt(source, min(at, len(source))), "correct the file", "%s", what)
}

var integer = regexp.MustCompile(`^-?[0-9]+$`)

func setting(source []byte, address string, start, end int) syntax.Setting {
	s := syntax.Setting{Address: address, Kind: syntax.String, Value: unescape(string(source[start:end])), Start: start, End: end}
	if integer.MatchString(s.Value) {
		s.Kind = syntax.Integer
	}
	return s
}

// text is the content of an element without children.
func text(source []byte, e element, end int) syntax.Setting {
	start := e.start
	raw := string(source[start:end])
	trimmed := strings.Trim(raw, " \t\r\n")
	if trimmed != "" {
		start += strings.Index(raw, trimmed)
	}
	end = start + len(trimmed)
	s := setting(source, e.address, start, end)
	if inside, is := inCDATA(trimmed); is {
		s.Kind, s.Value = syntax.String, inside
		return s
	}
	if e.markup {
		s.Kind, s.Value, s.Refusal = syntax.Expression, raw, "put together from text and markup"
	}
	return s
}

const openCDATA, closeCDATA = "<![CDATA[", "]]>"

// inCDATA gives what a text says that is one CDATA section.
func inCDATA(text string) (inside string, is bool) {
	inside, begins := strings.CutPrefix(text, openCDATA)
	inside, ends := strings.CutSuffix(inside, closeCDATA)
	return inside, begins && ends && !strings.Contains(inside, closeCDATA)
}

var attribute = regexp.MustCompile(`([^\s=/<>"']+)\s*=\s*("[^"]*"|'[^']*')`)

// attributes finds where the attributes of a start tag stand.
func attributes(source []byte, from, to int, address string, parsed []xml.Attr) []syntax.Setting {
	var found []syntax.Setting
	places := attribute.FindAllSubmatchIndex(source[from:to], -1)
	for i := range parsed {
		if i < len(places) {
			m := places[i]
			found = append(found, setting(source, address+"/@"+string(source[from+m[2]:from+m[3]]), from+m[4]+1, from+m[5]-1))
		}
	}
	return found
}

func unescape(text string) string {
	if !strings.Contains(text, "&") {
		return text
	}
	var b strings.Builder
	decoder := xml.NewDecoder(strings.NewReader("<x>" + text + "</x>"))
	for {
		token, err := decoder.Token()
		if err != nil {
			return b.String()
		}
		if t, ok := token.(xml.CharData); ok {
			b.Write(t)
		}
	}
}

var addressForm = regexp.MustCompile(`^(/[^/\s@\[\]]+(\[@\w+='[\w.-]+'\])?)+(/@[^/\s@]+)?$`)

// normalise takes an address as it is.
func normalise(text string) (string, bool) {
	text = strings.TrimSpace(text)
	return text, addressForm.MatchString(text)
}

// encode escapes what XML gives a meaning; a CDATA section stays one. Blanks at the ends of a text and
// characters that XML cannot hold are refused.
func encode(old syntax.Setting, literal, value string) (string, error) {
	_, section := inCDATA(literal)
	section = section && !strings.Contains(value, closeCDATA) && !strings.Contains(value, "\r")
	if !section && !strings.Contains(old.Address, "/@") && value != strings.Trim(value, " \t\r\n") {
		return "", errors.New("begins or ends with a blank, which is taken for layout")
	}
	for _, r := range value {
		if r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0xfffe || r == 0xffff {
			return "", errors.New("has a character that XML cannot hold")
		}
	}
	if section {
		return openCDATA + value + closeCDATA, nil
	}
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", "&apos;", "\t", "&#9;", "\n", "&#10;", "\r", "&#13;").Replace(value), nil
}

func noPlace(syntax.File, string) (int, string, error) {
	return 0, "", errors.New("the file has nothing beside it, and XML no other place for it that can be told")
}

var elementName = regexp.MustCompile(`^(.*?)/([A-Za-z_][\w.-]*)$`)

func lastElement(address string) (parent, name string, ok bool) {
	m := elementName.FindStringSubmatch(address)
	if m == nil {
		return "", "", false
	}
	return m[1], m[2], true
}

func beside(f syntax.File, s syntax.Sibling, name string) (int, string, bool) {
	end := bytes.IndexByte(f.Source[s.End:], '>')
	if end < 0 || !bytes.HasPrefix(f.Source[s.End:], []byte("</")) {
		return 0, "", false
	}
	return s.End + end + 1, f.LineEnd + s.Indent + "<" + name + "></" + name + ">", true
}
