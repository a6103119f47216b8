package phpini

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestReadsWhatIsInForce(t *testing.T) {
	c := New("/etc/php")
	for _, content := range []string{
		"[PHP]\nmemory_limit = 64M ; small\n;memory_limit = 1G\npost_max_size=\"12M\"\nmysqli.default_socket =\n" +
			"pdo_mysql.default_socket = /run/x.sock\n[HOST=other.example]\nmemory_limit = 2G\n",
		"extension=/usr/lib/php/pdo_mysql.so\nmemory_limit=96M\n",
		"extension=mysqli.so\nmemory_limit=128M\n",
	} {
		c.Take("x.ini", []byte(content))
	}
	value, known := c.Value("memory_limit")
	assert.True(t, known)
	assert.Equal(t, "128M", value, "the last file counts")
	value, _ = c.Value("post_max_size")
	assert.Equal(t, "12M", value)
	value, _ = c.Value("max_file_uploads")
	assert.Equal(t, "20", value, "PHP's own default")
	_, known = c.Value("some.extension_setting")
	assert.False(t, known)
	assert.True(t, c.HasExtension("mysqli") && c.HasExtension("pdo_mysql") && c.HasExtension("JSON"))
	assert.False(t, c.HasExtension("imagick"))
	assert.Equal(t, "/run/x.sock", c.DefaultSocket())
}

func TestSatisfies(t *testing.T) {
	for _, row := range []struct {
		name, value, want string
		is                bool
	}{
		{"memory_limit", "256M", ">= 256M", true}, {"memory_limit", "1G", ">= 256M", true}, {"memory_limit", "255M", ">= 256M", false},
		{"memory_limit", "-1", ">= 256M", true}, {"memory_limit", "-1", "<= 256M", false}, {"max_execution_time", "0", ">= 60", true},
		{"max_input_vars", "0", ">= 60", false}, {"file_uploads", "On", "on", true}, {"file_uploads", "1", "on", true}, {"file_uploads", "", "on", false},
		{"default_charset", "UTF-8", "utf-8", true}, {"memory_limit", "lots", ">= 1M", false},
	} {
		assert.Equal(t, row.is, Satisfies(row.name, row.value, row.want), "%s=%s %s", row.name, row.value, row.want)
	}
}
