package testenv

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// webServers are the configurations of web servers that answer everything with 200 but
// what rules lead elsewhere. %[1]s is a folder, %[2]d the port, %[3]s the file with rules.
var webServers = map[string]struct {
	program string
	config  string
	args    func(dir string) []string
}{
	"apache": {"apache2", apacheHead + "Include %[3]s\n", apacheArgs},
	"htaccess": {"apache2", apacheHead + "<Directory %[1]s/root>\nAllowOverride All\n</Directory>\n" +
		"ErrorDocument 404 /page.txt\n", apacheArgs},
	"nginx":     {"nginx", nginxHead + "server {\nlisten 127.0.0.1:%[2]d;\nabsolute_redirect off;\ninclude %[3]s;\nlocation / { return 200 page; }\n}\n}\n", nginxArgs},
	"nginx-map": {"nginx", nginxHead + "include %[3]s;\nserver {\nlisten 127.0.0.1:%[2]d;\nabsolute_redirect off;\ninclude %[3]s.server;\nlocation / { return 200 page; }\n}\n}\n", nginxArgs},
	"caddy":     {"caddy", "{\nadmin off\nauto_https off\n}\nhttp://127.0.0.1:%[2]d {\nimport %[3]s\nrespond page 200\n}\n", func(dir string) []string { return []string{"run", "--adapter", "caddyfile", "--config", dir + "/conf"} }},
	"haproxy":   {"haproxy", "", func(dir string) []string { return []string{"-db", "-f", dir + "/conf"} }},
}

const (
	apacheHead = "ServerRoot %[1]s\nServerName localhost\nListen 127.0.0.1:%[2]d\nPidFile %[1]s/pid\nErrorLog %[1]s/log\nDefaultRuntimeDir %[1]s\nMutex file:%[1]s default\nDocumentRoot %[1]s/root\n" +
		"LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so\nLoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so\nLoadModule alias_module /usr/lib/apache2/modules/mod_alias.so\n" +
		"LoadModule rewrite_module /usr/lib/apache2/modules/mod_rewrite.so\nLoadModule dir_module /usr/lib/apache2/modules/mod_dir.so\nAllowEncodedSlashes NoDecode\n"
	nginxHead = "daemon off;\nmaster_process off;\npid %[1]s/pid;\nerror_log %[1]s/log;\nevents { worker_connections 64; }\nhttp {\naccess_log off;\nclient_body_temp_path %[1]s/t1;\nproxy_temp_path %[1]s/t2;\nfastcgi_temp_path %[1]s/t3;\nuwsgi_temp_path %[1]s/t4;\nscgi_temp_path %[1]s/t5;\n"
)

func apacheArgs(dir string) []string { return []string{"-f", dir + "/conf", "-D", "FOREGROUND"} }

func nginxArgs(dir string) []string { return []string{"-e", dir + "/log", "-c", dir + "/conf"} }

// WebServer starts a real web server with rules for redirects, which write makes: a file
// of the name that it is given, and others beside it. It returns the address. What no
// rule catches is answered with 200 or 404.
func WebServer(t testing.TB, name string, write func(file string) []string) string {
	t.Helper()
	s, ok := webServers[name]
	require.True(t, ok, name)
	program := sbin(t, s.program)
	dir, err := os.MkdirTemp("/tmp", "hovix-web-") // servers that give up their rights must reach it
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "root"), 0o755))
	rules := filepath.Join(dir, "rules")
	if name == "htaccess" {
		rules = filepath.Join(dir, "root", ".htaccess")
	}
	lines := write(rules)
	port := FreePort(t)
	config := s.config
	if name == "haproxy" {
		config = "defaults\n  mode http\n  timeout connect 5s\n  timeout client 5s\n  timeout server 5s\nfrontend web\n  bind 127.0.0.1:" + fmt.Sprint(port) + "\n  " + strings.Join(lines, "\n  ") + "\n  http-request return status 200 content-type text/plain string page\n"
	} else {
		config = fmt.Sprintf(config, dir, port, rules)
	}
	if os.Getuid() == 0 && s.program == "apache2" {
		config += "User www-data\nGroup www-data\n"
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "conf"), []byte(config), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "root", "page.txt"), []byte("page"), 0o644))
	var out strings.Builder
	cmd := exec.Command(program, s.args(dir)...)
	cmd.Stdout, cmd.Stderr = &out, &out
	cmd.Env = append(os.Environ(), "HOME="+dir, "XDG_DATA_HOME="+dir, "XDG_CONFIG_HOME="+dir)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, cmd.Start())
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }()
	t.Cleanup(func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		select {
		case <-ended:
		case <-time.After(5 * time.Second):
			_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		}
	})
	for range 200 {
		if c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", port)); err == nil {
			_ = c.Close()
			return fmt.Sprintf("http://127.0.0.1:%d", port)
		}
		select {
		case <-ended:
			log, _ := os.ReadFile(filepath.Join(dir, "log"))
			t.Fatalf("%s does not start: %s %s", name, tail(out.String(), 2000), tail(string(log), 2000))
		case <-time.After(50 * time.Millisecond):
		}
	}
	t.Fatalf("%s does not answer: %s", name, tail(out.String(), 2000))
	return ""
}

// sbin finds a server's program, which may lie outside of the PATH.
func sbin(t testing.TB, name string) string {
	t.Helper()
	if p := "/usr/sbin/" + name; FileSize(p) > 0 {
		return p
	}
	return Tool(t, name)
}
