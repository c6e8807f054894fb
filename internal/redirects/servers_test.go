package redirects

import (
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"hovix/internal/testenv"
)

// hardRows are old addresses with everything that rules for servers get wrong.
var hardRows = []Row{
	{From: "/plain", To: "/new/plain"},
	{From: "/slash/", To: "/new/with-slash/"},
	{From: "/slash", To: "/new/without-slash"},
	{From: "/Case", To: "/new/upper"},
	{From: "/case", To: "/new/lower"},
	{From: "/only-Upper", To: "/new/only-upper"},
	{From: "/a b c", To: "/new/a b"},
	{From: "/plus+plus", To: "/new/plus+plus"},
	{From: "/a%2Fb", To: "/new/encoded-slash"},
	{From: "/c%2Fd/e", To: "/new/c%2Fd"},
	{From: "/⛴-ferry", To: "/new/⛴"},
	{From: "/паром/на", To: "/new/паром"},
	{From: "/it's", To: "/new/it's"},
	{From: `/a"quote"`, To: `/new/"quoted"`},
	{From: "/price$1", To: "/new/$1"},
	{From: "/${HOME}", To: "/new/home"},
	{From: "/(paren)", To: "/new/(paren)"},
	{From: "/[brackets]", To: "/new/brackets"},
	{From: "/%7Bcurly%7Ds", To: "/new/curly"},
	{From: "/dot.html", To: "/new/dot"},
	{From: "/star*", To: "/new/star*"},
	{From: "/caret^", To: "/new/caret"},
	{From: "/pipe|pipe", To: "/new/pipe"},
	{From: `/back\slash`, To: "/new/backslash"},
	{From: "/100%25", To: "/new/100%25"},
	{From: "/%1-x", To: "/new/%1"},
	{From: "/hash%23x", To: "/new/hash%23x"},
	{From: "/what%3F", To: "/new/what%3F"},
	{From: "/semi;colon", To: "/new/semi;colon"},
	{From: "/amp&amp", To: "/new/amp&amp"},
	{From: "/equals=x", To: "/new/equals=x"},
	{From: "/comma,x", To: "/new/comma,x"},
	{From: "/back`tick", To: "/new/tick"},
	{From: "/~tilde", To: "/new/~tilde"},
	{From: "/colon:x", To: "/new/colon:x"},
	{From: "/at@x", To: "/new/at@x"},
	{From: "/under_score", To: "/new/under_score#part"},
	{From: "/to-query", To: "/new/q?a=1&b=%20x"},
	{From: "/?p=12", To: "/new/twelve"},
	{From: "/?p=13", To: "/new/thirteen"},
	{From: "/index.php?id=1&x=a%20b", To: "/new/query"},
	{From: "/index.php?q=(a+b)", To: "/new/query2?z=1"},
	{From: "/gone", Status: 410},
	{From: "/gone?x=1", Status: 410},
	{From: "/found", To: "/new/found", Status: 302},
	{From: "/temporary", To: "/new/temporary", Status: 307},
	{From: "/permanent", To: "/new/permanent", Status: 308},
	{From: "/elsewhere", To: "https://other.example/x?y=1"},
	{From: "/deep", To: "/new/deep"},
	{From: "/deep/er/and/deeper", To: "/new/deeper"},
	{From: "/rules/2012/exception.html", To: "/new/exception"},
	{From: "/rules/{year}/{name}.html", To: "/new/{name}/"},
	{From: "/правила/{rest}", To: "/new/r/{rest}", Status: 302},
	{From: "/item.php?id={id}", To: "/new/item/{id}"},
	{From: "/temp/{name}", To: "/new/temp/{name}", Status: 307},
	{From: "/drop/{rest}", Status: 410},
	{From: "/ask/{name}/{name2}", To: "/new/q/{name2}?n={name}&x=a%26b"},
}

// ruleExamples are addresses that rules lead, and where.
var ruleExamples = []Row{
	{From: "/rules/2013/one.html", To: "/new/one/"},
	{From: "/rules/2013/a%20b.html", To: "/new/a%20b/"},
	{From: "/rules/2013/%D0%BF.html", To: "/new/%D0%BF/"},
	{From: "/%D0%BF%D1%80%D0%B0%D0%B2%D0%B8%D0%BB%D0%B0/a/b", To: "/new/r/a/b", Status: 302},
	{From: "/item.php?id=7", To: "/new/item/7"},
	{From: "/temp/x", To: "/new/temp/x", Status: 307},
	{From: "/drop/a/b", Status: 410},
	{From: "/ask/one/two", To: "/new/q/two?n=one&x=a%26b"},
}

