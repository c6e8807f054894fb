package main_test

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database"
	"hovix/internal/demo"
	"hovix/internal/rewrite"
	"hovix/internal/testenv"
)

// visitor is a browser of sites whose addresses exist on this machine only.
type visitor struct {
	t    *testing.T
	http *http.Client
}

func newVisitor(t *testing.T, port int) *visitor {
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &visitor{t, &http.Client{Jar: jar, Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", fmt.Sprintf("127.0.0.1:%d", port))
	}}}}
}

func (v *visitor) read(res *http.Response, err error) string {
	v.t.Helper()
	require.NoError(v.t, err)
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	require.NoError(v.t, err)
	require.Equal(v.t, 200, res.StatusCode, "%s: %.300s", res.Request.URL, body)
	return string(body)
}

func (v *visitor) get(address string) string {
	v.t.Helper()
	return v.read(v.http.Get(address))
}

func (v *visitor) post(address string, form url.Values) string {
	v.t.Helper()
	return v.read(v.http.PostForm(address, form))
}

// serveMuseum serves a folder of the demo site until the test ends.
func serveMuseum(t *testing.T, folder string, port int) {
	t.Helper()
	s, err := demo.NewServer(folder)
	require.NoError(t, err)
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	require.NoError(t, err)
	srv := &http.Server{Handler: s}
	go func() { _ = srv.Serve(l) }()
	t.Cleanup(func() { _ = srv.Close(); _ = s.Close() })
}

// useMuseum does on a served museum what its visitors and its keeper do.
func useMuseum(t *testing.T, port int, address, notMentioned, text string) {
	t.Helper()
	v := newVisitor(t, port)
	front := v.get(address + "/")
	links := map[string]bool{}
	images := 0
	for _, m := range regexp.MustCompile(`(?:href|src)="([^"]+)"|url\('([^']+)'\)`).FindAllStringSubmatch(front, -1) {
		u := strings.ReplaceAll(m[1]+m[2], `\/`, "/")
		if !strings.HasPrefix(u, address) || links[u] {
			continue
		}
		links[u] = true
		body := v.get(u)
		if strings.HasSuffix(u, ".jpg") || strings.HasSuffix(u, ".png") {
			images++
		} else {
			assert.NotContains(t, body, notMentioned+"/", u)
		}
	}
	for _, p := range []string{"/visit", "/visit/tickets", "/collection", "/collection/grey-heron", "/collection/marigold", "/news", "/news/2024/new-curator", "/learn", "/archive", "/about"} {
		assert.Contains(t, v.get(address+p), `href="`+address+"/", p)
	}
	assert.GreaterOrEqual(t, images, 5)
	assert.Contains(t, v.get(address+"/search?q=two+FUNNELS"), address+"/collection/grey-heron")
	assert.Contains(t, v.post(address+"/staff", url.Values{"login": {demo.Keeper}, "password": {demo.KeeperPassword}}), "Save</button>")
	assert.Contains(t, v.get(address+"/staff/edit?path=/about"), "<textarea")
	saved := v.post(address+"/staff/edit", url.Values{"path": {"/about"}, "title": {"About us"}, "body": {"<p>" + text + "</p>"}})
	assert.Contains(t, saved, text)
	assert.Contains(t, v.get(address+"/about"), text, "the edit is there to stay")
}

// TestMuseumServedOnAllEngines moves the demo site to another folder, database,
// port and base path, and back to the root, and uses it in between.
func TestMuseumServedOnAllEngines(t *testing.T) {
	sqlite := func(testing.TB) database.Location { return database.Location{} }
	for name, fresh := range map[string]func(testing.TB) database.Location{"SQLite": sqlite, "MariaDB": testenv.MariaDB, "PostgreSQL": testenv.Postgres} {
		t.Run(name, func(t *testing.T) {
			port := testenv.FreePort(t)
			address := fmt.Sprintf("http://localhost:%d", port)
			parsed, err := rewrite.ParseAddress(address)
			require.NoError(t, err)
			folder := filepath.Join(t.TempDir(), "first")
			_, err = demo.Build(t.Context(), folder, parsed, fresh(t))
			require.NoError(t, err)
			serveMuseum(t, folder, port)
			text := "The first text"
			useMuseum(t, port, address, "museum2", text)
			for i, base := range []string{"/museum2", ""} {
				file := packed(t, folder)
				newPort, target := testenv.FreePort(t), fresh(t)
				newFolder := filepath.Join(t.TempDir(), fmt.Sprintf("next %d", i))
				newAddress := fmt.Sprintf("http://localhost:%d%s", newPort, base)
				args := []string{"restore", file, newFolder, "--url", newAddress}
				if !target.IsZero() {
					args = append(args, "--database", target.String())
				}
				run := testenv.HovixIn(t, "", []string{"HOVIX_DATABASE_PASSWORD=" + target.Password}, args...)
				require.Contains(t, []int{0, 3}, run.Status, run.Err)
				serveMuseum(t, newFolder, newPort)
				assert.Contains(t, newVisitor(t, newPort).get(newAddress+"/about"), text, "the last edit came along")
				text = fmt.Sprintf("Text number %d", i)
				useMuseum(t, newPort, newAddress, address, text)
				folder, address = newFolder, newAddress
			}
		})
	}
}
