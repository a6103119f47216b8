package mysql

import (
	"context"
	"strings"

	"yellowfield/internal/fault"
)

// cluster is what a node of a Galera cluster says of itself (MariaDB, "Galera
// Cluster Status Variables").
type cluster struct {
	ready   bool   // takes statements
	status  string // Primary while it belongs to the majority
	state   string // such as Synced or Donor/Desynced
	members string // addresses for clients
}

func (s *Server) readCluster(ctx context.Context) error {
	status := map[string]string{}
	err := s.each(ctx, `SHOW GLOBAL STATUS WHERE Variable_name IN ('wsrep_ready', 'wsrep_cluster_status', 'wsrep_local_state_comment', 'wsrep_incoming_addresses', 'wsrep_cluster_state_uuid')`, nil,
		func(scan func(...any) error) error {
			var name, value string
			err := scan(&name, &value)
			status[strings.ToLower(name)] = value
			return err
		})
	if len(status) == 0 {
		return err
	}
	s.facts.Cluster = status["wsrep_cluster_state_uuid"]
	s.cluster = &cluster{ready: status["wsrep_ready"] == "ON", status: status["wsrep_cluster_status"], state: status["wsrep_local_state_comment"], members: status["wsrep_incoming_addresses"]}
	return err
}

// Unavailable reports the reason why a server must not be provisioned now.
func (s *Server) Unavailable() error {
	if c := s.cluster; c != nil && (!c.ready || c.status != "Primary") {
		next := "wait until it is, or name another node of the cluster in the estate file"
		if members := strings.Trim(strings.ReplaceAll(c.members, ",", ", "), ", "); members != "" && !strings.Contains(members, "AUTO") {
			next += ": " + members
		}
		return fault.New(fault.Invalid, next, "server %s is a node of a cluster and not ready: its status is %s, its state %s", s.Server, c.status, c.state)
	}
	if s.facts.ReadOnly {
		return fault.New(fault.Protected, "point the estate file at the server that takes writes",
			"server %s is read-only: it is a replica, or was set so by its administrator", s.Server)
	}
	return nil
}
