package readdress

import "io/fs"

func copyOwner(string, fs.FileInfo) error { return nil }
