package throwaway

import (
	"cmp"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// hostRules let the administrator in as the operating system's user, and
// everyone else with a password.
const hostRules = `local all %ADMIN% peer
local all all scram-sha-256
host all all 127.0.0.1/32 scram-sha-256
`

// PostgresPrograms is the folder of PostgreSQL's programs in a system: as the
// package has them, or where YELLOWFIELD_POSTGRESQL says that it was unpacked.
// Empty when there are none.
func PostgresPrograms(root string) string {
	systems := []string{filepath.Join("/", root)}
	if unpacked := os.Getenv("YELLOWFIELD_POSTGRESQL"); root == "" && unpacked != "" {
		systems = append(systems, unpacked)
	}
	for _, system := range systems {
		if found, _ := filepath.Glob(filepath.Join(system, "usr/lib/postgresql/*/bin/postgres")); len(found) > 0 {
			return filepath.Dir(slices.Max(found))
		}
	}
	return ""
}

// PostgresProgram is the path of one of PostgreSQL's own programs, the stock
// client among them: beside the server, or where the client's package alone puts
// it, which is another folder when the server is only unpacked. The name itself
// where it is in neither.
func PostgresProgram(root, name string) string {
	folders, _ := filepath.Glob(filepath.Join("/", root, "usr/lib/postgresql/*/bin"))
	slices.Sort(folders)
	slices.Reverse(folders)
	for _, folder := range append([]string{PostgresPrograms(root)}, folders...) {
		path := filepath.Join(folder, name)
		if info, err := os.Stat(path); err == nil && folder != "" && !info.IsDir() {
			return path
		}
	}
	return name
}

// launchPostgres is launch for PostgreSQL, whose programs are in a folder of
// their version.
func (s *Server) launchPostgres(ctx context.Context) error {
	folder := PostgresPrograms(s.options.Root)
	if folder == "" {
		return missing(s.options.Product, "postgres")
	}
	programs := s.inside(folder)
	s.Admin = currentUser()
	if err := os.Chmod(s.path("data"), 0o700); err != nil { // it takes no other
		return err
	}
	if entries, err := os.ReadDir(s.path("data")); err == nil && len(entries) == 0 {
		if err := s.run(ctx, filepath.Join(programs, "initdb"), []string{
			"-D", s.inside(s.path("data")), "-U", s.Admin, "-E", "UTF8", "--locale=C.UTF-8", "--auth=peer", "--no-sync", "--no-instructions",
		}); err != nil {
			return err
		}
		rules := strings.ReplaceAll(hostRules, "%ADMIN%", s.Admin)
		if err := os.WriteFile(s.path("data/pg_hba.conf"), []byte(rules), 0o600); err != nil {
			return err
		}
		if err := s.giveAway(); err != nil {
			return err
		}
	}
	var err error
	s.process, err = s.start(filepath.Join(programs, "postgres"), append([]string{
		"-D", s.inside(s.path("data")), "-k", s.inside(s.path("run")), "-c", "listen_addresses=", "-c", "port=" + cmp.Or(s.options.Port, "5432"),
		"-c", "external_pid_file=" + s.inside(s.path("run/server.pid")), "-c", "fsync=off", "-c", "shared_buffers=32MB", "-c", "unix_socket_permissions=0777",
	}, s.options.Arguments...), "server.log")
	if err != nil {
		return err
	}
	return s.await(ctx)
}
