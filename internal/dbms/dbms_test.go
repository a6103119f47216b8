package dbms

import (
	"fmt"
	"strings"
	"testing"

	"yellowfield/internal/fault"

	"github.com/stretchr/testify/assert"
)

func TestWhoIsMeantByAHost(t *testing.T) {
	for _, row := range []struct {
		pattern, host string
		is            bool
	}{
		{"%", "anything", true}, {"10.0.4.%", "10.0.4.17", true}, {"10.0.4.%", "10.0.40.1", false}, {"WEB_.example", "web1.example", true},
		{"10.0.4.0/255.255.255.0", "10.0.4.9", true}, {"10.0.4.0/255.255.255.0", "10.0.5.9", false}, {"10.0.4.0/24", "10.0.4.255", true},
		{"10.0.4.0/24", "web1.example", false}, {"a.c", "abc", false}, {"localhost", "LOCALHOST", true},
	} {
		assert.Equal(t, row.is, HostMatches(row.pattern, row.host), "%s for %s", row.pattern, row.host)
	}
	for _, a := range []Account{{"x", "10.0.4.%"}, {"a@b", "localhost"}, {"role", ""}} {
		assert.Equal(t, a, ParseAccount(a.String()))
	}
}

func TestAddresses(t *testing.T) {
	folder, port := Address{Socket: "/run/postgresql/.s.PGSQL.5433", Port: 1}.PostgresSocket()
	assert.Equal(t, []any{"/run/postgresql", 5433}, []any{folder, port})
	folder, port = Address{Socket: "/run/postgresql"}.PostgresSocket()
	assert.Equal(t, []any{"/run/postgresql", 5432}, []any{folder, port})
	for address, leaves := range map[Address]bool{{Socket: "/s"}: false, {Host: "localhost"}: false, {Host: "127.0.0.1"}: false, {Host: "::1"}: false, {Host: "10.0.4.2"}: true, {Host: "db.example"}: true} {
		assert.Equal(t, leaves, address.OverNetwork(), address.String())
	}
	for _, text := range []string{"sha256:" + sixtyFour, "SHA256:" + sixtyFour, " sha256:ab:" + sixtyFour[2:]} {
		fingerprint, ok := ParseFingerprint(text)
		assert.True(t, ok, text)
		assert.Equal(t, "sha256:"+sixtyFour, fingerprint)
	}
	for _, text := range []string{sixtyFour, "sha256:" + sixtyFour[1:], "sha1:" + sixtyFour, ""} {
		_, ok := ParseFingerprint(text)
		assert.False(t, ok, text)
	}
}

const sixtyFour = "ab5c1e0011223344556677889900aabbccddeeff00112233445566778899aabb"

func TestPrivilegesAreSets(t *testing.T) {
	p := NewPrivileges("update", "SELECT", "select")
	assert.Equal(t, "SELECT, UPDATE", p.String())
	assert.True(t, p.Has("UPDATE") && !p.Has("UPDAT"))
	assert.Equal(t, NewPrivileges("UPDATE"), p.Minus(NewPrivileges("SELECT", "INSERT")))
	assert.Nil(t, p.Minus(p))
	more := p.Plus(NewPrivileges("INSERT", "SELECT"))
	assert.Equal(t, "INSERT, SELECT, UPDATE", more.String())
	assert.Equal(t, "SELECT, UPDATE", p.String(), "a union changes neither")
}

func TestWhatADatabaseHolds(t *testing.T) {
	c := Contents{Tables: []Table{{Name: "a"}, {Name: "v", View: true}}, Routines: []Object{{"FUNCTION", "f"}}, Events: []Object{{"EVENT", "e"}}, Triggers: []Object{{"TRIGGER", "t"}}}
	assert.Len(t, c.Objects(), 4)
	assert.Len(t, c.Everything(), 5)
	rest := c.Without(map[Object]bool{{"TABLE", "a"}: true, {"FUNCTION", "f"}: true})
	assert.Equal(t, map[Object]bool{{"VIEW", "v"}: true, {"EVENT", "e"}: true, {"TRIGGER", "t"}: true}, rest.Everything())
	assert.Empty(t, c.Without(map[Object]bool{{"TABLE", "a"}: true, {"VIEW", "v"}: true}).Triggers, "they go with the last table")
	assert.True(t, Contents{}.Empty() && !c.Empty())
}

func TestObjectsAsScriptsMakeThem(t *testing.T) {
	made := map[Object]bool{{"TABLE", "Hive"}: true, {"SEQUENCE", "numbers"}: true, {"FUNCTION", "f(int)"}: true, {"VIEW", "v"}: true}
	for _, row := range []struct{ is, want Object }{
		{Object{"TABLE", "hive"}, Object{"TABLE", "Hive"}},
		{Object{"TABLE", "numbers"}, Object{"SEQUENCE", "numbers"}}, // which MariaDB lists as a table
		{Object{"FUNCTION", "f(integer)"}, Object{"FUNCTION", "f(int)"}},
		{Object{"TABLE", "other"}, Object{"TABLE", "other"}},
		{Object{"FUNCTION", "v"}, Object{"FUNCTION", "v"}},
	} {
		assert.Equal(t, row.want, row.is.AsMade(made, strings.ToLower), row.is)
	}
}

func TestNextStepsByCause(t *testing.T) {
	assert.Equal(t, MakeRoom, NextAfter("INSERT INTO t VALUES (1)", NoRoom), "and not to correct the statement")
	assert.Equal(t, "the statement was: DROP TABLE t", NextAfter("DROP TABLE t", OtherCause))
	assert.NotContains(t, NextAfter(" ", OtherCause), "statement")
	full := fault.As(Explained(fmt.Errorf("looking: %w", &ServerError{Server: "barn", Message: "full", Code: 1021, Cause: NoRoom})))
	assert.Contains(t, full.What, "server barn: ")
	assert.Equal(t, MakeRoom, full.Next)
	assert.NoError(t, Explained(nil))
	assert.Equal(t, 75, ClassOf(TooMany).ExitCode(), "a limit of connections passes")
	assert.Equal(t, 1, ClassOf(WrongLogin).ExitCode())
}
