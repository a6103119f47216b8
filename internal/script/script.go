// Package script opens SQL scripts: plain or packed, in whatever encoding, also from
// standard input.
//
// It must never know of servers, or of what a script's statements do.
package script

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/therootcompany/xz"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"yellowfield/internal/bounds"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/sqltext/window"
)

// Source is one script.
type Source struct {
	// Opener opens the file at Path; nil for one that its administrator has named.
	Opener      func(path string) (*os.File, error)
	Path        string
	Name        string // for messages, shorter than Path
	Encoding    string // of the text; empty for UTF-8, BinaryEncoding for bytes that are passed on unseen
	PrefixToken string // what stands for the table prefix in the script; may be empty
	Prefix      string
	// LongestStatement is how many bytes a statement may have; 0 for what
	// sqltext takes.
	LongestStatement int
	// Stream says that the file is none, but the end of a pipe: it is read from its
	// beginning to its end, anew each time.
	Stream bool
	// Retarget drops statements that make or choose a database of a fixed
	// name, and takes that name out of qualified names.
	Retarget bool
	// Include finds the file that a script has the stock client read in its place;
	// from is the path of the file that names it. With nil the command is refused.
	Include func(from, named string) (Included, error)
}

// Included is a file that a script names to be read in its place.
type Included struct {
	Path, Name string                              // as in Source
	Opener     func(path string) (*os.File, error) // as in Source
	Passed     bool                                // it is not to be read here
}

// byName are names of SQL scripts, packed or not.
var byName = regexp.MustCompile(`(?i)\.(?:sql|mysql|pgsql|psql)(?:\.(?:gz|bz2|xz|zst|zip))?$`)

// HasName reports whether a file is an SQL script by its name.
func HasName(name string) bool { return byName.MatchString(name) }

// BinaryEncoding is the encoding of a script whose bytes are not checked: dumps
// that hold binary values outside of hexadecimal notation.
const BinaryEncoding = "binary"

// IsBinary reports whether the script's bytes are passed on unseen.
func (s Source) IsBinary() bool { return strings.EqualFold(s.Encoding, BinaryEncoding) }

// CheckEncoding says whether an encoding's name is known; the names are those
// of the WHATWG Encoding Standard.
func CheckEncoding(name string) error {
	_, err := decoder(name)
	return err
}

func decoder(name string) (encoding.Encoding, error) {
	switch strings.ToLower(name) {
	case "", "utf-8", "utf8", "utf8mb4", BinaryEncoding:
		return nil, nil
	case "latin1":
		name = "windows-1252" // what the servers mean by latin1
	}
	found, err := htmlindex.Get(name)
	if err != nil {
		return nil, fault.New(fault.Invalid, "use a name such as utf-8, windows-1252, iso-8859-2, utf-16le or binary", "the encoding %q is not known", name)
	}
	return found, nil
}

// Content is an opened script, unpacked and converted to UTF-8.
type Content struct {
	io.Reader
	close func()
	// Plain is the file itself where the script can be read from any place:
	// neither packed nor converted; else nil.
	Plain *os.File
}

// Close lets go of the file.
func (c *Content) Close() { c.close() }

// ReadAhead is how many bytes are read at once.
const ReadAhead = 256 << 10

// Open opens a script; how it is packed is told by its first bytes. Reading from it
// ends with the context.
func (s Source) Open(ctx context.Context) (*Content, error) {
	opened := s.Opener
	if opened == nil {
		opened = host.OpenNamed
	}
	file, err := opened(s.Path)
	var known *fault.Error
	if errors.As(err, &known) {
		return nil, err
	}
	if err != nil {
		var pathError *fs.PathError
		cause := err
		if errors.As(err, &pathError) {
			cause = pathError.Err
		}
		return nil, fault.At(fault.Invalid, fault.Place{File: s.Path}, "check the path and its permissions", "the script cannot be read: %v", cause).With(err)
	}
	c := &Content{close: func() { _ = file.Close() }}
	if err := c.unpack(file); err != nil {
		c.close()
		next := "get the file again"
		if errors.As(err, &known) {
			next = known.Next
		}
		return nil, fault.At(fault.Invalid, fault.Place{File: s.Path}, next, "%s", fault.As(err).What).With(err)
	}
	if err := c.decode(s.Encoding); err != nil {
		c.close()
		return nil, err
	}
	if s.Stream {
		c.Plain = nil
	}
	c.Reader = interruptible{ctx, c.Reader}
	return c, nil
}

// interruptible is a reader that ends with its context: a few bytes of an archive can unpack
// to endless blanks.
type interruptible struct {
	ctx context.Context
	io.Reader
}

