package provision

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yellowfield/internal/dbms"
	"yellowfield/internal/work"
)

func TestAnAdministratorTellsNoStrangerThePassword(t *testing.T) {
	for _, row := range []struct {
		address dbms.Address
		want    dbms.TLSMode
	}{
		{dbms.Address{Host: "db.meadowgate.example", Port: 3306}, dbms.TLSVerify},
		{dbms.Address{Host: "10.0.4.2", Port: 5432}, dbms.TLSVerify},
		{dbms.Address{Host: "127.0.0.1", Port: 3306}, ""},
		{dbms.Address{Host: "localhost", Port: 3306}, ""},
		{dbms.Address{Socket: "/run/mysqld/mysqld.sock"}, ""},
		{dbms.Address{Host: "10.0.4.2", Port: 3306, TLS: dbms.TLSPrefer}, dbms.TLSPrefer}, // as somebody has decided
	} {
		assert.Equal(t, row.want, work.AdministratorsWay(row.address).TLS, "%+v", row.address)
	}
}
