package restore

// ownerOf knows no owners on Windows.
func ownerOf(string) (uid, gid int) { return -1, -1 }
