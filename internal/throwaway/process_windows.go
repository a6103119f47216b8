package throwaway

import "yellowfield/internal/fault"

type process struct {
	ended chan error
	pid   int
}

// start: private servers need Unix sockets and users, which Windows lacks.
func (s *Server) start(string, []string, string) (*process, error) {
	return nil, fault.New(fault.Invalid, "run the demo on Linux", "private database servers cannot be started on Windows")
}

func (p *process) stop() {}
func (p *process) kill() {}
