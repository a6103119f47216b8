package content

import (
	"path/filepath"
	"slices"
	"strings"

	"yellowfield/internal/estate"
	"yellowfield/internal/fault"
	"yellowfield/internal/host"
	"yellowfield/internal/script"
	"yellowfield/internal/work"
)

// includes finds, for the scripts of a run, the files that they have the stock client read
// in their place. A file of the run's own list runs where the list has it; any other must
// be below the app's folder and have the name of a script, or be on the estate file's list,
// so that a script cannot have the administrator read what its owner could not, or show
// settings in an error.
func includes(r *work.Run, scripts []*work.WantedScript) func(from, named string) (script.Included, error) {
	listed := func(path string) bool {
		return slices.ContainsFunc(scripts, func(s *work.WantedScript) bool { return s.Path == path })
	}
	return func(from, named string) (script.Included, error) {
		var found []string
		within := false
		for _, path := range meant(r, from, named) {
			inside, there := isBelowFolder(r, path)
			within = within || inside
			if (listed(path) || there && script.HasName(path) || isOnList(r, path)) && !slices.Contains(found, path) {
				found = append(found, path)
			}
		}
		const oneByOne = "name the files one by one under import, and remove the line"
		switch len(found) {
		case 0:
			if within && !script.HasName(named) {
				return script.Included{}, fault.New(fault.Protected, oneByOne, "the script reads the file %s, which is not a SQL script by its name", named)
			}
			if within {
				return script.Included{}, fault.New(fault.Invalid, "correct the line, or name the file under import and remove the line", "the script reads the file %s, which is not there", named)
			}
			return script.Included{}, fault.New(fault.Protected, oneByOne, "the script reads the file %s, which is neither below the app's folder nor on its list of scripts", named)
		case 1:
			return script.Included{Path: found[0], Name: r.App.Shown(found[0]), Opener: r.OpenScript, Passed: listed(found[0])}, nil
		}
		for i := range found {
			found[i] = r.App.Shown(found[i])
		}
		return script.Included{}, fault.New(fault.Invalid, oneByOne, "the script reads the file %s, which can be %s", named, strings.Join(found, " or "))
	}
}

// meant are the paths that a name can mean: the stock clients take it from the folder they
// are started in, which mostly is that of the script or the application's.
func meant(r *work.Run, from, named string) []string {
	if filepath.IsAbs(named) {
		return []string{filepath.Clean(named)}
	}
	paths := []string{filepath.Join(filepath.Dir(from), named)}
	if r.App.Folder != "" {
		paths = append(paths, filepath.Join(r.App.Folder, named))
	}
	return paths
}

func isOnList(r *work.Run, path string) bool {
	return slices.ContainsFunc(r.App.Import, func(s estate.Script) bool { return r.App.InFolder(s.File) == path })
}

func isBelowFolder(r *work.Run, path string) (inside, there bool) {
	if _, inside = host.Below(r.App.Folder, path); !inside || r.App.Folder == "" {
		return false, false
	}
	files, err := r.Files()
	return true, err == nil && files.Exists(path)
}