// untouched are addresses near to those of rows that must not be caught.
var untouched = []string{"/", "/?p=1", "/?p=121", "/plain/", "/plain/x", "/PLAIN", "/plainer", "/only-upper", "/dotxhtml", "/gone/x", "/a/b", "/deep/er", "/rules/201/x.html", "/rules/2013/a/b.html", "/index.php", "/index.php?id=2", "/item.php?id=x", "/item.php", "/new/plain", "/stars"}

// ask sends a request with the address as it stands.
func ask(client *http.Client, base, address string) (status int, location string, err error) {
	u, err := url.Parse(base)
	if err != nil {
		return 0, "", err
	}
	path, query, has := strings.Cut(address, "?")
	u.Opaque = path
	if u.RawQuery = query; has && query == "" {
		u.ForceQuery = true
	}
	res, err := client.Do(&http.Request{Method: "GET", URL: u, Host: u.Host, Header: http.Header{}})
	if err != nil {
		return 0, "", err
	}
	defer res.Body.Close()
	_, _ = io.Copy(io.Discard, res.Body)
	return res.StatusCode, strings.TrimPrefix(res.Header.Get("Location"), base), nil
}

// Every row of a hard map, and ten thousand others, on the real servers.
func TestServers(t *testing.T) {
	m := &Map{Rows: slices.Clone(hardRows)}
	var many []Row
	for i := range 10_000 {
		many = append(many, Row{From: fmt.Sprintf("/many/section-%d/page-%d.html", i%37, i), To: fmt.Sprintf("/new/many/%d/", i)})
	}
	m.Rows = append(m.Rows, many...)
	for _, server := range []string{"nginx", "nginx-map", "apache", "htaccess", "caddy", "haproxy"} {
		t.Run(server, func(t *testing.T) {
			t.Parallel()
			m, many := m, many
			if server == "htaccess" { // it is read anew for each request
				many = many[:300]
				m = &Map{Rows: slices.Concat(hardRows, many)}
			}
			base := testenv.WebServer(t, server, func(file string) (lines []string) {
				res, err := Write(m, WriteOptions{For: server, Map: "hard.csv", File: file, Now: time.Now()}, func(name string) (io.WriteCloser, error) { return os.Create(file + name) })
				require.NoError(t, err)
				require.Empty(t, res.Skipped)
				text, err := os.ReadFile(file)
				require.NoError(t, err)
				for l := range strings.Lines(string(text)) {
					if l, ok := strings.CutPrefix(l, "#   http-request"); ok {
						lines = append(lines, "http-request"+strings.TrimRight(l, "\n"))
					}
				}
				return lines
			})
			client := &http.Client{Timeout: 20 * time.Second, CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, Transport: &http.Transport{MaxIdleConnsPerHost: 8}}
			defer client.CloseIdleConnections()
			var mu sync.Mutex
			var wrong []string
			try := func(r *Row) {
				from, err := ParseTarget(r.From)
				require.NoError(t, err)
				status, location, err := ask(client, base, from.Key())
				want, got := "", ""
				if r.To != "" {
					to, _ := ParseTarget(r.To)
					want = safe(to.String())
					at, _ := ParseTarget(location)
					got = safe(at.String())
				}
				if err != nil || status != r.status() || got != want {
					mu.Lock()
					defer mu.Unlock()
					wrong = append(wrong, fmt.Sprintf("%s: %d %q %v, want %d %q", from.Key(), status, location, err, r.status(), want))
				}
			}
			var g errgroup.Group
			g.SetLimit(4)
			for _, r := range slices.Concat(hardRows, ruleExamples, many) {
				if !IsRule(r.From) {
					g.Go(func() error { try(&r); return nil })
				}
			}
			require.NoError(t, g.Wait())
			for _, address := range untouched {
				status, location, err := ask(client, base, address)
				if err != nil || status != 200 && status != 404 {
					wrong = append(wrong, fmt.Sprintf("%s is caught: %d %s %v", address, status, location, err))
				}
			}
			if len(wrong) > 30 {
				wrong = append(wrong[:30], fmt.Sprintf("and %d more", len(wrong)-30))
			}
			assert.Empty(t, wrong, "%s", strings.Join(wrong, "\n"))
		})
	}
}
