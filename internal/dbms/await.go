package dbms

import (
	"context"
	"time"

	"yellowfield/internal/fault"
)

// Pause waits a little for what a server does in its own time; the error is that of an
// interruption.
func Pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return fault.Stopped(ctx.Err())
	case <-time.After(50 * time.Millisecond):
		return nil
	}
}

// AwaitNone waits until count gives none, for a few seconds at most: what comes later is
// found by whoever looks.
func AwaitNone(ctx context.Context, count func() (int, error)) error {
	for range 100 {
		if left, err := count(); err != nil || left == 0 {
			return err
		}
		if err := Pause(ctx); err != nil {
			return err
		}
	}
	return nil
}
