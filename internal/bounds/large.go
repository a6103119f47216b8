package bounds

import "context"

// LargePiece is from how many bytes on a piece of a file is large: one of these is in memory at
// a time, whatever the number of those who read.
const LargePiece = 8 << 20

var large = make(chan struct{}, 1)

// holder marks the contexts of those who have what TakeLarge gives.
type holder struct{}

// TakeLarge waits until nobody else holds a large piece of a file. Whoever waits must hold
// nothing that others wait for.
func TakeLarge(ctx context.Context) (release func(), err error) {
	if ctx.Value(holder{}) != nil {
		return func() {}, nil
	}
	select {
	case large <- struct{}{}:
		return func() { <-large }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// HoldingLarge is for work whose readers need not ask: their greatest need was taken before, or is
// known to be small.
func HoldingLarge(ctx context.Context) context.Context { return context.WithValue(ctx, holder{}, true) }
