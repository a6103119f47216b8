package inspect

import (
	"yellowfield/internal/dbms"
	"yellowfield/internal/figures"
	"yellowfield/internal/host"
)

// little is the free space below which a server is at risk.
const little = 1 << 30

// Room looks at the disk that a server keeps its data on, where it is this host's.
func (r *Report) Room(address dbms.Address, folder string) {
	bytes, known := host.RoomIn(folder)
	if address.OverNetwork() || !known {
		r.Unseen = append(r.Unseen, "room on the server's disk: its folder "+folder+" is not to be seen from here")
		return
	}
	r.Size("room on the disk", bytes, " for "+folder)
	if bytes < little {
		r.Add(Finding{Kind: LittleRoom, On: folder, Evidence: "room for " + figures.Size(bytes), Remedy: "make room, or move the server's data to a larger disk"})
	}
}
