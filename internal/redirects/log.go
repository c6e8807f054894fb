package redirects

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"hovix/internal/inflate"
	"hovix/internal/webpath"
)

// Period bounds visits in time. Zero: no bound.
type Period struct{ Since, Until time.Time }

// robotWords are in the names of programs that are no visitors.
var robotWords = []string{"bot", "crawl", "spider", "slurp", "curl/", "wget", "python", "java/", "go-http-client", "libwww", "monitor", "preview", "headless", "scan", "fetch", "feed", "check", "hovix"}

// ErrNotLog says that a file is no access log.
var ErrNotLog = errors.New("not an access log")

// Log takes the visits of an access log in the common or combined format, as web servers
// write it (Apache HTTP Server, mod_log_config: CustomLog), plain or compressed with
// gzip, zstd or bzip2. A host name before the line, as logs of several hosts have it, is
// taken as the request's.
func (g *Gatherer) Log(r io.Reader, p Period) error {
	in, err := inflate.Reader(r, 1<<20)
	if err != nil {
		return err
	}
	visits := map[string]*visit{}
	good, bad := int64(0), int64(0)
	for {
		line, err := in.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) { // a line of over a megabyte is an attack
			for errors.Is(err, bufio.ErrBufferFull) {
				_, err = in.ReadSlice('\n')
			}
			line = line[:0]
			bad++
		}
		if err != nil && !errors.Is(err, io.EOF) {
			return fmt.Errorf("read the log: %w", err)
		}
		if err != nil && len(line) == 0 {
			break
		}
		if line = bytes.TrimRight(line, "\r\n"); len(line) == 0 {
			continue
		}
		l, ok := parseLogLine(line)
		if !ok {
			if bad++; good == 0 && bad > 100 {
				break
			}
			continue
		}
		good++
		g.visit(visits, &l, p)
	}
	if good == 0 && bad > 0 {
		return fmt.Errorf("%w: none of its lines is of the common or combined format", ErrNotLog)
	}
	g.drop(DropLine, bad)
	for address, v := range visits {
		g.Add(address, Entry{Status: v.status(), Visits: v.n, Sources: []string{"log"}})
	}
	return nil
}

// visit counts visits of an address, with the answer that most of them got.
type visit struct {
	n        int64
	answered map[int]int64
}

func (v *visit) status() (best int) {
	var most int64
	for s, n := range v.answered {
		if n > most || n == most && s < best {
			best, most = s, n
		}
	}
	return best
}

// logLine is what a line of a log says.
type logLine struct {
	host, method, target string
	status               int
	agent                string
	at                   time.Time
}

// parseLogLine reads a line: [host:port] client identity user [time] "request" status
// bytes ["referrer" "agent"].
func parseLogLine(line []byte) (l logLine, ok bool) {
	open := bytes.IndexByte(line, '[')
	if open < 0 {
		return l, false
	}
	head := bytes.Fields(line[:open])
	if len(head) == 4 {
		l.host, _, _ = strings.Cut(string(head[0]), ":")
	} else if len(head) < 3 {
		return l, false
	}
	end := bytes.IndexByte(line[open:], ']')
	if end < 0 {
		return l, false
	}
	var err error
	if l.at, err = time.Parse("02/Jan/2006:15:04:05 -0700", string(line[open+1:open+end])); err != nil {
		return l, false
	}
	request, rest, ok := quoted(line[open+end+1:])
	if !ok {
		return l, false
	}
	words := strings.Fields(request)
	if len(words) < 2 {
		return l, false
	}
	l.method, l.target = words[0], words[1]
	fields := bytes.Fields(rest[:min(len(rest), 64)])
	if len(fields) == 0 {
		return l, false
	}
	if l.status, err = strconv.Atoi(string(fields[0])); err != nil {
		return l, false
	}
	if _, after, found := quoted(rest); found { // the referrer
		l.agent, _, _ = quoted(after)
	}
	return l, true
}

// quoted gives the next text in quotes, without the escapes that servers write.
func quoted(b []byte) (text string, rest []byte, ok bool) {
	from := bytes.IndexByte(b, '"')
	if from < 0 {
		return "", nil, false
	}
	b = b[from+1:]
	for i := 0; i < len(b); i++ {
		switch b[i] {
		case '\\':
			i++
		case '"':
			return unescapeLog(b[:i]), b[i+1:], true
		}
	}
	return "", nil, false
}

func unescapeLog(b []byte) string {
	if bytes.IndexByte(b, '\\') < 0 {
		return string(b)
	}
	out := make([]byte, 0, len(b))
	for i := 0; i < len(b); i++ {
		if b[i] != '\\' || i+1 == len(b) {
			out = append(out, b[i])
			continue
		}
		i++
		if b[i] == 'x' && i+2 < len(b) {
			if v, err := strconv.ParseUint(string(b[i+1:i+3]), 16, 8); err == nil {
				out = append(out, byte(v))
				i += 2
				continue
			}
		}
		out = append(out, b[i])
	}
	return string(out)
}

// visit counts a line, if it is of a visitor who read a page.
func (g *Gatherer) visit(visits map[string]*visit, l *logLine, p Period) {
	switch {
	case l.method != "GET":
		g.drop(DropMethod, 1)
		return
	case !p.Since.IsZero() && l.at.Before(p.Since), !p.Until.IsZero() && !l.at.Before(p.Until):
		g.drop(DropPeriod, 1)
		return
	case isRobot(l.agent):
		g.drop(DropRobot, 1)
		return
	}
	address := l.target
	switch {
	case strings.HasPrefix(address, "http://"), strings.HasPrefix(address, "https://"): // a request through a proxy
	case !strings.HasPrefix(address, "/"):
		g.drop(DropMethod, 1)
		return
	default:
		address = "/" + strings.TrimLeft(address, "/")
		if l.host != "" && len(g.hosts) > 0 {
			address = "https://" + l.host + address
		}
	}
	path, query, has := strings.Cut(address, "?")
	if rest, cut := webpath.CutTracking(query); cut {
		g.drop(DropTracking, 1)
		if address = path; rest != "" {
			address += "?" + rest
		}
	} else if has && query == "" {
		address = path
	}
	v := visits[address]
	if v == nil {
		v = &visit{answered: map[int]int64{}}
		visits[address] = v
	}
	v.answered[l.status]++
	if l.status < 300 || l.status == 304 || l.status == 404 && g.opts.NotFound {
		v.n++
	}
}

func isRobot(agent string) bool {
	agent = strings.ToLower(agent)
	for _, w := range robotWords {
		if strings.Contains(agent, w) {
			return true
		}
	}
	return false
}

// LooksLikeLog reports whether the beginning of a text is that of an access log.
func LooksLikeLog(head []byte) bool {
	n := 0
	for line := range bytes.Lines(head) {
		if _, ok := parseLogLine(bytes.TrimRight(line, "\r\n")); ok {
			return true
		}
		if n++; n == 10 {
			break
		}
	}
	return false
}
