package estate

import (
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"yellowfield/internal/bounds"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// decoder turns the syntax tree of one YAML file into the types of this package. It continues
// after an error, so that one run reports all of them, and remembers the position of every
// key, so that later checks can name it.
type decoder struct {
	file   string
	source []byte
	places map[string]fault.Place
	errs   []error
	// anchors are the named nodes of the file.
	anchors map[string]ast.Node
}

// decodeFile reads one file into target, a pointer to a struct.
func decodeFile(file string, source []byte, target any, places map[string]fault.Place) error {
	d := &decoder{file: file, source: source, places: places, anchors: map[string]ast.Node{}}
	if err := bounds.CheckYAML(source); err != nil {
		return fault.At(fault.Invalid, fault.Place{File: file}, "split it with include, or is this the right file?", "the estate file %v", err)
	}
	tree, err := parser.ParseBytes(source, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		var positioned yaml.Error
		if errors.As(err, &positioned) && positioned.GetToken() != nil {
			return d.fault(d.placeOf(positioned.GetToken()), "correct the YAML; indentation is by spaces", "this is not valid YAML: %s", positioned.GetMessage())
		}
		return d.fault(fault.Place{File: file}, "correct the YAML", "this is not valid YAML: %v", err)
	}
	var bodies []ast.Node
	for _, document := range tree.Docs {
		if document.Body != nil && document.Body.Type() != ast.CommentType {
			bodies = append(bodies, document.Body)
		}
	}
	switch len(bodies) {
	case 0:
		return d.fault(fault.Place{File: file}, "write servers: and apps:", "the file is empty")
	case 1:
	default:
		return d.fault(d.placeOf(bodies[1].GetToken()), "use include: to spread the estate over files", "a second YAML document begins here")
	}
	ast.Walk(anchorCollector{d.anchors}, bodies[0])
	d.decode(bodies[0], reflect.ValueOf(target).Elem(), "")
	return errors.Join(d.errs...)
}

type anchorCollector struct{ anchors map[string]ast.Node }

func (c anchorCollector) Visit(node ast.Node) ast.Visitor {
	if anchor, ok := node.(*ast.AnchorNode); ok {
		c.anchors[anchor.Name.GetToken().Value] = anchor.Value
	}
	return c
}

func (d *decoder) placeOf(t *token.Token) fault.Place {
	return fault.Place{File: d.file, Line: t.Position.Line, Column: t.Position.Column}
}

func (d *decoder) fault(place fault.Place, next, format string, args ...any) error {
	return fault.At(fault.Invalid, place, next, format, args...).WithExcerpt(d.source)
}

func (d *decoder) report(node ast.Node, next, format string, args ...any) {
	d.errs = append(d.errs, d.fault(d.placeOf(firstToken(node)), next, format, args...))
}

// firstToken is where a node begins; a mapping's own token is its colon.
func firstToken(node ast.Node) *token.Token {
	switch n := node.(type) {
	case *ast.MappingNode:
		if len(n.Values) > 0 && !n.IsFlowStyle {
			return firstToken(n.Values[0])
		}
	case *ast.MappingValueNode:
		return n.Key.GetToken()
	}
	return node.GetToken()
}

// resolve follows anchors and aliases.
func (d *decoder) resolve(node ast.Node) ast.Node {
	for range 100 { // an alias may name an alias, but only so often
		switch n := node.(type) {
		case *ast.AnchorNode:
			node = n.Value
		case *ast.AliasNode:
			target, known := d.anchors[n.Value.GetToken().Value]
			if !known {
				d.report(n, "name an anchor of this file", "the alias *%s has no anchor", n.Value.GetToken().Value)
				return nil
			}
			node = target
		case *ast.TagNode:
			node = n.Value
		default:
			return node
		}
	}
	d.report(node, "remove the circle", "the aliases go round in a circle")
	return nil
}

// custom is implemented by types that the file may write in more than one way.
type custom interface {
	decodeNode(d *decoder, node ast.Node, path string)
}

// words by which messages name what was found and what is wanted.
func describe(node ast.Node) string {
	switch node.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		return "a map"
	case *ast.SequenceNode:
		return "a list"
	case *ast.BoolNode:
		return "true or false"
	case *ast.IntegerNode, *ast.FloatNode:
		return "a number"
	case *ast.NullNode:
		return "nothing"
	}
	return "a text"
}

