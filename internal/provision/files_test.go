package provision

import (
	"testing"

	"yellowfield/internal/overview"

	"github.com/stretchr/testify/assert"
)

func TestCopiesAreToldByTheirNames(t *testing.T) {
	for _, name := range []string{"db.php~", "db.php.bak", "db.php.old", "db.php.2019-02-03", "#db.php#", ".db.php.swp", "db.php_orig", "db.bak.php", "db (1).php", "db-backup.php", "db_old2.php", "Copy of db.php", "db - Copy.php", "old-db.php", "db.php.save.1"} {
		assert.True(t, overview.Copies(name, "db.php"), name)
	}
	for _, name := range []string{"db.php", "db2.php", "testdb.php", "db.phpt", "db.php.dist", "db.php.sample", "db.inc.php", "dbx.php", "db_users.php", "db.example.php"} {
		assert.False(t, overview.Copies(name, "db.php"), name)
	}
	for name, is := range map[string]bool{".env.bak": true, ".env~": true, ".env.local": false, ".env.testing": false, ".environment": false, ".env.old": true} {
		assert.Equal(t, is, overview.Copies(name, ".env"), name)
	}
}
