package provision

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/estate"
	"yellowfield/internal/work"
)

func TestAppsAreToldInTheirOrder(t *testing.T) {
	var told []string
	o := &inOrder{kept: make([][]func(), 3), ended: make([]bool, 3)}
	o.to.Row = func(h work.Header, row work.Row) { told = append(told, h.App+" "+row.Facts) }
	a, b, c := o.of(0), o.of(1), o.of(2)
	assert.Nil(t, a.Begin, "nobody listens to it")
	row := func(l work.Listener, app, facts string) { l.Row(work.Header{App: app}, work.Row{Facts: facts}) }
	row(c, "c", "1")
	row(b, "b", "1")
	row(a, "a", "1")
	assert.Equal(t, []string{"a 1"}, told, "the first is told as it comes")
	o.end(2)
	o.end(0)
	assert.Equal(t, []string{"a 1", "b 1"}, told)
	row(b, "b", "2")
	o.end(1)
	assert.Equal(t, []string{"a 1", "b 1", "b 2", "c 1"}, told)
}

func TestAppsWithSomethingInCommonFollowOneAnother(t *testing.T) {
	loaded, err := estate.Loader{TrustOthers: true}.LoadText("/srv/yellowfield.yaml", []byte(`
servers: {barn: {dbms: mariadb, socket: /run/a.sock, admin: {user: root}}, again: {dbms: mariadb, socket: /run/a.sock, admin: {user: root}}, shed: {dbms: mariadb, socket: /run/b.sock, admin: {user: root}}}
apps:
  a: {server: barn, folder: www, database: {name: a}, shared: true, prefix: a_, accounts: [{name: one}]}
  b: {server: barn, folder: www/b, database: {name: b}, accounts: [{name: two}]}
  c: {server: again, folder: c, database: {name: a}, shared: true, prefix: c_, accounts: [{name: three}]}
  d: {server: shed, folder: d, database: {name: d}, accounts: [{name: three}], server_during_import: {log_bin_trust_function_creators: "ON"}}
  e: {server: shed, folder: e, database: {name: e}, accounts: [{name: five}], server_during_import: {log_bin_trust_function_creators: "ON"}}
  f: {server: shed, folder: f, database: {name: f}, accounts: [{name: six}], settings: [{file: /srv/d/s.php, values: {$a: x}}]}
`))
	require.NoError(t, err)
	apps, err := loaded.Select(nil, nil)
	require.NoError(t, err)
	assert.Equal(t, [][]int{nil, {0}, {0}, nil, {3}, {3}}, following(&work.Engine{Estate: loaded}, apps))
}
