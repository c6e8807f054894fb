package crawl

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"io/fs"
	"os"
)

// journal keeps the pages that were asked, each with the addresses that it names, as
// lines of JSON. A run with the same journal takes them from there.
type journal struct {
	f    *os.File
	w    *bufio.Writer
	from string
	n    int
}

type journalLine struct {
	Site  string       `json:"site,omitempty"` // in the first line
	Page  *Page        `json:"page,omitempty"`
	Links []journalRef `json:"links,omitempty"`
}

type journalRef struct {
	Key   string `json:"k"`
	Depth int    `json:"d"`
}

// ErrJournal says that a journal is of another crawl.
var ErrJournal = errors.New("the journal is of another crawl")

func openJournal(name, site string) (*journal, error) {
	f, err := os.OpenFile(name, os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return nil, fmt.Errorf("keep the crawl's progress: %w", err)
	}
	return &journal{f: f, w: bufio.NewWriter(f), from: site}, nil
}

// replay gives what the journal holds. What a killed run left of a line is cut off.
func (j *journal) replay(take func(Page, []item)) error {
	r := bufio.NewReaderSize(j.f, 256<<10)
	var good int64
	for {
		line, err := r.ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		var l journalLine
		if json.Unmarshal(line, &l) != nil {
			if good == 0 {
				return fmt.Errorf("%w: %s holds something else; name another file", ErrJournal, j.f.Name())
			}
			break
		}
		if good == 0 && l.Site != j.from {
			return fmt.Errorf("%w: %s is of %s, not of %s; remove it or name another file", ErrJournal, j.f.Name(), l.Site, j.from)
		}
		if good += int64(len(line)); l.Page == nil {
			continue
		}
		var links []item
		for _, k := range l.Links {
			links = append(links, item{key: k.Key, depth: k.Depth})
		}
		take(*l.Page, links)
	}
	if good == 0 {
		if st, err := j.f.Stat(); err != nil || st.Size() > 0 {
			return errors.Join(err, fmt.Errorf("%w: %s holds something else; name another file", ErrJournal, j.f.Name()))
		}
	}
	if err := j.f.Truncate(good); err != nil {
		return err
	}
	if _, err := j.f.Seek(good, io.SeekStart); err != nil {
		return err
	}
	if good == 0 {
		return j.put(journalLine{Site: j.from})
	}
	return nil
}

func (j *journal) write(p Page, links []item) error {
	l := journalLine{Page: &p}
	for _, it := range links {
		l.Links = append(l.Links, journalRef{it.key, it.depth})
	}
	return j.put(l)
}

func (j *journal) put(l journalLine) error {
	b, err := json.Marshal(l)
	if err != nil {
		return err
	}
	if _, err = j.w.Write(append(b, '\n')); err == nil {
		if j.n++; j.n%50 == 0 {
			err = j.w.Flush()
		}
	}
	if err != nil {
		return fmt.Errorf("keep the crawl's progress: %w", err)
	}
	return nil
}

// close ends the journal, and removes it when all is done.
func (j *journal) close(all bool) error {
	err := errors.Join(j.w.Flush(), j.f.Close())
	if all && err == nil {
		if err = os.Remove(j.f.Name()); errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
	}
	return err
}

var hashSeed = maphash.MakeSeed()

func hashOf(s string) uint64 { return maphash.String(hashSeed, s) }
