package postgres

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms/postgres"
	"yellowfield/internal/load"
	"yellowfield/internal/load/loadtest"
	"yellowfield/internal/script"
)

// TestWhatReachesOutsideOnPostgreSQL: each of these is refused or left out before
// anything runs, whatever the server would say to it. What the account's own rights
// stop, such as functions for superusers, the hostile dumps try on a server.
func TestWhatReachesOutsideOnPostgreSQL(t *testing.T) {
	target := &Importer{Target: load.Target{Database: "ours"}, Server: postgres.ScriptConditions{Settings: map[string]bool{"search_path": true, "work_mem": true}, Extensions: map[string]bool{"pgcrypto": true, "file_fdw": false}}}
	check := func(text string) (refused int, left int) {
		survey, err := target.Check(t.Context(), script.Source{Path: loadtest.Write(t, text).Path, Name: "a.sql"}, load.Options{})
		if err != nil {
			return 1, 0
		}
		for _, note := range survey.Notes {
			if strings.Contains(note.What, "left out") {
				left++
			}
		}
		return len(survey.Refused), left
	}
	for _, text := range strings.Split(strings.TrimSpace(`
COPY t FROM PROGRAM 'id'
COPY t TO PROGRAM 'sh'
COPY t FROM '/etc/passwd'
COPY t TO '/tmp/x'
COPY (SELECT 1) TO '/tmp/x'
CREATE ROLE evil SUPERUSER
CREATE USER evil
ALTER ROLE ours_app SUPERUSER
ALTER ROLE ours_app SET search_path = evil
ALTER DATABASE ours SET search_path = evil
ALTER SYSTEM SET archive_command = 'id'
DROP DATABASE neighbour
CREATE DATABASE other
DROP ROLE neighbour
CREATE TABLESPACE t LOCATION '/tmp'
CREATE EXTENSION file_fdw
CREATE EXTENSION dblink
CREATE FUNCTION f() RETURNS int LANGUAGE c AS '/tmp/x.so', 'f'
CREATE FUNCTION f() RETURNS int LANGUAGE internal AS 'int4in'
LOAD '/tmp/x.so'
SET ROLE postgres
SET SESSION AUTHORIZATION postgres
RESET SESSION AUTHORIZATION
CREATE EVENT TRIGGER e ON ddl_command_end EXECUTE FUNCTION f()
CREATE SERVER s FOREIGN DATA WRAPPER postgres_fdw
CREATE SUBSCRIPTION s CONNECTION 'host=x' PUBLICATION p
CREATE PUBLICATION p FOR ALL TABLES
NOTIFY x
PREPARE TRANSACTION 'x'
VACUUM
CHECKPOINT
GRANT ALL ON DATABASE ours TO PUBLIC
REVOKE ALL ON DATABASE ours FROM postgres
REASSIGN OWNED BY postgres TO ours_app
DROP OWNED BY postgres
SECURITY LABEL ON TABLE t IS 'x'
`), "\n") {
		refused, left := check("CREATE TABLE t (i int);\n" + text + ";\n")
		assert.Positive(t, refused+left, text)
		// Nor does it hide in the clothes of what may run.
		for _, dressed := range []string{"/* a /* b */ c */ " + text, "-- x\n" + strings.ToLower(text), "\n\t" + strings.ToUpper(text[:1]) + text[1:]} {
			refused, left := check("CREATE TABLE t (i int);\n" + dressed + ";\n")
			assert.Positive(t, refused+left, dressed)
		}
	}
	// What dumps and installers write goes through.
	survey, err := target.Check(t.Context(), script.Source{Path: loadtest.Write(t, `SET client_encoding = 'UTF8'; SELECT pg_catalog.set_config('search_path', '', false);
CREATE EXTENSION IF NOT EXISTS pgcrypto; CREATE SCHEMA s; CREATE TABLE public.t (i int, j text); CREATE SEQUENCE q; ALTER SEQUENCE q OWNED BY t.i; SELECT pg_catalog.setval('q', 1, true);
CREATE FUNCTION f() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NEW; END $$; CREATE TRIGGER g BEFORE INSERT ON public.t FOR EACH ROW EXECUTE FUNCTION f(); COMMENT ON TABLE public.t IS 'x';
INSERT INTO public.t VALUES (1, 'ALTER ROLE x SUPERUSER'); CREATE INDEX x ON public.t (i); CREATE VIEW v AS SELECT 1;`).Path, Name: "a.sql"}, load.Options{})
	require.NoError(t, err)
	assert.Empty(t, survey.Refused)
}
