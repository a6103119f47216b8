package main

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"yellowfield/internal/dbms"
	"yellowfield/internal/throwaway"
)

// stockDump is the server's own dump program, at work on what the stock client imported.
func (w *workshop) stockDump(path string) (measured, error) {
	var command *exec.Cmd
	if w.product == dbms.PostgreSQL {
		command = exec.Command(throwaway.PostgresProgram("", "pg_dump"), "-h", filepath.Dir(w.server.Socket), "-U", "bench", "-f", path, "stock")
		command.Env = append(os.Environ(), "PGPASSWORD="+password)
		return timed(command)
	}
	program, socket := []string{w.dumpProgram}, w.server.Socket
	options := []string{"--no-defaults", "--default-character-set=utf8mb4", "--single-transaction", "--routines", "--triggers", "--events", "-u", "bench"}
	if w.root != "" {
		program, socket = []string{"chroot", w.root, "/usr/bin/mysqldump"}, strings.TrimPrefix(socket, filepath.Clean(w.root))
		options = append(options, "--set-gtid-purged=OFF", "--no-tablespaces")
	}
	arguments := append(append(program[1:], options...), "-S", socket, "stock")
	command = exec.Command(program[0], arguments...)
	command.Env = append(os.Environ(), "MYSQL_PWD="+password)
	file, err := os.Create(path)
	if err != nil {
		return measured{}, err
	}
	defer file.Close()
	return timedInto(command, file)
}

// runExports has a database exported by both, in turn, and ours loaded again and compared.
func (w *workshop) runExports(ctx context.Context, s shape, size float64, runs int, tell func(string, ...any)) (result, error) {
	r := result{Server: w.product.Title() + " " + w.version, Settings: w.settings, Shape: s.name, Export: true}
	path := filepath.Join(w.folder, "fill.sql")
	defer os.Remove(path)
	if err := w.dump(path, s, size); err != nil {
		return r, err
	}
	if _, err := w.stock(path); err != nil {
		return r, err
	}
	if _, err := w.ours(path); err != nil {
		return r, err
	}
	theirs, mine := filepath.Join(w.folder, "stock.sql"), filepath.Join(w.folder, "ours.sql")
	defer os.Remove(theirs)
	defer os.Remove(mine)
	var ours, stock []float64
	for i := range runs {
		one, err := w.stockDump(theirs)
		if err != nil {
			return r, err
		}
		stock = append(stock, one.seconds)
		_ = os.Remove(mine) // an export is a new file
		two, err := timed(exec.Command(w.program, w.arguments("export", "ours", mine, "--quiet")...))
		if err != nil {
			return r, err
		}
		ours = append(ours, two.seconds)
		r.Memory = max(r.Memory, two.memory)
		tell("%s, export of %s: run %d: stock %.2f s, ours %.2f s", r.Server, r.Shape, i+1, one.seconds, two.seconds)
	}
	r.Stock, r.Ours = spreadOf(stock), spreadOf(ours)
	info, err := os.Stat(mine)
	if err != nil {
		return r, err
	}
	r.Bytes = info.Size()
	if _, err := w.ours(mine); err != nil {
		return r, fmt.Errorf("loading the export again: %w", err)
	}
	r.Differences, err = w.compare(ctx)
	return r, err
}

// findDumpProgram gives the path of MariaDB's dump program: Debian has it in another package
// than the server.
func findDumpProgram(extras string) string {
	for _, path := range []string{filepath.Join(extras, "usr/bin/mariadb-dump"), "/usr/bin/mariadb-dump"} {
		if _, err := os.Stat(path); err == nil {
			return path
		}
	}
	return ""
}
