// Package settings reads and edits the connection settings inside an
// application's configuration files, whatever their syntax, without losing a
// byte: it finds a value by its address, splices a new one in, and reads the
// result again before anything may be published.
//
// It must never know of database servers or of the estate file.
package settings

import (
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"

	"yellowfield/internal/bounds"
	"yellowfield/internal/fault"
	"yellowfield/internal/settings/dotenv"
	"yellowfield/internal/settings/dsn"
	"yellowfield/internal/settings/ini"
	"yellowfield/internal/settings/jsonfile"
	"yellowfield/internal/settings/keyvalue"
	"yellowfield/internal/settings/php"
	"yellowfield/internal/settings/syntax"
	"yellowfield/internal/settings/xmlfile"
	"yellowfield/internal/settings/yamlfile"
)

// File is the content of one configuration file and the settings in it. It is
// never changed: With gives a new File.
type File struct {
	Path     string
	Syntax   syntax.Syntax
	Settings []syntax.Setting
	source   []byte
}

// Parse reads content that is, or is to become, the file at path.
func Parse(path string, source []byte) (*File, error) {
	language, known := choose(path, source)
	if !known {
		return nil, fault.At(fault.Invalid, fault.Place{File: path}, "known are PHP, INI, YAML, JSON, XML, dotenv, and lines of key and value",
			"it cannot be told in which syntax this file is written")
	}
	return parse(path, language, source)
}

// Blank is the content of a file that sets nothing yet, by its name; nil where none is
// known.
func Blank(path string) []byte {
	plain, _ := PlainName(filepath.Base(path))
	switch strings.ToLower(filepath.Ext(plain)) {
	case ".php", ".inc":
		return []byte("<?php\n")
	case ".ini", ".env":
		return []byte{}
	}
	return nil
}

// IsBlank reports whether a file holds nothing but what Blank would give it.
func IsBlank(content []byte) bool {
	text := strings.TrimSpace(strings.TrimPrefix(string(content[:min(len(content), 64)]), syntax.ByteOrderMark))
	return len(content) < 64 && (text == "" || strings.EqualFold(strings.TrimSpace(strings.TrimSuffix(text, "?>")), "<?php"))
}

// choose tells the syntax of a file by its content, and by its name where that
// is not enough: an INI file, or one of the environment, may hide behind a line of PHP
// that ends it for a browser.
func choose(path string, source []byte) (syntax.Syntax, bool) {
	text := strings.TrimPrefix(string(source[:min(len(source), 64<<10)]), syntax.ByteOrderMark)
	plain, _ := PlainName(filepath.Base(path))
	name := strings.ToLower(plain)
	first, rest, more := strings.Cut(text, "\n")
	for more && strings.HasPrefix(first, ";") && !ini.IsGuard(first) { // a heading of comments
		first, rest, more = strings.Cut(rest, "\n")
	}
	switch {
	case ini.IsGuard(first), strings.HasSuffix(name, ".ini"):
		return ini.Syntax, true
	case strings.HasPrefix(first, "#") && ini.IsGuard(first[1:]) && onlyAssignments(text):
		return dotenv.Syntax, true
	case strings.Contains(strings.ToLower(text), "<?php"):
		return php.Syntax, true
	case strings.HasSuffix(name, ".yaml"), strings.HasSuffix(name, ".yml"):
		return yamlfile.Syntax, true
	case strings.HasSuffix(name, ".xml"), strings.HasPrefix(text, "<?xml"):
		return xmlfile.Syntax, true
	case strings.HasSuffix(name, ".json"), strings.HasPrefix(strings.TrimSpace(text), "{"):
		return jsonfile.Syntax, true
	case name == ".env", strings.HasPrefix(name, ".env."), strings.HasSuffix(name, ".env"):
		return dotenv.Syntax, true
	case ini.HasSections(text):
		return ini.Syntax, true
	case onlyAssignments(text):
		return dotenv.Syntax, true
	case keyvalue.Is(text):
		return keyvalue.Syntax, true
	}
	return syntax.Syntax{}, false
}

var (
	assignment = regexp.MustCompile(`^\s*(export\s+)?[A-Z_][A-Z0-9_]*=`)
)

// onlyAssignments reports whether every line is a comment or NAME=value, with
// names as environment variables have them.
func onlyAssignments(text string) bool {
	found := false
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || line[0] == '#' {
			continue
		}
		if !assignment.MatchString(line) {
			return false
		}
		found = true
	}
	return found
}

