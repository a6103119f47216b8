package applogin

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"syscall"
	"time"

	"yellowfield/internal/dbms"
	"yellowfield/internal/fault"
	"yellowfield/internal/secret"
)

// What the program and a login's process say to each other: a length in four bytes, and
// so many of JSON. The program says whom the process is to be, then one message at a
// time; the process answers each.

// mostSaid is how long a message or an answer may be; real ones are far shorter.
const mostSaid = 1 << 20

// message is what is asked: one of the two.
type message struct {
	Try  *trial
	Dial *dialling
}

// trial is a Request as it is sent. The password stands in it as it is.
type trial struct {
	Server, User, Password, Database string
	Connection                       string // the character set of the connection
	Address                          dbms.Address
	Trusted                          string // the certificates of Address.CA, which the process may not be able to read
	Product                          dbms.Product
	Accounts                         []string
	Look                             bool
	Tables                           string
	Unvouched                        bool
	Deadline                         time.Duration
}

func newTrial(q Request, trusted string, deadline time.Duration) *trial {
	return &trial{
		Server: q.Server, User: q.User, Password: q.Password.Reveal(), Database: q.Database, Connection: q.Login.Charset, Address: q.Address, Trusted: trusted,
		Product: q.Product, Accounts: q.Accounts, Look: q.Look, Tables: q.Tables, Unvouched: q.Unvouched, Deadline: deadline,
	}
}

func (t *trial) login() dbms.Login {
	address := t.Address
	address.Trusted = t.Trusted
	return dbms.Login{Server: t.Server, Address: address, User: t.User, Password: secret.NewPassword(t.Password), Database: t.Database, Charset: t.Connection, AsApplication: true, Unvouched: t.Unvouched}
}

// dialling asks for a connection.
type dialling struct {
	Network, Address string
	Deadline         time.Duration
}

// reply is what the process answers.
type reply struct {
	Answer Answer
	Fault  *said
}

// said is an error as it is sent.
type said struct {
	Class            fault.Class
	What, Next       string
	Spoken           *dbms.ServerError // where a server did
	Network, Timeout bool
	Errno            syscall.Errno // where the system refused something
}

// longestText is how much of a text is sent that a server may have made up.
const longestText = 2 << 10

func short(text string) string { return text[:min(len(text), longestText)] }

// say makes an error ready to be sent.
func say(err error) *said {
	if err == nil {
		return nil
	}
	f := fault.As(err)
	s := &said{Class: f.Class, What: short(f.What), Next: short(f.Next)}
	errors.As(err, &s.Errno)
	var network net.Error
	if errors.As(err, &network) {
		s.Network, s.Timeout = true, network.Timeout()
	}
	var spoken *dbms.ServerError
	if errors.As(err, &spoken) {
		own := *spoken
		for _, text := range []*string{&own.Server, &own.Statement, &own.SQLState, &own.Message, &own.Hint, &own.Context} {
			*text = short(*text)
		}
		s.Spoken = &own
	}
	return s
}

// error is what was sent, as it was.
func (s *said) error() error {
	if s == nil {
		return nil
	}
	f := fault.New(s.Class, s.Next, "%s", s.What)
	var causes []error
	if s.Spoken != nil {
		causes = append(causes, s.Spoken)
	}
	if s.Network {
		causes = append(causes, &network{s.What, s.Timeout})
	}
	if s.Errno != 0 {
		causes = append(causes, s.Errno)
	}
	return f.With(errors.Join(causes...))
}

// network is a net.Error of another process.
type network struct {
	text    string
	timeout bool
}

func (n *network) Error() string   { return n.text }
func (n *network) Timeout() bool   { return n.timeout }
func (n *network) Temporary() bool { return false }

func writeFrame(w io.Writer, value any) error {
	body, err := json.Marshal(value)
	if err != nil {
		return err
	}
	if len(body) > mostSaid {
		return errTooLong
	}
	_, err = w.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(body))), body...))
	return err
}

var errTooLong = fmt.Errorf("more than %d MiB were to be said", mostSaid>>20)

func readFrame(r io.Reader, into any) error {
	var head [4]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return err
	}
	length := binary.BigEndian.Uint32(head[:])
	if length > mostSaid {
		return errTooLong
	}
	body := make([]byte, length)
	if _, err := io.ReadFull(r, body); err != nil {
		return err
	}
	return json.Unmarshal(body, into)
}
