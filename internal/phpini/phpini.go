// Package phpini reads how PHP is configured, from its php.ini and the files beside
// it, without running PHP: limits, extensions and the socket that localhost means.
//
// It knows nothing of databases, of the estate file, or of where these files are.
package phpini

import (
	"bufio"
	"bytes"
	"cmp"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Configuration is what one PHP is told by its files.
type Configuration struct {
	Folder string // that holds php.ini
	// Scan is the folder of further files, which PHP reads after it in the order of their
	// names; empty for none.
	Scan string
	// Name tells it from others on a host: its version and the program it is part of.
	Name string
	// Service is what has to be reloaded before a change counts; empty where each request
	// reads the files anew, or where that is not known.
	Service    string
	sources    []source
	values     map[string]setting
	extensions map[string]bool
	pools      []PoolValue
}

type source struct {
	path    string
	content []byte
}

type setting struct{ value, path string }

// PoolValue is a setting that a pool of PHP's process manager has of its own, which counts
// there instead (PHP manual, "FPM: Configuration", php_admin_value).
type PoolValue struct {
	Pool, Name, Value, Path string
	Line                    int
}

// builtIn are the values of a PHP that is told nothing (PHP manual, "List of
// php.ini directives").
var builtIn = map[string]string{
	"memory_limit": "128M", "upload_max_filesize": "2M", "post_max_size": "8M", "max_file_uploads": "20",
	"max_execution_time": "30", "max_input_time": "-1", "max_input_vars": "1000", "file_uploads": "1",
	"default_charset": "UTF-8", "short_open_tag": "1", "display_errors": "1", "allow_url_fopen": "1",
	"session.auto_start": "0", "output_buffering": "0", "date.timezone": "UTC", LocalInfile: "0",
}

// LocalInfile allows a server that mysqli talks to, or who speaks in its place, to read this
// host's files.
const LocalInfile = "mysqli.allow_local_infile"

// DefaultSockets are the settings of what localhost means to PHP's two drivers.
var DefaultSockets = []string{"mysqli.default_socket", "pdo_mysql.default_socket"}

// compiledIn are the extensions that PHP has without being told, in the form
// in which distributions build it.
var compiledIn = []string{"core", "ctype", "date", "fileinfo", "filter", "hash", "json", "libxml", "openssl",
	"pcre", "pdo", "phar", "posix", "random", "reflection", "session", "sodium", "spl", "standard", "tokenizer", "zlib"}

// IsCompiledIn reports whether every PHP has an extension without being told.
func IsCompiledIn(extension string) bool { return slices.Contains(compiledIn, extension) }

// New is the configuration of a PHP whose files have still to be taken in.
func New(folder string) *Configuration {
	return &Configuration{Folder: folder, values: map[string]setting{}, extensions: map[string]bool{}}
}

// With is the configuration as it is with this content in a file of the scan folder; nil for
// without the file.
func (c *Configuration) With(path string, content []byte) *Configuration {
	other := New(c.Folder)
	other.Scan, other.Name, other.Service, other.pools = c.Scan, c.Name, c.Service, c.pools
	taken := content == nil
	for i, s := range c.sources {
		if !taken && i > 0 && filepath.Base(s.path) >= filepath.Base(path) {
			other.Take(path, content)
			taken = true
		}
		if s.path != path {
			other.Take(s.path, s.content)
		}
	}
	if !taken {
		other.Take(path, content)
	}
	return other
}

// Take takes in the content of a file; what later ones say counts.
func (c *Configuration) Take(path string, content []byte) {
	c.sources = append(c.sources, source{path, content})
	everywhere := true
	lines := bufio.NewScanner(bytes.NewReader(content))
	for lines.Scan() {
		line := strings.TrimSpace(lines.Text())
		if line == "" || line[0] == ';' || line[0] == '#' {
			continue
		}
		if line[0] == '[' {
			// Sections mean nothing but for these two, which hold for one
			// folder or host.
			upper := strings.ToUpper(line)
			everywhere = !strings.HasPrefix(upper, "[PATH=") && !strings.HasPrefix(upper, "[HOST=")
			continue
		}
		name, value, found := strings.Cut(line, "=")
		if !found || !everywhere {
			continue
		}
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		if strings.HasPrefix(value, `"`) {
			value, _, _ = strings.Cut(value[1:], `"`)
		} else {
			value, _, _ = strings.Cut(value, ";")
			value = strings.TrimSpace(value)
		}
		if name == "extension" || name == "zend_extension" {
			c.extensions[extensionName(value)] = true
			continue
		}
		c.values[name] = setting{value, path}
	}
}

func extensionName(value string) string {
	value = strings.TrimSuffix(filepath.Base(value), ".so")
	value = strings.TrimSuffix(strings.TrimPrefix(value, "php_"), ".dll")
	return strings.ToLower(value)
}

// Value of a setting; PHP's own default where the files say nothing. known is
// false when neither is known.
func (c *Configuration) Value(name string) (value string, known bool) {
	if set, known := c.values[name]; known {
		return set.value, true
	}
	value, known = builtIn[name]
	return value, known
}

// SetBy is the file that has the last word on a setting; empty for none.
func (c *Configuration) SetBy(name string) string { return c.values[name].path }

// poolLine sets something for one pool alone.
var poolLine = regexp.MustCompile(`^php(?:_admin)?_(?:value|flag)\[([^\]]+)\]\s*=\s*(.*)$`)

// TakePools takes in a file of the process manager's pools.
func (c *Configuration) TakePools(path string, content []byte) {
	pool := ""
	for i, line := range strings.Split(string(content), "\n") {
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			pool = strings.Trim(line, "[]")
		}
		if set := poolLine.FindStringSubmatch(line); set != nil {
			value, _, _ := strings.Cut(set[2], ";")
			c.pools = append(c.pools, PoolValue{pool, set[1], strings.Trim(strings.TrimSpace(value), `"`), path, i + 1})
		}
	}
}

