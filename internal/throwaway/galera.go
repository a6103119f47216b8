package throwaway

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"

	"yellowfield/internal/dbms"
)

// GaleraLibrary is the program library that makes MariaDB servers a cluster;
// empty where Debian's package of it is not installed.
func GaleraLibrary() string {
	found, _ := filepath.Glob("/usr/lib/*/libgalera_smm.so")
	for _, path := range append(found, "/usr/lib/libgalera_smm.so", "/usr/lib/galera/libgalera_smm.so") {
		if _, err := os.Stat(path); err == nil {
			return path
		}
	}
	return ""
}

// StartCluster starts a Galera cluster of MariaDB servers on this host, the first
// one by itself and the others one after the other, each as soon as the one
// before has its state (MariaDB, "Getting Started with MariaDB Galera Cluster").
// programs is a folder with the scripts that move the state. ports gives a free port
// whenever it is called.
func StartCluster(ctx context.Context, nodes int, programs string, ports func() string) ([]*Server, error) {
	bases := make([]string, nodes)
	members := make([]string, nodes)
	for i := range nodes {
		bases[i] = ports()
		members[i] = "127.0.0.1:" + bases[i]
	}
	var cluster []*Server
	for i := range nodes {
		arguments := []string{
			"--skip-networking=0", "--bind-address=127.0.0.1", "--port=" + ports(), "--binlog-format=ROW", "--innodb-autoinc-lock-mode=2",
			"--wsrep-on=ON", "--wsrep-provider=" + GaleraLibrary(), "--wsrep-cluster-name=meadow",
			"--wsrep-cluster-address=gcomm://" + strings.Join(members, ","), "--wsrep-node-address=127.0.0.1", fmt.Sprintf("--wsrep-node-name=node%d", i+1),
			"--wsrep-provider-options=base_port=" + bases[i] + ";ist.recv_addr=127.0.0.1:" + ports() + ";gcache.size=64M",
			"--wsrep-sst-method=rsync", "--wsrep-sst-receive-address=127.0.0.1:" + ports(),
		}
		if i == 0 {
			arguments = append(arguments, "--wsrep-new-cluster")
		}
		server, err := Start(ctx, Options{Product: dbms.MariaDB, Programs: programs, Arguments: arguments})
		if err != nil {
			for _, earlier := range cluster {
				earlier.Kill()
			}
			return nil, fmt.Errorf("node %d: %w", i+1, err)
		}
		cluster = append(cluster, server)
	}
	return cluster, nil
}

// Kill ends the server at once, as a failing host would.
func (s *Server) Kill() {
	if s.process != nil {
		s.process.kill()
		s.process = nil
	}
	s.Stop()
}

// handedOut remembers the ports that FreePort has given in this process.
var handedOut sync.Map

// FreePort returns a TCP port of the loopback address that nobody listens on. It stays below
// the range that a system takes the near ends of connections from (Linux: 32768 and above, IANA:
// 49152 and above): a port from there may be a connection's before its server has started.
func FreePort() string {
	for {
		port := strconv.Itoa(10_000 + rand.IntN(22_000))
		listener, err := net.Listen("tcp", "127.0.0.1:"+port)
		if err != nil {
			continue
		}
		listener.Close()
		if _, given := handedOut.LoadOrStore(port, true); !given {
			return port
		}
	}
}
