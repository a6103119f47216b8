package throwaway

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"

	"github.com/gofrs/flock"
)

// TemplatesVariable names the folder in which the data of new servers is kept, made once
// for each product and system and copied for each server, which takes a tenth of the time.
// Where it is not set, as outside of tests, each server makes its own.
const TemplatesVariable = "YELLOWFIELD_TEMPLATES"

// fillFrom copies the data of a new server, unless there is some already.
func (s *Server) fillFrom(ctx context.Context, templates string) error {
	from := s.options.Data
	if entries, err := os.ReadDir(s.path("data")); templates+from == "" || err != nil || len(entries) > 0 {
		return err
	}
	if from == "" {
		var err error
		if from, err = s.template(ctx, templates); err != nil {
			return err
		}
	}
	if err := os.CopyFS(s.path("data"), os.DirFS(from)); err != nil {
		return fmt.Errorf("copying the data of a new server: %w", err)
	}
	return nil
}

// template is the folder with the data of a new server like this one. The first caller makes
// it, with a server of its own that is shut down cleanly.
func (s *Server) template(ctx context.Context, templates string) (string, error) {
	like := fmt.Sprint(s.options.Product, s.options.Root, s.versionOfPrograms())
	path := filepath.Join(templates, fmt.Sprintf("%s-%x", s.options.Product, sha256.Sum256([]byte(like)))[:len(s.options.Product)+13])
	if err := os.MkdirAll(templates, 0o755); err != nil {
		return "", err
	}
	lock := flock.New(path + ".lock")
	if err := lock.Lock(); err != nil {
		return "", err
	}
	defer func() { _ = lock.Unlock() }()
	if _, err := os.Stat(path); err == nil {
		return path, nil
	}
	maker := &Server{options: Options{Product: s.options.Product, Root: s.options.Root}}
	if err := maker.prepareFolder(); err != nil {
		return "", err
	}
	defer maker.Stop()
	if err := maker.giveAway(); err != nil {
		return "", err
	}
	if err := maker.launch(ctx); err != nil {
		return "", err
	}
	maker.process.stop()
	maker.process = nil
	half := path + ".half"
	if err := os.RemoveAll(half); err != nil {
		return "", err
	}
	if err := os.CopyFS(half, os.DirFS(maker.path("data"))); err != nil {
		return "", err
	}
	return path, os.Rename(half, path)
}

// versionOfPrograms tells the server's program from an older or a newer one.
func (s *Server) versionOfPrograms() (version string) {
	paths, _ := filepath.Glob(filepath.Join("/", s.options.Root, "usr/sbin/*d")) // mariadbd, mysqld
	if programs := PostgresPrograms(s.options.Root); programs != "" {
		paths = append(paths, filepath.Join(programs, "postgres"))
	}
	for _, path := range paths {
		if info, err := os.Stat(path); err == nil {
			version += fmt.Sprint(path, info.Size(), info.ModTime().Unix(), " ")
		}
	}
	return version
}
