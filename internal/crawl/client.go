// Package crawl fetches the pages of a site politely: it follows links and sitemaps
// within the limits that robots.txt and its caller set, asks every address once, and is
// neither stopped nor swelled by what a server sends.
package crawl

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// ClientOptions sets how addresses are fetched. The zero value is good.
type ClientOptions struct {
	Agent    string            // User-Agent; its first word is the name that robots.txt may speak to
	Timeout  time.Duration     // for one answer; 0: 20 s
	MaxBody  int64             // bytes of a page that are read, unpacked; 0: 4 MiB
	Connect  map[string]string // host name → address with port that is connected to instead, under the same name
	Insecure bool              // certificates are not proved: of use before the name points to the server
	Workers  int               // connections kept for each host
}

// Client fetches single addresses.
type Client struct {
	http    *http.Client
	agent   string
	maxBody int64
}

// DefaultAgent is how Hovix names itself to servers.
const DefaultAgent = "hovix (+site move; following its own site's links)"

// NewClient makes a client.
func NewClient(opts ClientOptions) *Client {
	if opts.Agent == "" {
		opts.Agent = DefaultAgent
	}
	if opts.Timeout == 0 {
		opts.Timeout = 20 * time.Second
	}
	if opts.MaxBody == 0 {
		opts.MaxBody = 4 << 20
	}
	dialer := &net.Dialer{Timeout: min(opts.Timeout, 10*time.Second), KeepAlive: 30 * time.Second}
	transport := &http.Transport{
		DisableCompression:     true, // unpacked here, with a limit
		MaxIdleConnsPerHost:    max(opts.Workers, 8),
		MaxResponseHeaderBytes: 64 << 10,
		ResponseHeaderTimeout:  opts.Timeout,
		IdleConnTimeout:        30 * time.Second,
		TLSHandshakeTimeout:    10 * time.Second,
		ForceAttemptHTTP2:      true,
		TLSClientConfig:        &tls.Config{InsecureSkipVerify: opts.Insecure}, //nolint:gosec // only when asked for
		DialContext: func(ctx context.Context, network, addr string) (net.Conn, error) {
			if to := connectTo(opts.Connect, addr); to != "" {
				addr = to
			}
			return dialer.DialContext(ctx, network, addr)
		},
	}
	return &Client{agent: opts.Agent, maxBody: opts.MaxBody, http: &http.Client{Transport: transport, Timeout: opts.Timeout,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// connectTo finds where a name is to be connected to: under its name with the port, its
// name alone, or that of its twin.
func connectTo(connect map[string]string, addr string) string {
	if len(connect) == 0 {
		return ""
	}
	if to, ok := connect[addr]; ok {
		return to
	}
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return ""
	}
	to, ok := connect[host]
	if !ok { // the twin with or without www
		if bare, cut := strings.CutPrefix(host, "www."); cut {
			to, ok = connect[bare]
		} else {
			to, ok = connect["www."+host]
		}
	}
	if !ok {
		return ""
	}
	if _, _, err := net.SplitHostPort(to); err != nil {
		return net.JoinHostPort(to, port)
	}
	return to
}

// ParseConnect reads "HOST=ADDRESS" or "HOST=ADDRESS:PORT".
func ParseConnect(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, s := range list {
		host, to, ok := strings.Cut(s, "=")
		if !ok || host == "" || to == "" {
			return nil, fmt.Errorf("%q is not HOST=ADDRESS:PORT, as in www.new.example=192.0.2.7:443", s)
		}
		out[strings.ToLower(host)] = to
	}
	return out, nil
}

// Response is the answer to one request, without following where it leads.
type Response struct {
	Status   int
	Header   http.Header
	Location *url.URL // where a redirect leads; nil if nowhere
	Body     []byte   // at most MaxBody bytes
	Cut      bool     // there was more
	Elapsed  time.Duration
}

// Get fetches an address. Its body is read only if it is text that want accepts; want may
// be nil for none. Bodies with gzip are unpacked.
func (c *Client) Get(ctx context.Context, address string, want func(contentType string) bool) (*Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("User-Agent", c.agent)
	req.Header.Set("Accept", "text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8")
	req.Header.Set("Accept-Encoding", "gzip")
	start := time.Now()
	res, err := c.http.Do(req)
	if err != nil {
		return nil, plainError(err)
	}
	defer res.Body.Close()
	out := &Response{Status: res.StatusCode, Header: res.Header}
	if to := res.Header.Get("Location"); to != "" && out.Status >= 300 && out.Status < 400 {
		out.Location, _ = res.Request.URL.Parse(to)
	}
	if want != nil && want(res.Header.Get("Content-Type")) {
		if err := c.read(res, out); err != nil {
			return out, plainError(err)
		}
	}
	if !out.Cut && want == nil {
		_, _ = io.CopyN(io.Discard, res.Body, 64<<10) // a connection whose answer was read can be used again
	}
	out.Elapsed = time.Since(start)
	return out, nil
}

func (c *Client) read(res *http.Response, out *Response) error {
	var r io.Reader = res.Body
	if strings.EqualFold(res.Header.Get("Content-Encoding"), "gzip") {
		z, err := gzip.NewReader(io.LimitReader(res.Body, c.maxBody))
		if err != nil {
			return fmt.Errorf("it says gzip, but is not: %w", err)
		}
		r = z
	}
	var b bytes.Buffer
	if n := res.ContentLength; n > 0 && n <= c.maxBody {
		b.Grow(int(n) + bytes.MinRead)
	}
	n, err := b.ReadFrom(io.LimitReader(r, c.maxBody+1))
	out.Body = b.Bytes()
	if n > c.maxBody {
		out.Body, out.Cut, err = out.Body[:c.maxBody], true, nil
	}
	return err
}

// plainError takes away what Go puts around an error of the network.
func plainError(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		if u.Timeout() {
			return errors.New("no answer in time")
		}
		err = u.Err
	}
	var op *net.OpError
	if errors.As(err, &op) {
		var dns *net.DNSError
		if errors.As(err, &dns) {
			return fmt.Errorf("the name %s is not known", dns.Name)
		}
		if op.Timeout() {
			return errors.New("no answer in time")
		}
	}
	return err
}

// IsText reports whether a content type is that of a web page.
func IsText(contentType string) bool {
	t := strings.ToLower(contentType)
	return strings.HasPrefix(t, "text/html") || strings.HasPrefix(t, "application/xhtml+xml") || t == ""
}