func (r interruptible) Read(into []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.Reader.Read(into)
}

func (c *Content) unpack(file *os.File) error {
	buffered := bufio.NewReaderSize(file, ReadAhead)
	magic, _ := buffered.Peek(6)
	begins := func(with string) bool { return strings.HasPrefix(string(magic), with) }
	switch {
	case begins("\x1f\x8b"):
		unpacked, err := gzip.NewReader(buffered)
		if err != nil {
			return fmt.Errorf("this is no whole gzip file: %w", err)
		}
		c.Reader = unpacked
	case begins("BZh"):
		c.Reader = bzip2.NewReader(buffered)
	case begins("\xfd7zXZ\x00"):
		unpacked, err := xz.NewReader(buffered, longestDictionary) // of each block in each stream
		if errors.Is(err, xz.ErrMemlimit) {
			return errDictionary
		}
		if err != nil {
			return fmt.Errorf("this is no whole xz file: %w", err)
		}
		c.Reader = limited{unpacked}
	case begins("\x28\xb5\x2f\xfd"):
		unpacked, err := zstd.NewReader(buffered, zstd.WithDecoderConcurrency(1), zstd.WithDecoderLowmem(true), zstd.WithDecoderMaxWindow(longestDictionary))
		if err != nil {
			return fmt.Errorf("this is no whole zstd file: %w", err)
		}
		before := c.close
		c.close = func() { unpacked.Close(); before() }
		c.Reader = unpacked
	case begins("PK\x03\x04"), begins("PK\x05\x06"):
		return c.unzip(file)
	default:
		c.Reader = buffered
		c.Plain = file
	}
	return nil
}

// longestDictionary is how much memory unpacking may take by itself: what xz -9 asks
// for. A few bytes of an archive can ask for gigabytes.
const longestDictionary = 64 << 20

var errDictionary = fault.New(fault.Invalid, "unpack it by hand, and look at what it is before it is imported", "unpacking it takes more than %d MiB of memory", longestDictionary>>20)

// limited is an xz file, any block of which may ask for more memory than it gets.
type limited struct{ io.Reader }

func (r limited) Read(into []byte) (int, error) {
	n, err := r.Reader.Read(into)
	if errors.Is(err, xz.ErrMemlimit) {
		err = errDictionary
	}
	return n, err
}

// longestDirectory is how many bytes the list of a zip archive's files may have, all of which
// is read before any of them.
const longestDirectory = 4 << 20

var errDirectory = fault.New(fault.Invalid, "unpack it, and name the script that is meant", "the zip file holds more files than an archive of one script has")

// checkDirectory refuses a zip archive with a long list of files: it begins where the record at
// the archive's end says (.ZIP File Format Specification, sections 4.3.16 and 4.3.14).
func checkDirectory(file io.ReaderAt, size int64) error {
	const record, longestComment, offsetAt = 22, 1<<16 - 1, 16
	tail := make([]byte, min(size, record+longestComment))
	if _, err := file.ReadAt(tail, size-int64(len(tail))); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	at := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if at < 0 || len(tail) < at+record {
		return nil // which the reader says in its own words
	}
	if from := int64(binary.LittleEndian.Uint32(tail[at+offsetAt:])); from == 1<<32-1 || size-from > longestDirectory {
		return errDirectory
	}
	return nil
}

// unzip takes the one script in a zip archive.
func (c *Content) unzip(file *os.File) error {
	info, err := file.Stat()
	if err != nil {
		return err
	}
	if err := checkDirectory(file, info.Size()); err != nil {
		return err
	}
	archive, err := zip.NewReader(file, info.Size())
	if err != nil {
		return fmt.Errorf("this is no whole zip file: %w", err)
	}
	var scripts []*zip.File
	var names []string
	for _, entry := range archive.File {
		if !entry.FileInfo().IsDir() && strings.HasSuffix(strings.ToLower(entry.Name), ".sql") {
			scripts = append(scripts, entry)
			names = append(names, entry.Name)
		}
	}
	if len(scripts) != 1 {
		return fault.New(fault.Invalid, "unpack it, and name the script that is meant", "the zip file holds %d files that end in .sql (%s); it must be one", len(scripts), strings.Join(names, ", "))
	}
	unpacked, err := scripts[0].Open()
	if err != nil {
		return fmt.Errorf("the zip file cannot be unpacked: %w", err)
	}
	before := c.close
	c.close = func() { _ = unpacked.Close(); before() }
	c.Reader = unpacked
	return nil
}

