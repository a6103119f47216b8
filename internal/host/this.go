package host

import (
	"cmp"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"

	"yellowfield/internal/atomicfile"
	"yellowfield/internal/fault"
	"yellowfield/internal/phpini"
)

// Host is the one that an application runs on: its users, its PHP, its sockets and
// folders. The zero value is the one that the program runs on.
type Host struct{}

// Open opens an application's folder, as the function Open does.
func (Host) Open(path string, o Options) (*Folder, error) { return Open(path, o) }

// OpenAround opens the folder of a file that its administrator has named: nothing may
// lead out of that.
func (Host) OpenAround(file string) (*Folder, error) { return Open(filepath.Dir(file), Options{}) }

// SameFile reports whether two paths lead to the same file, such as a socket.
func (Host) SameFile(a, b string) bool {
	ra, errA := filepath.EvalSymlinks(a)
	rb, errB := filepath.EvalSymlinks(b)
	return a == b || errA == nil && errB == nil && ra == rb
}

// UserID is the number of a user.
func (Host) UserID(name string) (int, error) {
	account, err := user.Lookup(name)
	if err != nil {
		return -1, err
	}
	return strconv.Atoi(account.Uid)
}

// GroupID is the number of a group.
func (Host) GroupID(name string) (int, error) {
	group, err := user.LookupGroup(name)
	if err != nil {
		return -1, err
	}
	return strconv.Atoi(group.Gid)
}

// GroupsOf are the groups that a user is in, by their numbers.
func (Host) GroupsOf(name string) ([]int, error) {
	account, err := user.Lookup(name)
	if err != nil {
		return nil, err
	}
	var groups []int
	ids, err := account.GroupIds()
	for _, id := range append(ids, account.Gid) {
		if gid, err := strconv.Atoi(id); err == nil {
			groups = append(groups, gid)
		}
	}
	return groups, err
}

// NamesOf are the names of an owner and a group, or their numbers where they have none.
func (Host) NamesOf(a atomicfile.Attributes) (owner, group string) {
	owner, group = strconv.Itoa(a.UID), strconv.Itoa(a.GID)
	if u, err := user.LookupId(owner); err == nil {
		owner = u.Username
	}
	if g, err := user.LookupGroupId(group); err == nil {
		group = g.Name
	}
	return owner, group
}

// MayGive reports whether the user who runs the program may give a file that it makes
// to an owner and a group: root to all, others to themselves and a group of theirs.
func (Host) MayGive(a atomicfile.Attributes) bool {
	if os.Geteuid() == 0 || a.UID == -1 && a.GID == -1 {
		return true
	}
	groups, err := os.Getgroups()
	return a.UID == os.Geteuid() && err == nil && slices.Contains(append(groups, os.Getegid()), a.GID)
}

// phpInterfaces are PHP's, in the order in which they are likely to serve the web.
var phpInterfaces = []string{"fpm", "apache2", "cgi", "cli"}

// PHP gives the configuration in folder, or, for an empty folder, that of the newest
// PHP which serves the web. It is nil when PHP is not on this host.
func (h Host) PHP(folder string) (*phpini.Configuration, error) {
	if folder != "" {
		if _, err := os.Stat(filepath.Join(folder, "php.ini")); err != nil {
			return nil, fault.New(fault.Invalid, "name the folder of the php.ini in force; phpinfo() shows it", "there is no php.ini in %s", folder).With(err)
		}
		return h.readPHP(folder)
	}
	versions, _ := filepath.Glob("/etc/php/*")
	number := func(path string) float64 {
		version, _ := strconv.ParseFloat(filepath.Base(path), 64)
		return version
	}
	slices.SortFunc(versions, func(a, b string) int { return cmp.Compare(number(b), number(a)) })
	var candidates []string
	for _, version := range versions {
		for _, i := range phpInterfaces {
			candidates = append(candidates, filepath.Join(version, i))
		}
	}
	for _, candidate := range append(candidates, "/usr/local/etc/php", "/etc/php") {
		if _, err := os.Stat(filepath.Join(candidate, "php.ini")); err == nil {
			return h.readPHP(candidate)
		}
	}
	return nil, nil
}

// readPHP reads php.ini, and the files beside it in the order in which PHP does.
func (Host) readPHP(folder string) (*phpini.Configuration, error) {
	c := phpini.New(folder)
	files, _ := filepath.Glob(filepath.Join(folder, "conf.d", "*.ini"))
	slices.Sort(files)
	for _, file := range append([]string{filepath.Join(folder, "php.ini")}, files...) {
		content, err := ReadFile(file)
		if err != nil {
			return nil, fault.At(fault.Invalid, fault.Place{File: file}, "make it readable for this user", "PHP's configuration cannot be read: %v", err).With(err)
		}
		c.Take(content)
	}
	return c, nil
}

// Sockets gives those of some paths at which there is something, each once, however
// many names it has.
func (Host) Sockets(paths ...string) []string {
	var found []string
	var seen []fs.FileInfo
	for _, path := range paths {
		info, err := os.Stat(path)
		if path == "" || err != nil || slices.ContainsFunc(seen, func(other fs.FileInfo) bool { return os.SameFile(info, other) }) {
			continue
		}
		seen, found = append(seen, info), append(found, path)
	}
	return found
}
