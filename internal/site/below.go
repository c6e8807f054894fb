package site

import (
	"bytes"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"hovix/internal/fsys"
)

// lookedInto is how many folders are looked into for sites in them.
const lookedInto = 5000

// Below gives the folders in root, down to a number of levels, that hold sites of their
// own, by their paths with slashes. It does not look into those.
func Below(root string, levels int) (sites []string) {
	left := lookedInto
	var look func(rel string, levels int)
	look = func(rel string, levels int) {
		entries, err := os.ReadDir(filepath.Join(root, rel))
		if err != nil || levels == 0 {
			return
		}
		for _, e := range entries {
			if left--; left < 0 || !e.IsDir() || slices.Contains(versionControl, e.Name()) || strings.HasSuffix(e.Name(), ".hovix") {
				continue
			}
			sub := filepath.Join(rel, e.Name())
			if Is(filepath.Join(root, sub)) {
				sites = append(sites, filepath.ToSlash(sub))
				continue
			}
			look(sub, levels-1)
		}
	}
	look("", levels)
	return sites
}

// sqliteMagic begins every database file of SQLite (its file format, section 1.3).
var sqliteMagic = []byte("SQLite format 3\x00")

// IsSQLite reports whether a regular file is a database of SQLite.
func IsSQLite(path string) bool {
	st, err := os.Lstat(path)
	if err != nil || !st.Mode().IsRegular() {
		return false
	}
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, len(sqliteMagic))
	_, err = io.ReadFull(f, head)
	return err == nil && bytes.Equal(head, sqliteMagic)
}

// Databases names what of a folder is the data of a database server, or a database of
// SQLite, right in it.
func Databases(root string) (names []string) {
	entries, err := os.ReadDir(root)
	if err != nil {
		return nil
	}
	for _, e := range entries[:min(len(entries), lookedInto)] {
		switch name := e.Name(); {
		case name == "PG_VERSION", name == "ibdata1", name == "aria_log_control", e.Type() == fs.FileMode(0) && IsSQLite(filepath.Join(root, name)):
			names = append(names, name)
		}
	}
	return names
}

// homes gives the home folders of the machine's accounts.
func homes() (dirs []string) {
	if dir, err := os.UserHomeDir(); err == nil {
		dirs = append(dirs, dir)
	}
	text, err := os.ReadFile("/etc/passwd")
	if err != nil {
		return dirs
	}
	for line := range strings.Lines(string(text)) {
		if f := strings.Split(line, ":"); len(f) > 5 {
			dirs = append(dirs, f[5])
		}
	}
	return dirs
}

// systemFolders hold what is not a site's, at the top of a file system of Unix
// (Filesystem Hierarchy Standard 3.0).
var systemFolders = []string{"/bin", "/boot", "/dev", "/etc", "/home", "/lib", "/lib64", "/media", "/mnt", "/opt", "/proc", "/root", "/run", "/sbin", "/srv", "/sys", "/tmp", "/usr", "/var",
	"/usr/bin", "/usr/lib", "/usr/local", "/usr/sbin", "/usr/share", "/var/backups", "/var/cache", "/var/lib", "/var/log", "/var/spool", "/var/tmp", "/var/www"}

// NotOfASite says why a folder that is there must not be replaced by a site, "" if nothing
// speaks against it. A folder that is a site itself, or is empty, may be.
func NotOfASite(root string) string {
	if entries, err := os.ReadDir(root); err != nil || len(entries) == 0 || Is(root) {
		return ""
	}
	same := func(dir string) bool {
		at, err := fsys.Resolve(dir)
		return err == nil && at == root
	}
	if slices.Contains(systemFolders, root) {
		return "is a folder of the system"
	}
	if slices.ContainsFunc(homes(), same) {
		return "is a home folder"
	}
	if sites := Below(root, 3); len(sites) > 0 {
		return "holds other sites (" + few(sites) + ")"
	}
	if names := Databases(root); len(names) > 0 {
		return "is no site and holds databases (" + few(names) + ")"
	}
	return ""
}

func few(names []string) string {
	if len(names) > 4 {
		return strings.Join(names[:4], ", ") + " and more"
	}
	return strings.Join(names, ", ")
}
