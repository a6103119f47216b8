package mysql

import "time"

// SetLongestQuery sets how long a look may take.
func (s *Server) SetLongestQuery(most time.Duration) { s.longest = most }
