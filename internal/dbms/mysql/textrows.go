package mysql

import (
	"bufio"
	"context"
	sqldriver "database/sql/driver"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	driver "github.com/go-sql-driver/mysql"
)

// textRows gives the rows of a query as the server sends them (MySQL Internals, "Text
// Resultset"; MariaDB, "Result Set Packets"). The driver would make numbers of their text and
// keep every value by itself, which takes as long as all the rest of an export. An error after
// which the session is of no more use is driver.ErrBadConn, too.
type textRows struct {
	in     *bufio.Reader
	packet []byte
	values [][]byte
}

const (
	packetHeader  = 4
	longestPacket = 1<<24 - 1 // a longer one goes on in the next

	markOfError = 0xff
	markOfEnd   = 0xfe
	markOfFile  = 0xfb // the server asks for a file; among values it is NULL
	sendsQuery  = 0x03 // COM_QUERY
)

var errProtocol = errors.New("the server's answer is not what the protocol allows")

// query sends a query over a connection that nothing else is at work on, and hands over its
// rows. A value is nil for NULL; all are valid until take returns. own is the error that take
// returned.
func (t *textRows) query(ctx context.Context, w *wire, query string, take func([][]byte) error) (own, err error) {
	stop := context.AfterFunc(ctx, func() { _ = w.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if len(query)+1 >= longestPacket {
		return nil, fmt.Errorf("the query has %d bytes", len(query))
	}
	sent := append(binary.LittleEndian.AppendUint32(nil, uint32(len(query)+1)), sendsQuery)
	if _, err := w.Write(append(sent, query...)); err != nil {
		return nil, t.broken(ctx, err)
	}
	if t.in == nil {
		const size = 256 << 10
		t.in = bufio.NewReaderSize(nil, size)
	}
	t.in.Reset(w)
	whole, own, err := t.result(take)
	switch {
	case !whole: // unread rows would be taken for the next answer
		return own, t.broken(ctx, err)
	case !stop() && ctx.Err() != nil:
		return own, t.broken(ctx, ctx.Err())
	}
	return own, err
}

func (t *textRows) broken(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		err = ctx.Err()
	}
	return errors.Join(sqldriver.ErrBadConn, err)
}

// result reads the answer. whole says that it was read to its end.
func (t *textRows) result(take func([][]byte) error) (whole bool, own, err error) {
	if err := t.read(); err != nil {
		return false, nil, err
	}
	switch t.packet[0] {
	case markOfError:
		return t.spoken()
	case markOfFile, 0:
		return false, nil, errProtocol
	}
	columns, _, ok := number(t.packet)
	const most = 4096 // columns of a table (MySQL Reference Manual, "Limits on Table Column Count")
	if !ok || columns > most {
		return false, nil, errProtocol
	}
	for range columns { // their names and types
		if err := t.read(); err != nil {
			return false, nil, err
		}
	}
	t.values = make([][]byte, columns)
	for first := true; ; first = false {
		if err := t.read(); err != nil {
			return false, nil, err
		}
		const oldEnd = 5 // bytes of the packet that older servers put after the columns, too
		switch {
		case t.packet[0] == markOfError:
			return t.spoken()
		case t.packet[0] == markOfEnd && len(t.packet) == oldEnd && first:
			continue
		case t.packet[0] == markOfEnd && len(t.packet) < longestPacket:
			return true, nil, nil
		}
		if err := t.split(); err != nil {
			return false, nil, err
		}
		if own := take(t.values); own != nil {
			return false, own, nil
		}
	}
}

// read reads a packet.
func (t *textRows) read() error {
	t.packet = t.packet[:0]
	for {
		var header [packetHeader]byte
		if _, err := io.ReadFull(t.in, header[:]); err != nil {
			return err
		}
		header[3] = 0 // its number
		length := int(binary.LittleEndian.Uint32(header[:]))
		from := len(t.packet)
		if cap(t.packet)-from < length {
			t.packet = append(make([]byte, 0, 2*from+length), t.packet...)
		}
		t.packet = t.packet[:from+length]
		if _, err := io.ReadFull(t.in, t.packet[from:]); err != nil {
			return err
		}
		if length < longestPacket {
			break
		}
	}
	if len(t.packet) == 0 {
		return errProtocol
	}
	return nil
}

// split finds the values of a row.
func (t *textRows) split() error {
	rest := t.packet
	for i := range t.values {
		if len(rest) > 0 && rest[0] == markOfFile {
			t.values[i], rest = nil, rest[1:]
			continue
		}
		length, size, ok := number(rest)
		if !ok || uint64(len(rest)-size) < length {
			return errProtocol
		}
		end := size + int(length)
		t.values[i], rest = rest[size:end:end], rest[end:]
	}
	if len(rest) > 0 {
		return errProtocol
	}
	return nil
}

// number reads a length-encoded number, and gives its size.
func number(text []byte) (n uint64, size int, ok bool) {
	size = encodedLength(text)
	switch {
	case size == 0 || len(text) < size || text[0] == markOfFile || text[0] == markOfError:
		return 0, size, false
	case size == 1:
		return uint64(text[0]), size, true
	}
	var whole [8]byte
	copy(whole[:], text[1:size])
	return binary.LittleEndian.Uint64(whole[:]), size, true
}

// spoken ends the answer with what the server said (MySQL Internals, "ERR_Packet").
func (t *textRows) spoken() (whole bool, own, err error) {
	const state = 6 // a mark and five characters
	if len(t.packet) < 3 {
		return false, nil, errProtocol
	}
	said := &driver.MySQLError{Number: binary.LittleEndian.Uint16(t.packet[1:])}
	text := t.packet[3:]
	if len(text) >= state && text[0] == '#' {
		copy(said.SQLState[:], text[1:state])
		text = text[state:]
	}
	said.Message = string(text)
	return true, nil, said
}

// asText is a value of the driver as the server has sent it, where the wire cannot be read.
func asText(v sqldriver.Value) ([]byte, error) {
	switch v := v.(type) {
	case nil:
		return nil, nil
	case []byte:
		return v, nil
	case int64:
		return strconv.AppendInt(nil, v, 10), nil
	case uint64:
		return strconv.AppendUint(nil, v, 10), nil
	case float64:
		return strconv.AppendFloat(nil, v, 'g', -1, 64), nil
	default:
		return nil, fmt.Errorf("the driver gave a %T", v)
	}
}
