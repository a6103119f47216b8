package load

import (
	"bytes"
	"unicode/utf8"

	"yellowfield/internal/fault"
	"yellowfield/internal/script"
)

// Encoding makes sure that a script is text of its encoding.
type Encoding struct {
	Foreign bool // the script says that its bytes are in another one than UTF-8

	raw       bool // nothing is known of the bytes
	converted bool // from another encoding: what could not be is U+FFFD
}

// NewEncoding is that of an opened script.
func NewEncoding(s script.Source, content *script.Content) Encoding {
	return Encoding{raw: s.IsBinary(), converted: content.Plain == nil && s.Encoding != ""}
}

// BadByte finds the first byte that is no text; -1 for none. valid says whether it is UTF-8.
func (e *Encoding) BadByte(text []byte, valid bool) int {
	switch {
	case e.raw || e.Foreign:
		return -1
	case e.converted:
		return bytes.Index(text, []byte("\ufffd"))
	case valid:
		return -1
	}
	return FirstInvalid(text)
}

// Checks reports whether single bytes are looked at: what was converted has none that
// are no text.
func (e *Encoding) Checks() bool { return !e.raw && !e.Foreign && !e.converted }

// FirstInvalid is where the first byte stands that is no UTF-8; the length of text
// where there is none.
func FirstInvalid(text []byte) int {
	at := 0
	for at < len(text) {
		r, size := utf8.DecodeRune(text[at:])
		if r == utf8.RuneError && size == 1 {
			break
		}
		at += size
	}
	return at
}

// BadText is the error for a byte of text that is none; place is that of the text's
// beginning.
func BadText(place fault.Place, text []byte, at int) error {
	before := text[:at]
	if n := bytes.Count(before, []byte{'\n'}); n > 0 {
		place.Line += n
		place.Column = utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:]) + 1
	} else {
		place.Column += utf8.RuneCount(before)
	}
	return fault.At(fault.Invalid, place, "name the script's encoding with {encoding}: windows-1252 and the like, or binary if it holds binary values as they are",
		"the text is not valid in its encoding here")
}
