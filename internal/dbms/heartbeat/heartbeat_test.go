package heartbeat

import (
	"context"
	"net"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestASilentServerIsLeftAndABusyOneIsNot has hours and minutes go by in no time.
func TestASilentServerIsLeftAndABusyOneIsNot(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var there atomic.Bool
		there.Store(true)
		ask := func(ctx context.Context) error {
			if !there.Load() {
				<-ctx.Done()
			}
			return ctx.Err()
		}
		var far net.Conn
		dial := func(context.Context, string, string) (near net.Conn, err error) {
			near, far = net.Pipe()
			return near, nil
		}
		w := New("barn", dial, ask)
		defer w.Close()
		conn, err := w.Dial(t.Context(), "", "")
		require.NoError(t, err)
		read := make(chan error)
		go func() {
			for {
				_, err := conn.Read(make([]byte, 1))
				if read <- err; err != nil {
					return
				}
			}
		}()

		// A statement of an hour, while the server answers others.
		time.Sleep(time.Hour)
		_, err = far.Write([]byte("x"))
		require.NoError(t, err)
		require.NoError(t, <-read)
		require.False(t, Silent("barn"))

		there.Store(false)
		since := time.Now()
		require.ErrorIs(t, <-read, ErrSilent)
		assert.LessOrEqual(t, time.Since(since), Limit+3*patience)
		assert.True(t, Silent("barn"))
		assert.False(t, Silent("shed"))
		since = time.Now()
		_, err = w.Dial(t.Context(), "", "")
		require.ErrorIs(t, err, ErrSilent)
		assert.Zero(t, time.Since(since), "it is known")
		time.Sleep(time.Minute)
		other := New("barn", dial, ask)
		defer other.Close()
		_, err = other.Dial(t.Context(), "", "")
		require.ErrorIs(t, err, ErrSilent, "it was asked again, by whoever came")

		there.Store(true)
		time.Sleep(time.Minute)
		again, err := w.Dial(t.Context(), "", "")
		require.NoError(t, err, "it answers again")
		assert.False(t, Silent("barn"))
		_ = conn.Close()
		_ = again.Close()
		time.Sleep(time.Second) // whoever looked after them has gone, or this test cannot end
	})
}