// mostPieces is some four times what the longest settings file has that people write. The
// library for YAML takes some kilobytes of memory for each.
const mostPieces = 40_000

// long is from how many bytes on files are parsed one at a time, however many apps are at work:
// what a parser needs meanwhile is a multiple of what it gives.
const long = 64 << 10

var longFile sync.Mutex

// longestAddresses is how long all addresses of a file may be.
const longestAddresses = 16 << 20

func parse(path string, language syntax.Syntax, source []byte) (*File, error) {
	if err := bounds.Check(source, mostPieces); err != nil {
		return nil, fault.At(fault.Invalid, fault.Place{File: path}, "is this the right file?", "the file %v", err)
	}
	if len(source) > long {
		longFile.Lock()
		defer longFile.Unlock()
	}
	found, err := language.Parse(source)
	if err != nil {
		f := fault.As(err)
		f.Place.File = path
		return nil, f
	}
	places, addresses := syntax.NewPlaces(source), 0
	for i := range found {
		if addresses += len(found[i].Address); addresses > longestAddresses {
			return nil, fault.At(fault.Invalid, fault.Place{File: path}, "is this the right file?", "the file nests its settings so deep that their addresses are longer than %d MiB", longestAddresses>>20)
		}
		found[i].Place = places.At(found[i].Start)
		found[i].Place.File = path
	}
	return &File{Path: path, Syntax: language, Settings: found, source: source}, nil
}

// Named is the file under another name, for messages and differences.
func (f *File) Named(path string) *File {
	named := *f
	named.Path = path
	return &named
}

// Bytes is the file's content.
func (f *File) Bytes() []byte { return f.source }

// Lookup finds the one setting an address means. It is an error, with place
// and reason, when there is none or more than one.
//
// An address that ends in # and the name of a part means that part of a data
// source name: $stock['dsn']#password.
func (f *File) Lookup(address string) (syntax.Setting, error) {
	if whole, part, has := cutPart(address); has {
		return f.lookupPart(whole, part)
	}
	normal, ok := f.Syntax.Normalise(address)
	if !ok {
		return syntax.Setting{}, fault.At(fault.Invalid, fault.Place{File: f.Path}, f.Syntax.Addresses,
			"%q is no address of a setting in %s", address, f.Syntax.Name)
	}
	var hits []syntax.Setting
	for _, s := range f.Settings {
		if s.Address == normal {
			hits = append(hits, s)
		}
	}
	switch {
	case len(hits) == 0:
		return syntax.Setting{}, f.unknown(normal)
	case len(hits) > 1:
		// Of two lines that both set it, the one in force cannot be told
		// without running the file; one that stands in a branch does not
		// make the other ambiguous for reading, but does for writing.
		return syntax.Setting{}, fault.At(fault.Invalid, hits[1].Place, "remove one of the two, or comment it out",
			"%s is set twice, first in line %d", normal, hits[0].Place.Line)
	}
	return hits[0], nil
}

// cutPart takes the part of a data source name off an address.
func cutPart(address string) (whole, part string, has bool) {
	i := strings.LastIndexByte(address, '#')
	if i <= 0 || strings.ContainsAny(address[i+1:], "'\"]") {
		return "", "", false
	}
	return address[:i], strings.TrimSpace(address[i+1:]), true
}

func (f *File) lookupPart(address, part string) (syntax.Setting, error) {
	s, err := f.Lookup(address)
	if err != nil {
		return s, err
	}
	if !slices.Contains(dsn.Parts, part) {
		return s, fault.At(fault.Invalid, s.Place, fault.DidYouMean(part, dsn.Parts, "known: "+strings.Join(dsn.Parts, ", ")),
			"a data source name has no part %q", part)
	}
	s.Part, s.Whole = part, s.Value
	s.Address += "#" + part
	if s.Refusal == "" {
		if s.Value, _, err = dsn.Get(s.Whole, part); err != nil {
			return s, fault.At(fault.Invalid, s.Place, "address the value itself, without #"+part, "the value %v", err)
		}
	}
	return s, nil
}

