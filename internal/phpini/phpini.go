// Package phpini reads how PHP is configured, from its php.ini and the files beside
// it, without running PHP: limits, extensions and the socket that localhost means.
//
// It knows nothing of databases, of the estate file, or of where these files are.
package phpini

import (
	"bufio"
	"bytes"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Configuration is what one PHP is told by its files.
type Configuration struct {
	Folder     string // that holds php.ini
	values     map[string]string
	extensions map[string]bool
}

// builtIn are the values of a PHP that is told nothing (PHP manual, "List of
// php.ini directives").
var builtIn = map[string]string{
	"memory_limit": "128M", "upload_max_filesize": "2M", "post_max_size": "8M", "max_file_uploads": "20",
	"max_execution_time": "30", "max_input_time": "-1", "max_input_vars": "1000", "file_uploads": "1",
	"default_charset": "UTF-8", "short_open_tag": "1", "display_errors": "1", "allow_url_fopen": "1",
	"session.auto_start": "0", "output_buffering": "0", "date.timezone": "UTC",
}

// compiledIn are the extensions that PHP has without being told, in the form
// in which distributions build it.
var compiledIn = []string{"core", "ctype", "date", "fileinfo", "filter", "hash", "json", "libxml", "openssl",
	"pcre", "pdo", "phar", "posix", "random", "reflection", "session", "sodium", "spl", "standard", "tokenizer", "zlib"}

// IsCompiledIn reports whether every PHP has an extension without being told.
func IsCompiledIn(extension string) bool { return slices.Contains(compiledIn, extension) }

// New is the configuration of a PHP whose files have still to be taken in.
func New(folder string) *Configuration {
	return &Configuration{Folder: folder, values: map[string]string{}, extensions: map[string]bool{}}
}

// Take takes in the content of a file; what later ones say counts.
func (c *Configuration) Take(content []byte) {
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
		c.values[name] = value
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
	if value, known = c.values[name]; known {
		return value, true
	}
	value, known = builtIn[name]
	return value, known
}

// HasExtension reports whether an extension is loaded or built in.
func (c *Configuration) HasExtension(name string) bool {
	name = strings.ToLower(name)
	return c.extensions[name] || slices.Contains(compiledIn, name)
}

// DefaultSocket is what localhost means to mysqli and PDO where an application says
// nothing else: as the files say, else as it is built in.
func (c *Configuration) DefaultSocket() string {
	for _, name := range []string{"mysqli.default_socket", "pdo_mysql.default_socket"} {
		if c.values[name] != "" {
			return c.values[name]
		}
	}
	return c.builtInSocket()
}

// builtInSocket is that of Debian's PHP; one that was built by itself has the default of
// its driver (php-src, ext/mysqlnd).
func (c *Configuration) builtInSocket() string {
	if strings.HasPrefix(c.Folder, "/usr/local/") || strings.HasPrefix(c.Folder, "/opt/") {
		return "/tmp/mysql.sock"
	}
	return "/var/run/mysqld/mysqld.sock"
}

// Satisfies compares a value with a condition: ">= 256M", "<= 10", "on", or a
// plain value. Sizes may have K, M or G; -1 and 0 of a limit count as
// unlimited for >= where PHP takes them so.
func Satisfies(name, value, want string) bool {
	operator := ""
	for _, o := range []string{">=", "<="} {
		if strings.HasPrefix(want, o) {
			operator, want = o, strings.TrimSpace(want[2:])
		}
	}
	if operator == "" {
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
