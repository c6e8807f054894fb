package restore

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"hovix/internal/site"
)

// patience is how long a service may take to answer.
const patience = 2 * time.Second

// maxDropIn bounds what is read of a drop-in, in bytes.
const maxDropIn = 16 << 20

// switchedOff ends the name of a file that was put out of use.
const switchedOff = ".off"

// dropIns puts staged files out of use that would stop the site here: those whose
// service does not answer, and those that name the folder that the site had.
func (r *run) dropIns(ctx context.Context) error {
	kind, ok := r.kind.(site.Extensible)
	if !ok {
		return nil
	}
	files := site.Files{}
	for rel, f := range r.settings {
		files[rel] = f.content
	}
	var done []string
	for _, d := range kind.DropIns(files) {
		if slices.Contains(done, d.File) {
			continue
		}
		name := filepath.FromSlash(d.File)
		content, err := r.files.dir.ReadFile(name, maxDropIn)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("look at %s: %w", d.File, err)
		}
		why := r.unusable(ctx, d, content)
		if why == "" {
			continue
		}
		if err := r.files.dir.Rename(name, name+switchedOff); err != nil {
			return fmt.Errorf("switch off %s: %w", d.File, err)
		}
		done = append(done, d.File)
		r.res.Touched = append(r.res.Touched, fmt.Sprintf("%s is switched off (now %s): %s", d.File, filepath.Base(name)+switchedOff, why))
	}
	return nil
}

// unusable says why a drop-in cannot work here; "" if nothing speaks against it.
func (r *run) unusable(ctx context.Context, d site.DropIn, content []byte) string {
	if d.Service == "" {
		if old := r.m.Root; old != "" && old != r.plan.Target && bytes.Contains(content, []byte(old+"/")) {
			return "it names the old folder " + old
		}
		return ""
	}
	if !strings.Contains(strings.ToLower(string(content)), d.Mentions) {
		return ""
	}
	dialer := net.Dialer{Timeout: patience}
	conn, err := dialer.DialContext(ctx, d.Network, d.Address)
	if err != nil {
		return fmt.Sprintf("no %s answers at %s", d.Service, d.Address)
	}
	_ = conn.Close()
	return ""
}