func (d *decoder) mismatch(node ast.Node, path, want string) {
	d.report(node, forms[want], "%s must be %s, and this is %s", lastKey(path), want, describe(node))
}

// forms shows how what is wanted is written.
var forms = map[string]string{
	"a list": "write [one, two], or each on a line of its own after a hyphen", "a map": "write {key: value}, or each key on a line of its own",
	"a text": "write it in quotes", "a whole number": "write digits only", "true or false": "write true or false",
}

// lastKey names the key a path ends in.
func lastKey(path string) string {
	if i := strings.LastIndexByte(path, '.'); i >= 0 {
		path = path[i+1:]
	}
	if path == "" {
		return "the estate file"
	}
	return path
}

func (d *decoder) decode(node ast.Node, target reflect.Value, path string) {
	if node = d.resolve(node); node == nil {
		return
	}
	// A map or list is found by its key, which entries has noted; a single
	// value by itself.
	_, noted := d.places[path]
	switch node.(type) {
	case *ast.MappingNode, *ast.MappingValueNode, *ast.SequenceNode:
		if !noted {
			d.places[path] = d.placeOf(firstToken(node))
		}
	default:
		d.places[path] = d.placeOf(firstToken(node))
	}
	if _, isNull := node.(*ast.NullNode); isNull {
		return // a key without a value is as good as absent
	}
	if target.CanAddr() {
		if c, ok := target.Addr().Interface().(custom); ok {
			c.decodeNode(d, node, path)
			return
		}
	}
	switch target.Kind() {
	case reflect.Pointer:
		fresh := reflect.New(target.Type().Elem())
		d.decode(node, fresh.Elem(), path)
		target.Set(fresh)
	case reflect.Struct:
		d.decodeStruct(node, target, path)
	case reflect.Map:
		d.decodeMap(node, target, path)
	case reflect.Slice:
		list, ok := node.(*ast.SequenceNode)
		if !ok {
			d.mismatch(node, path, "a list")
			return
		}
		for i, item := range list.Values {
			element := reflect.New(target.Type().Elem()).Elem()
			d.decode(item, element, fmt.Sprintf("%s[%d]", path, i))
			target.Set(reflect.Append(target, element))
		}
	case reflect.String:
		if text, ok := d.text(node, path); ok {
			target.SetString(text)
		}
	case reflect.Int:
		number, err := strconv.Atoi(node.GetToken().Value)
		if _, ok := node.(*ast.IntegerNode); !ok || err != nil {
			d.mismatch(node, path, "a whole number")
			return
		}
		target.SetInt(int64(number))
	case reflect.Bool:
		b, ok := node.(*ast.BoolNode)
		if !ok {
			d.mismatch(node, path, "true or false")
			return
		}
		target.SetBool(b.Value)
	default:
		panic("estate: no decoding for " + target.Type().String())
	}
}

// text takes a scalar as it is written. Numbers and booleans are taken for
// text too, so that nobody has to quote a version or a number.
func (d *decoder) text(node ast.Node, path string) (string, bool) {
	switch n := node.(type) {
	case *ast.StringNode:
		return n.Value, true
	case *ast.LiteralNode:
		return n.Value.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return node.GetToken().Value, true
	}
	d.mismatch(node, path, "a text")
	return "", false
}

// entries gives the pairs of a mapping, with doubled keys reported.
func (d *decoder) entries(node ast.Node, path string) (pairs []*ast.MappingValueNode, ok bool) {
	switch n := node.(type) {
	case *ast.MappingNode:
		pairs = n.Values
	case *ast.MappingValueNode:
		pairs = []*ast.MappingValueNode{n}
	default:
		d.mismatch(node, path, "a map")
		return nil, false
	}
	seen := map[string]fault.Place{}
	unique := pairs[:0:0]
	for _, pair := range pairs {
		if pair.Key.IsMergeKey() {
			d.report(pair.Key, "use defaults:, or an alias for a whole value", "<< is not understood here")
			continue
		}
		key := keyOf(pair)
		if first, doubled := seen[key]; doubled {
			d.report(pair.Key, "remove one of the two", "%q is there twice, first in line %d", key, first.Line)
			continue
		}
		seen[key] = d.placeOf(pair.Key.GetToken())
		d.places[join(path, key)] = seen[key]
		unique = append(unique, pair)
	}
	return unique, true
}

