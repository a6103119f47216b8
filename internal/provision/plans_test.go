package provision

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/dbms"
	"yellowfield/internal/estate"
	"yellowfield/internal/work"
)

// TestPlansChangeNothing has each command planned on a pretended server: what it would do is told,
// nothing is sent, and the state folder, the estate file and the application's files stay.
func TestPlansChangeNothing(t *testing.T) {
	type command func(ctx context.Context, e *Engine, apps []*estate.App) ([]work.Result, error)
	for _, row := range []struct {
		name    string
		command command
		want    string
	}{
		{"provision", func(ctx context.Context, e *Engine, apps []*estate.App) ([]work.Result, error) {
			return e.Provision(ctx, apps, work.Options{Command: "provision", DryRun: true})
		}, "kept database, kept account, kept rights"},
		{"close", func(ctx context.Context, e *Engine, apps []*estate.App) ([]work.Result, error) {
			return e.Close(ctx, apps, work.Options{Command: "close", DryRun: true, Turn: &work.StateChange{Close: true}})
		}, "would change rights"},
		{"reopen", func(ctx context.Context, e *Engine, apps []*estate.App) ([]work.Result, error) {
			return e.Reopen(ctx, apps, work.Options{Command: "reopen", DryRun: true, Turn: &work.StateChange{WithoutExport: true}})
		}, "kept rights"},
		{"rotate", func(ctx context.Context, e *Engine, apps []*estate.App) ([]work.Result, error) {
			return e.Rotate(ctx, apps, work.Options{Command: "rotate", DryRun: true, Rotation: &work.Rotation{Account: "hives_app"}})
		}, "failed account"}, // the password is given, and no other is
		{"retire", func(ctx context.Context, e *Engine, apps []*estate.App) ([]work.Result, error) {
			return e.Retire(ctx, apps, work.Options{Command: "retire", DryRun: true, Retire: &work.Retirement{}})
		}, "would change state, would change account"},
		{"undo", func(ctx context.Context, e *Engine, apps []*estate.App) ([]work.Result, error) {
			return e.UndoUnfinished(ctx, apps, work.Options{Command: "provision", DryRun: true, UndoUnfinished: true})
		}, "kept server"},
	} {
		t.Run(row.name, func(t *testing.T) {
			e, p := barn(t, dbms.MariaDB)
			p.stands(t, e, "structure")
			p.catalogue.Granted[dbms.ParseAccount(p.user)].Global = dbms.NewPrivileges("ALL PRIVILEGES", "SUPER", "CONNECTION ADMIN")
			r := aRun(t, e)
			r.App.Settings = nil
			before := world(r, t, p)
			results, err := row.command(t.Context(), e, []*estate.App{r.App})
			require.NoError(t, err)
			assert.Equal(t, row.want, outcomes(results[0]), "%v", results[0].Rows)
			assert.Empty(t, p.sent)
			assert.Equal(t, before, world(r, t, p))
		})
	}
}
