//go:build unix

package applogin

import (
	"errors"
	"net"
	"os"
	"os/exec"
	"syscall"
)

// separate says that a login is made by a process of its own.
const separate = true

// self is the program that runs, also where its file was replaced meanwhile.
func self() (string, error) {
	const running = "/proc/self/exe"
	if _, err := os.Stat(running); err == nil {
		return running, nil
	}
	if program, err := os.Executable(); err == nil {
		return program, nil
	}
	return exec.LookPath(os.Args[0]) // a system folder without /proc
}

// launch starts the program as a login's process: with one end of a pair of sockets as
// its standard input, nothing else open, an empty environment, in a group of its own, so
// that Ctrl-C reaches the program alone.
func launch() (*exec.Cmd, parentLine, error) {
	if os.Args[0] == ProcessName {
		return nil, nil, errors.New("a login's process starts no other: the program has to call Serve before anything else")
	}
	program, err := self()
	if err != nil {
		return nil, nil, err
	}
	pair, err := syscall.Socketpair(syscall.AF_UNIX, syscall.SOCK_STREAM, 0)
	if err != nil {
		return nil, nil, err
	}
	syscall.CloseOnExec(pair[0])
	syscall.CloseOnExec(pair[1])
	mine, theirs := os.NewFile(uintptr(pair[0]), "login"), os.NewFile(uintptr(pair[1]), "login")
	defer theirs.Close()
	conn, err := net.FileConn(mine)
	_ = mine.Close()
	if err != nil {
		return nil, nil, err
	}
	process := exec.Command(program)
	process.Args = []string{ProcessName}
	process.Env, process.Dir, process.Stdin = []string{}, "/", theirs
	process.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if err := process.Start(); err != nil {
		_ = conn.Close()
		return nil, nil, err
	}
	return process, &unixLine{conn.(*net.UnixConn)}, nil
}

// unixLine is one end of the pair.
type unixLine struct{ *net.UnixConn }

// inherited is the end that this process was started with.
func inherited() (line, error) {
	conn, err := net.FileConn(os.Stdin)
	if err != nil {
		return nil, err
	}
	_ = os.Stdin.Close()
	unix, is := conn.(*net.UnixConn)
	if !is {
		return nil, errors.New("standard input is no socket")
	}
	return &unixLine{unix}, nil
}

// writeConn sends the connection's descriptor (unix(7), SCM_RIGHTS).
func (l *unixLine) writeConn(conn net.Conn) error {
	of, is := conn.(interface{ File() (*os.File, error) })
	if !is {
		return errors.New("the connection has no descriptor")
	}
	file, err := of.File()
	if err != nil {
		return err
	}
	defer file.Close()
	_, _, err = l.WriteMsgUnix([]byte{0}, syscall.UnixRights(int(file.Fd())), nil)
	return err
}

func (l *unixLine) readConn() (net.Conn, error) {
	body, rights := make([]byte, 1), make([]byte, syscall.CmsgSpace(4))
	_, n, _, _, err := l.ReadMsgUnix(body, rights)
	if err != nil {
		return nil, err
	}
	messages, err := syscall.ParseSocketControlMessage(rights[:n])
	if err != nil {
		return nil, err
	}
	if len(messages) != 1 {
		return nil, errors.New("no connection was handed over")
	}
	descriptors, err := syscall.ParseUnixRights(&messages[0])
	if err != nil {
		return nil, err
	}
	file := os.NewFile(uintptr(descriptors[0]), "server")
	defer file.Close()
	return net.FileConn(file)
}
