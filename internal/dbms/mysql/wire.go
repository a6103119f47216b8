package mysql

import (
	"encoding/binary"
	"net"
)

// wire is a connection that notes how many warnings the server counted for the
// last statement. The number stands in the packet that ends a statement, and
// the driver does not pass it on; asking for it would cost a round trip for
// every statement.
type wire struct {
	net.Conn
	head     []byte // of the answer to the last command
	done     bool   // enough of it was seen
	warnings int    // -1 for an answer that says nothing of them
}

// longestHead is how much of an OK packet can stand before its warnings: the
// packet's header, its mark, two length-encoded numbers and the status.
const longestHead = 4 + 1 + 9 + 9 + 2 + 2

func (w *wire) Write(command []byte) (int, error) {
	w.head, w.done, w.warnings = w.head[:0], false, -1
	return w.Conn.Write(command)
}

func (w *wire) Read(into []byte) (int, error) {
	n, err := w.Conn.Read(into)
	if !w.done && n > 0 {
		w.head = append(w.head, into[:min(n, longestHead)]...)
		w.parse()
	}
	return n, err
}

// parse reads an OK packet (MySQL Internals, "OK_Packet"; MariaDB, "OK_Packet").
func (w *wire) parse() {
	const header = 4
	if len(w.head) <= header {
		return
	}
	if w.head[header] != 0 { // an error, or rows
		w.done = true
		return
	}
	rest := w.head[header+1:]
	for range 2 { // rows changed, last id
		size := encodedLength(rest)
		if size == 0 || len(rest) < size {
			return
		}
		rest = rest[size:]
	}
	if len(rest) < 4 {
		return
	}
	w.warnings = int(binary.LittleEndian.Uint16(rest[2:]))
	w.done = true
}

// encodedLength is the size of the length-encoded number that text begins
// with; 0 when there is nothing yet.
func encodedLength(text []byte) int {
	if len(text) == 0 {
		return 0
	}
	switch text[0] {
	case 0xfc:
		return 3
	case 0xfd:
		return 4
	case 0xfe:
		return 9
	}
	return 1
}