// Pools are those that have a setting of their own.
func (c *Configuration) Pools(name string) (found []PoolValue) {
	for _, p := range c.pools {
		if p.Name == name {
			found = append(found, p)
		}
	}
	return found
}

// HasExtension reports whether an extension is loaded or built in.
func (c *Configuration) HasExtension(name string) bool {
	name = strings.ToLower(name)
	return c.extensions[name] || slices.Contains(compiledIn, name)
}

// DefaultSocket is what localhost means to mysqli and PDO where an application says
// nothing else: as the files say, else as it is built in.
func (c *Configuration) DefaultSocket() string {
	for _, name := range DefaultSockets {
		if value := c.values[name].value; value != "" {
			return value
		}
	}
	return c.builtInSocket()
}

// SocketOf is what localhost means to one of the two drivers, by its setting.
func (c *Configuration) SocketOf(name string) string {
	return cmp.Or(c.values[name].value, c.builtInSocket())
}

// builtInSocket is that of Debian's PHP; one that was built by itself has the default of
// its driver (php-src, ext/mysqlnd).
func (c *Configuration) builtInSocket() string {
	if strings.HasPrefix(c.Folder, "/usr/local/") || strings.HasPrefix(c.Folder, "/opt/") {
		return "/tmp/mysql.sock"
	}
	return "/var/run/mysqld/mysqld.sock"
}

// Wanted takes a condition apart: its operator, which is >=, <= or =, and the value.
func Wanted(want string) (operator, value string) {
	want = strings.TrimSpace(want)
	for _, operator := range []string{">=", "<=", "="} {
		if value, has := strings.CutPrefix(want, operator); has {
			return operator, strings.TrimSpace(value)
		}
	}
	return "=", want
}

// Satisfies compares a value with a condition: ">= 256M", "<= 10", "= On", or a
// plain value. Sizes may have K, M or G; -1 and 0 of a limit count as
// unlimited for >= where PHP takes them so.
func Satisfies(name, value, want string) bool {
	operator, want := Wanted(want)
	if operator == "=" {
		if is, ok := boolean(value); ok {
			if wanted, ok := boolean(want); ok {
				return is == wanted
			}
		}
		return strings.EqualFold(value, want)
	}
	has, okHas := size(value)
	limit, okLimit := size(want)
	if !okHas || !okLimit {
		return false
	}
	unlimited := name == "memory_limit" && has == -1 || (name == "max_execution_time" || name == "post_max_size") && has == 0
	if operator == ">=" {
		return unlimited || has >= limit
	}
	return !unlimited && has <= limit
}

func boolean(text string) (value, ok bool) {
	switch strings.ToLower(text) {
	case "1", "on", "yes", "true":
		return true, true
	case "0", "off", "no", "false", "":
		return false, true
	}
	return false, false
}

func size(text string) (int64, bool) {
	factor := int64(1)
	if text == "" {
		return 0, false
	}
	switch text[len(text)-1] {
	case 'k', 'K':
		factor = 1 << 10
	case 'm', 'M':
		factor = 1 << 20
	case 'g', 'G':
		factor = 1 << 30
	}
	if factor > 1 {
		text = text[:len(text)-1]
	}
	number, err := strconv.ParseInt(text, 10, 64)
	return number * factor, err == nil
}