// decode converts the text to UTF-8. A byte order mark wins over what was
// said: it is how Windows programs mark their UTF-16 files.
func (c *Content) decode(name string) error {
	wanted, err := decoder(name)
	if err != nil {
		return err
	}
	buffered := bufio.NewReaderSize(c.Reader, ReadAhead)
	mark, _ := buffered.Peek(2)
	if string(mark) == "\xff\xfe" || string(mark) == "\xfe\xff" {
		wanted = unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM)
	}
	c.Reader = buffered
	if wanted != nil {
		c.Reader = transform.NewReader(buffered, wanted.NewDecoder())
		c.Plain = nil
	}
	return nil
}

// Head gives the first bytes of the unpacked script, n at most.
func (s Source) Head(ctx context.Context, n int64) ([]byte, error) {
	c, err := s.Open(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	head, err := io.ReadAll(io.LimitReader(c, n))
	if err != nil {
		return head, fault.At(fault.Invalid, fault.Place{File: s.Name}, "get the file again", "the script cannot be read: %v", err).With(err)
	}
	return head, nil
}

// Read opens a script to be read statement by statement with what newReader makes, a
// reader of its product's SQL. The content is for the caller to close.
func Read[R sqltext.Reader](ctx context.Context, s Source, newReader func(name string, src io.Reader) R) (reader R, content *Content, err error) {
	content, err = s.Open(ctx)
	if err != nil {
		return reader, nil, err
	}
	reader = newReader(s.Name, content)
	reader.LimitStatements(s.LongestStatement)
	reader.AskBefore(func() error {
		release, err := bounds.TakeLarge(ctx)
		if err != nil {
			return err
		}
		closeScript := content.close
		content.close = func() { closeScript(); release() }
		return nil
	})
	if s.PrefixToken != "" {
		reader.ReplacePrefix(s.PrefixToken, s.Prefix)
	}
	if s.Include != nil {
		files := &including{ctx: ctx, script: s, within: []string{s.Path}}
		reader.Follow(files.open)
		closeScript := content.close
		content.close = func() {
			for len(files.opened) > 0 {
				files.leave()
			}
			closeScript()
		}
	}
	return reader, content, nil
}

// deepest is how many files may be read within one another, and mostIncluded how many in
// all: files that name each other many times over would be read for ever.
const (
	deepest      = 8
	mostIncluded = 1000
)

// including opens the files that a script names, and knows those it is in.
type including struct {
	ctx    context.Context
	script Source
	within []string // paths
	opened []*Content
	read   int
}

func (i *including) open(named string) (*window.Included, error) {
	found, err := i.script.Include(i.within[len(i.within)-1], named)
	if err != nil || found.Passed {
		return &window.Included{Name: found.Name}, err
	}
	if slices.Contains(i.within, found.Path) {
		return nil, fault.New(fault.Invalid, "remove the line", "%s is being read already, and would be read for ever", found.Name)
	}
	if len(i.within) > deepest {
		return nil, fault.New(fault.Invalid, "name the files one by one under import", "%s stands %d files deep within one another, and %d are followed", found.Name, len(i.within), deepest)
	}
	if i.read++; i.read > mostIncluded {
		return nil, fault.New(fault.Invalid, "name the files one by one under import", "more than %d files are read in the script's place", mostIncluded)
	}
	source := i.script
	source.Path, source.Name, source.Opener = found.Path, found.Name, found.Opener
	file, err := source.Open(i.ctx)
	if err != nil {
		return nil, err
	}
	i.within, i.opened = append(i.within, found.Path), append(i.opened, file)
	return &window.Included{Name: found.Name, Text: file, Close: i.leave}, nil
}

func (i *including) leave() {
	i.opened[len(i.opened)-1].Close()
	i.within, i.opened = i.within[:len(i.within)-1], i.opened[:len(i.opened)-1]
}

// Spool keeps what comes from a stream in a file that only its owner can read,
// because a script is read twice. remove deletes it.
func Spool(stream io.Reader) (path string, remove func(), err error) {
	file, err := os.CreateTemp("", "yellowfield-script-*") // 0600 by its nature
	if err != nil {
		return "", nil, fault.New(fault.Invalid, "set TMPDIR to a folder with room in it", "standard input cannot be kept for reading it twice: %v", err).With(err)
	}
	remove = func() { _ = os.Remove(file.Name()) }
	_, err = io.Copy(file, stream)
	if closing := file.Close(); err == nil {
		err = closing
	}
	if err != nil {
		remove()
		return "", nil, fault.New(fault.Invalid, "set TMPDIR to a folder with room in it", "standard input cannot be kept for reading it twice: %v", err).With(err)
	}
	return file.Name(), remove, nil
}
