//go:build unix

package throwaway

import (
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"syscall"
	"time"

	"yellowfield/internal/dbms"
)

// process is a running server.
type process struct {
	ended chan error // receives the result once
	pid   int
	done  chan struct{}
	end   syscall.Signal // the signal for a clean shutdown
}

// start runs a program as the unprivileged user, its output in a log file.
func (s *Server) start(program string, arguments []string, log string) (*process, error) {
	output, err := os.OpenFile(s.path(log), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return nil, fmt.Errorf("opening the server's log: %w", err)
	}
	if info, err := output.Stat(); err == nil {
		s.logged = info.Size()
	}
	command := exec.Command(program, arguments...)
	command.Stdout, command.Stderr = output, output
	command.Dir = s.path("run")
	if s.options.Root != "" {
		command.Dir = "/"
	}
	// A group of its own, so that Ctrl-C on the terminal reaches this program
	// alone, which then stops the server in order.
	command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Chroot: s.options.Root}
	path := "/usr/sbin:/usr/bin:/sbin:/bin"
	if s.options.Programs != "" {
		path += ":" + s.options.Programs
	}
	// A MariaDB server that starts removes temporary tables that it finds in the
	// folder for them, those of other servers, too, if they share it.
	command.Env = []string{"PATH=" + path, "HOME=/nonexistent", "LC_ALL=C", "TMPDIR=" + s.inside(s.path("run"))}
	if os.Geteuid() == 0 {
		uid, gid, err := unprivileged()
		if err != nil {
			return nil, err
		}
		command.SysProcAttr.Credential = &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}
	}
	if !s.options.Outlive {
		endWithParent(command.SysProcAttr)
	}

	p := &process{ended: make(chan error, 1), done: make(chan struct{})}
	started := make(chan error)
	go func() {
		// The signal of endWithParent is sent when the thread that started
		// the process ends, so that thread has to stay for its lifetime.
		runtime.LockOSThread()
		defer output.Close()
		err := command.Start()
		started <- err
		if err == nil {
			p.ended <- command.Wait()
			close(p.done)
		}
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("starting %s: %w", program, err)
	}
	p.pid, p.end = command.Process.Pid, syscall.SIGTERM
	if s.options.Product == dbms.PostgreSQL {
		p.end = syscall.SIGINT // else it waits for its clients (PostgreSQL, "Shutting Down the Server")
	}
	return p, nil
}

const stopTimeout = 20 * time.Second

func (p *process) stop() {
	select {
	case <-p.done: // the process ID may have been reused
		return
	default:
	}
	_ = syscall.Kill(p.pid, p.end)
	select {
	case <-p.done:
	case <-time.After(stopTimeout):
		p.kill()
	}
}

// kill ends the process and its group at once.
func (p *process) kill() {
	_ = syscall.Kill(-p.pid, syscall.SIGKILL)
	<-p.done
}