func (f *File) unknown(address string) error {
	known := make([]string, len(f.Settings))
	lines := map[string]int{}
	for i, s := range f.Settings {
		known[i] = s.Address
		lines[s.Address] = s.Place.Line
	}
	next := "the file sets: " + f.some(known)
	near := slices.DeleteFunc(slices.Clone(known), func(k string) bool { return !strings.HasSuffix(k, "()"+address) }) // inside a function
	if len(near) == 0 {
		near = fault.Nearest(address, known)
	}
	if len(near) > 0 {
		for i, n := range near {
			near[i] = fmt.Sprintf("%s (line %d)", n, lines[n])
		}
		next = "did you mean " + strings.Join(near, " or ") + "?"
	} else if len(known) == 0 {
		next = "the file sets nothing that can be addressed"
	}
	return fault.At(fault.Invalid, fault.Place{File: f.Path}, next, "there is no setting %s", address).With(errUnknown)
}

// MayGain reports whether With would make a setting of an address that the
// file does not have; unknown is the error that Lookup gave.
func (f *File) MayGain(change Change, unknown error) bool {
	if !errors.Is(unknown, errUnknown) {
		return false
	}
	_, err := f.withAbsent(change, unknown)
	return err == nil
}

// errUnknown marks the error for an address that the file does not have.
var errUnknown = errors.New("no such setting")

func (f *File) some(addresses []string) string {
	const most = 6
	if len(addresses) > most {
		return strings.Join(addresses[:most], ", ") + fmt.Sprintf(" and %d more", len(addresses)-most)
	}
	return strings.Join(addresses, ", ")
}

// Change is a new value for an address.
type Change struct {
	Address, Value string
	// Add makes a setting of an address that the file does not have. One that
	// it has in a comment becomes a setting in any case.
	Add bool
	// ReplaceExpression puts the value in place of one that is evaluated.
	ReplaceExpression bool
	// Secret says that the value is not to be shown.
	Secret bool
	// Role is what the value is for, where that is known; else the address tells.
	Role Role
}

// With gives the file with the changes made. Every byte outside the values
// stays. The result has been read again: each new value came back equal and
// every other setting unchanged, else it is an error and f stays what it is.
func (f *File) With(changes []Change) (*File, error) {
	current := f
	for _, change := range changes {
		s, err := current.Lookup(change.Address)
		if errors.Is(err, errUnknown) {
			if current, err = current.withAbsent(change, err); err != nil {
				return nil, err
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		if s.Kind == syntax.Expression && !s.Fixed && s.Part == "" && change.ReplaceExpression {
			s.Refusal = ""
		}
		if s.Refusal != "" {
			return nil, fault.At(fault.Invalid, s.Place, "write a plain value there, or name another address",
				"%s cannot be written: it is %s", s.Address, s.Refusal)
		}
		if s.Value == change.Value && s.Kind != syntax.Null && s.Kind != syntax.Expression {
			continue
		}
		if current, err = current.splice(s, change.Value); err != nil {
			return nil, err
		}
	}
	return current, nil
}

func (f *File) splice(old syntax.Setting, value string) (*File, error) {
	if old.Part != "" {
		whole, err := dsn.Set(old.Whole, old.Part, value)
		if err != nil {
			return nil, fault.At(fault.Invalid, old.Place, "choose another value", "%s cannot take this value: it %v", old.Address, err)
		}
		value = whole
	}
	literal := string(f.source[old.Start:old.End])
	if old.Kind == syntax.Expression {
		literal = ""
	}
	literal, err := f.Syntax.Encode(old, literal, value)
	if err != nil {
		return nil, fault.At(fault.Invalid, old.Place, "choose another value", "%s cannot take this value: it %v", old.Address, err)
	}
	source := make([]byte, 0, len(f.source)+len(literal))
	source = append(source, f.source[:old.Start]...)
	source = append(source, literal...)
	source = append(source, f.source[old.End:]...)

	failed := fault.At(fault.Failed, old.Place, "nothing was written; please report this with the line",
		"%s did not read back as it was written", old.Address)
	result, err := parse(f.Path, f.Syntax, source)
	if err != nil || len(result.Settings) != len(f.Settings) {
		return nil, failed.With(err)
	}
	for i, now := range result.Settings {
		was, want := f.Settings[i], f.Settings[i].Value
		if was.Start == old.Start {
			want = value
		}
		if now.Address != was.Address || now.Value != want {
			return nil, failed
		}
	}
	return result, nil
}
