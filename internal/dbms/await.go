package dbms

import (
	"context"
	"time"

	"yellowfield/internal/fault"
)

// Pause waits a moment for something the server does in the background; the error is ctx's.
func Pause(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return fault.Stopped(ctx.Err())
	case <-time.After(50 * time.Millisecond):
		return nil
	}
}

// AwaitNone waits until count gives 0, for a few seconds at most; what happens later is for
// the caller's next look.
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
