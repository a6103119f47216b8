package host

import (
	"cmp"
	"errors"
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

// phpInterfaces are PHP's to a web server, in the order in which they are likely to serve it.
var phpInterfaces = []string{"fpm", "apache2", "cgi"}

// PHP gives the configuration that is likely to serve the application: the first of PHPs. It
// is nil when PHP is not on this host.
func (h Host) PHP(folder string) (*phpini.Configuration, error) {
	all, err := h.PHPs(folder, "")
	if err != nil || len(all) == 0 {
		return nil, err
	}
	return all[0], nil
}

// PHPs gives the configurations that may serve an application: the one in folder, with its
// further files in scan (conf.d beside php.ini by default), or, for an empty folder, those of
// the newest PHP for the web. Only where there are none is it that of the command line.
func (h Host) PHPs(folder, scan string) ([]*phpini.Configuration, error) {
	if folder != "" {
		if _, err := os.Stat(filepath.Join(folder, "php.ini")); err != nil {
			return nil, fault.New(fault.Invalid, "name the folder of the php.ini in force; phpinfo() shows it", "there is no php.ini in %s", folder).With(err)
		}
		c, err := h.readPHP(folder, cmp.Or(scan, filepath.Join(folder, "conf.d")))
		return []*phpini.Configuration{c}, err
	}
	versions, _ := filepath.Glob("/etc/php/*")
	number := func(path string) float64 {
		version, _ := strconv.ParseFloat(filepath.Base(path), 64)
		return version
	}
	slices.SortFunc(versions, func(a, b string) int { return cmp.Compare(number(b), number(a)) })
	var sets [][]string
	for _, version := range versions {
		var set []string
		for _, i := range phpInterfaces {
			set = append(set, filepath.Join(version, i))
		}
		sets = append(sets, set)
	}
	for _, version := range versions {
		sets = append(sets, []string{filepath.Join(version, "cli")})
	}
	others, _ := filepath.Glob("/etc/php[0-9]*") // with a folder for each version
	slices.Reverse(others)
	for _, folder := range append([]string{"/usr/local/etc/php", "/etc/php"}, append(others, "/etc")...) {
		sets = append(sets, []string{folder})
	}
	for _, set := range sets {
		var found []*phpini.Configuration
		for _, folder := range set {
			if _, err := os.Stat(filepath.Join(folder, "php.ini")); err != nil {
				continue
			}
			within := filepath.Join(folder, "conf.d")
			if folder == "/etc" {
				within = "/etc/php.d"
			}
			c, err := h.readPHP(folder, within)
			if err != nil {
				return nil, err
			}
			found = append(found, c)
		}
		if len(found) > 0 {
			return found, nil
		}
	}
	return nil, nil
}

// readPHP reads php.ini, and the files of the scan folder in the order in which PHP does.
func (Host) readPHP(folder, scan string) (*phpini.Configuration, error) {
	c := phpini.New(folder)
	c.Scan, c.Name, c.Service = scan, "PHP in "+folder, "php-fpm"
	if version, program := filepath.Base(filepath.Dir(folder)), filepath.Base(folder); filepath.Dir(filepath.Dir(folder)) == "/etc/php" {
		c.Name = "PHP " + version + " " + program
		c.Service = map[string]string{"fpm": "php" + version + "-fpm", "apache2": "apache2"}[program]
	}
	read := func(pattern string, take func(string, []byte)) error {
		files, _ := filepath.Glob(pattern)
		slices.Sort(files)
		for _, file := range files {
			content, err := ReadFile(file)
			if err != nil {
				return fault.At(fault.Invalid, fault.Place{File: file}, "make it readable for this user", "PHP's configuration cannot be read: %v", err).With(err)
			}
			take(file, content)
		}
		return nil
	}
	pools := filepath.Join(folder, "pool.d", "*.conf")
	if folder == "/etc" {
		pools = "/etc/php-fpm.d/*.conf"
	}
	return c, errors.Join(read(filepath.Join(folder, "php.ini"), c.Take), read(filepath.Join(scan, "*.ini"), c.Take), read(pools, c.TakePools))
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

// Nobody is a user and a group, by their numbers, that nobody on this host has and that
// own nothing: no account of a server can be this user's by name. The user "nobody" would
// not do, since programs run as it.
func (Host) Nobody() (uid, gid int) {
	const highest, lowest = 65532, 60000 // below the usual numbers of "nobody" (Debian Policy, "UID and GID classes")
	for id := highest; id > lowest; id-- {
		number := strconv.Itoa(id)
		_, hasUser := user.LookupId(number)
		_, hasGroup := user.LookupGroupId(number)
		if hasUser != nil && hasGroup != nil {
			return id, id
		}
	}
	return highest, highest
}

// Member is a user as the system knows it, by its numbers. A user without a name has the
// group that is given.
func (h Host) Member(uid, gid int) (groups []int) {
	if account, err := user.LookupId(strconv.Itoa(uid)); err == nil {
		if groups, err := h.GroupsOf(account.Username); err == nil {
			return groups
		}
	}
	return []int{gid}
}

// IsRoot reports whether the program may do everything here.
func (Host) IsRoot() bool { return os.Geteuid() == 0 }

// OwnerOfSocket is the user that a socket belongs to, which is whoever runs the server
// behind it; -1 where that is not known.
func (Host) OwnerOfSocket(path string) int {
	info, err := os.Stat(path)
	if err != nil {
		return -1
	}
	uid, _ := atomicfile.OwnerOf(info)
	return uid
}
