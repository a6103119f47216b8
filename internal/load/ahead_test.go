package load

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yellowfield/internal/fault"
	"yellowfield/internal/script"
	"yellowfield/internal/sqltext"
	"yellowfield/internal/sqltext/postgres"
)

// TestReadAhead: what is read ahead is what the reader gives, and whoever looks at it may
// end at any part.
func TestReadAhead(t *testing.T) {
	var text strings.Builder
	for i := range 40 {
		text.WriteString(strings.Repeat("SELECT 'short';\n", i*40))
		if i%9 == 0 {
			text.WriteString("SELECT '" + strings.Repeat("long ", longestCopied*i/80) + "';\n")
		}
		text.WriteString("COPY a FROM STDIN;\n" + strings.Repeat("row\tof Пчела\n", i*i*30) + "\\.\n")
	}
	type seen struct {
		at   int64
		text string
		rows int
	}
	direct := func() (all []seen) {
		r := postgres.NewReader("a.sql", strings.NewReader(text.String()))
		for {
			s, err := r.Next()
			if errors.Is(err, io.EOF) {
				return all
			}
			require.NoError(t, err)
			one := seen{at: s.Offset, text: string(s.Text)}
			if r.Data() != nil {
				rows, err := io.ReadAll(r.Data())
				require.NoError(t, err)
				one.rows = len(rows)
			}
			all = append(all, one)
		}
	}()
	errEnough := errors.New("enough")
	ahead := func(most int) (all []seen, passed int64, err error) {
		r := postgres.NewReader("a.sql", strings.NewReader(text.String()))
		f := NewFindings(script.Source{Name: "a.sql"}, Target{}, Options{})
		err = f.Each(t.Context(), r, func(s sqltext.Statement, valid bool) error {
			assert.True(t, valid)
			if len(all) == most {
				return errEnough
			}
			all = append(all, seen{at: s.Offset, text: string(s.Text)})
			return nil
		}, Data{Behind: r.Data, Take: func(rows []byte, size int64, last bool) error {
			assert.NotEqual(t, last, len(rows) > 0)
			all[len(all)-1].rows += len(rows)
			passed += size
			return nil
		}})
		return all, passed, err
	}
	all, passed, err := ahead(-1)
	require.NoError(t, err)
	require.Equal(t, direct, all)
	assert.EqualValues(t, bytes.Count([]byte(text.String()), []byte("row\tof"))*len("row\tof Пчела\n")+40*len("\n\\.\n"), passed) // a COPY's own line end included
	for _, most := range []int{1, 7, 400, len(direct) / 2, len(direct) - 1} {
		all, _, err := ahead(most)
		require.ErrorIs(t, err, errEnough)
		require.Equal(t, direct[:most], all)
	}
}

func TestReadAheadOfWhatIsNone(t *testing.T) {
	f := NewFindings(script.Source{Path: "a.sql", Name: "a.sql"}, Target{}, Options{})
	take := func(sqltext.Statement, bool) error { return nil }
	err := f.Each(t.Context(), postgres.NewReader("a.sql", strings.NewReader("-- nothing\n")), take, Data{})
	assert.ErrorContains(t, err, "holds no statement")
	err = f.Each(t.Context(), postgres.NewReader("a.sql", strings.NewReader("SELECT 1; SELECT 'open")), take, Data{})
	assert.Equal(t, 1, fault.As(err).Place.Line)
	ctx, stop := context.WithCancel(t.Context())
	err = f.Each(ctx, postgres.NewReader("a.sql", strings.NewReader("SELECT 1; SELECT 2;")), func(sqltext.Statement, bool) error { stop(); return nil }, Data{})
	assert.ErrorIs(t, err, context.Canceled)
}