func keyOf(pair *ast.MappingValueNode) string {
	if text, ok := pair.Key.(*ast.StringNode); ok {
		return text.Value
	}
	return pair.Key.GetToken().Value
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

func (d *decoder) decodeStruct(node ast.Node, target reflect.Value, path string) {
	pairs, ok := d.entries(node, path)
	if !ok {
		return
	}
	fields := map[string]int{}
	var known []string
	for i := range target.NumField() {
		if name := target.Type().Field(i).Tag.Get("yaml"); name != "" && name != "-" {
			fields[name] = i
			known = append(known, name)
		}
	}
	for _, pair := range pairs {
		key := keyOf(pair)
		field, isKnown := fields[key]
		if !isKnown {
			d.report(pair.Key, fault.DidYouMean(key, known, "known here: "+strings.Join(known, ", ")), "unknown key %q", key)
			continue
		}
		d.decode(pair.Value, target.Field(field), join(path, key))
	}
}

func (d *decoder) decodeMap(node ast.Node, target reflect.Value, path string) {
	pairs, ok := d.entries(node, path)
	if !ok {
		return
	}
	target.Set(reflect.MakeMap(target.Type()))
	for _, pair := range pairs {
		value := reflect.New(target.Type().Elem()).Elem()
		d.decode(pair.Value, value, join(path, keyOf(pair)))
		target.SetMapIndex(reflect.ValueOf(keyOf(pair)), value)
	}
}

// oneOrMany takes a text or a list of texts.
func (d *decoder) oneOrMany(node ast.Node, path string) []string {
	if _, isList := node.(*ast.SequenceNode); isList {
		var list []string
		d.decode(node, reflect.ValueOf(&list).Elem(), path)
		return list
	}
	if text, ok := d.text(node, path); ok {
		return []string{text}
	}
	return nil
}

func (r *Rights) decodeNode(d *decoder, node ast.Node, path string) {
	if _, isMap := node.(*ast.MappingNode); !isMap {
		r.Installing = d.oneOrMany(node, path)
		r.Running = r.Installing
		return
	}
	pairs, _ := d.entries(node, path)
	for _, pair := range pairs {
		switch key := keyOf(pair); key {
		case "installing":
			r.Installing = d.oneOrMany(d.resolve(pair.Value), join(path, key))
		case "running":
			r.Running = d.oneOrMany(d.resolve(pair.Value), join(path, key))
		default:
			d.report(pair.Key, "known here: installing, running", "unknown key %q", key)
		}
	}
	if r.Installing == nil || r.Running == nil {
		d.report(node, "or give one list for both", "rights must have both installing and running")
	}
}

func (p *PasswordSource) decodeNode(d *decoder, node ast.Node, path string) {
	ways := "give {file: PATH}, {env: NAME}, {command: [...]} or {ask: true}"
	if _, isMap := node.(*ast.MappingNode); !isMap {
		// The value is not shown: it may well be a password.
		place := d.placeOf(firstToken(node))
		d.errs = append(d.errs, fault.At(fault.Invalid, place, ways, "a password may not stand in the estate file"))
		return
	}
	var source struct {
		File    string   `yaml:"file"`
		Env     string   `yaml:"env"`
		Command []string `yaml:"command"`
		Ask     bool     `yaml:"ask"`
	}
	d.decodeStruct(node, reflect.ValueOf(&source).Elem(), path)
	p.Source = secret.Source{File: source.File, Env: source.Env, Command: source.Command, Ask: source.Ask}
	given := 0
	for _, is := range []bool{source.File != "", source.Env != "", len(source.Command) > 0, source.Ask} {
		if is {
			given++
		}
	}
	if given != 1 {
		d.report(node, ways, "a password must come from exactly one place")
	}
}

func (s *Script) decodeNode(d *decoder, node ast.Node, path string) {
	if _, isMap := node.(*ast.MappingNode); isMap {
		type fields Script // without the method, so that the fields are decoded
		d.decodeStruct(node, reflect.ValueOf((*fields)(s)).Elem(), path)
		return
	}
	s.File, _ = d.text(node, path)
}

var condition = regexp.MustCompile(`^\s*(>=|<=|=)?\s*(\S.*?)\s*$`)

func (v *Variable) decodeNode(d *decoder, node ast.Node, path string) {
	text, _ := d.text(node, path)
	*v = Variable(text)
}

func (c *Condition) decodeNode(d *decoder, node ast.Node, path string) {
	c.Severity = MustFix
	if _, isMap := node.(*ast.MappingNode); isMap {
		type fields struct {
			Want     string   `yaml:"want"`
			Severity Severity `yaml:"severity"`
		}
		f := fields{Severity: MustFix}
		d.decodeStruct(node, reflect.ValueOf(&f).Elem(), path)
		c.Want, c.Severity = f.Want, f.Severity
		if !slices.Contains(Severities, string(c.Severity)) {
			d.report(node, "known: "+strings.Join(Severities, ", "), "unknown severity %q", c.Severity)
		}
	} else {
		c.Want, _ = d.text(node, path)
	}
	if !condition.MatchString(c.Want) {
		d.report(node, `write for instance ">= 256M", "on" or a plain value`, "%s wants nothing", lastKey(path))
	}
}

func (v *Values) decodeNode(d *decoder, node ast.Node, path string) {
	pairs, ok := d.entries(node, path)
	if !ok {
		return
	}
	for _, pair := range pairs {
		raw, ok := d.text(d.resolve(pair.Value), join(path, keyOf(pair)))
		if !ok {
			continue
		}
		text, err := parseText(raw)
		var unknown *unknownWord
		if errors.As(err, &unknown) {
			d.report(pair.Value, fault.DidYouMean(unknown.word, unknown.known, "known: "+strings.Join(unknown.known, ", ")), "%v", err)
			continue
		}
		*v = append(*v, Value{Address: keyOf(pair), Text: text})
	}
}

func (l *Databases) decodeNode(d *decoder, node ast.Node, path string) {
	pairs, ok := d.entries(node, path)
	if !ok {
		return
	}
	for _, pair := range pairs {
		one := &Database{Key: keyOf(pair)}
		d.decode(pair.Value, reflect.ValueOf(one).Elem(), join(path, one.Key))
		*l = append(*l, one)
	}
}

var octal = regexp.MustCompile(`^0?[0-7]{3}$`)

func (m *Mode) decodeNode(d *decoder, node ast.Node, path string) {
	text, ok := d.text(node, path)
	if !ok {
		return
	}
	if !octal.MatchString(text) {
		d.report(node, `write for instance "0440"`, "%q is no file mode", text)
		return
	}
	bits, _ := strconv.ParseUint(text, 8, 32)
	if bits&0o002 != 0 {
		d.report(node, `write for instance "0660" and give the file to a group`, "mode %s lets everyone on the host write the file", text)
	}
	*m = Mode(bits)
}

var sizeText = regexp.MustCompile(`^([1-9][0-9]{0,8})([KMG]?)$`)

func (s *Size) decodeNode(d *decoder, node ast.Node, path string) {
	if text, ok := d.text(node, path); ok {
		if err := s.Set(text); err != nil {
			d.report(node, fault.As(err).Next, "%s", fault.As(err).What)
		}
	}
}

var daysText = regexp.MustCompile(`^([1-9][0-9]{0,4})d$`)

func (n *Days) decodeNode(d *decoder, node ast.Node, path string) {
	if text, ok := d.text(node, path); ok {
		if err := n.Set(text); err != nil {
			d.report(node, fault.As(err).Next, "%s", fault.As(err).What)
		}
	}
}

// Set reads a number of days.
func (n *Days) Set(text string) error {
	m := daysText.FindStringSubmatch(text)
	if m == nil {
		return fault.New(fault.Invalid, "write for instance 400d", "%q is not a number of days", text)
	}
	number, _ := strconv.Atoi(m[1])
	*n = Days(number)
	return nil
}

// String writes it so.
func (n *Days) String() string { return strconv.Itoa(int(*n)) + "d" }

// Type is the word of the command line for it.
func (*Days) Type() string { return "days" }

// Set reads a size, also one of the command line.
func (s *Size) Set(text string) error {
	m := sizeText.FindStringSubmatch(text)
	if m == nil {
		return fault.New(fault.Invalid, "write for instance 256M", "%q is not a number of bytes", text)
	}
	number, _ := strconv.ParseInt(m[1], 10, 64)
	*s = Size(number << map[string]int{"": 0, "K": 10, "M": 20, "G": 30}[m[2]])
	return nil
}

// String writes a size as it was read.
func (s *Size) String() string {
	for i, unit := range []string{"G", "M", "K"} {
		if one := Size(1) << (30 - 10*i); *s >= one && *s%one == 0 {
			return strconv.FormatInt(int64(*s/one), 10) + unit
		}
	}
	return strconv.FormatInt(int64(*s), 10)
}

// Type is how help names a size.
func (*Size) Type() string { return "size" }
