//go:build !linux && !darwin && !freebsd

package host

// Room is not known here.
func Room(string) (bytes int64, known bool) { return 0, false }

// RoomIn is not known here.
func RoomIn(string) (bytes int64, known bool) { return 0, false }
