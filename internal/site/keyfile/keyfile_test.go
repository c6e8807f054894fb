package keyfile

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

func TestGetAndSet(t *testing.T) {
	for _, c := range []struct {
		file, content, key, text, set, want string
	}{
		{".env", "# DB=no\nexport DB = x\nDB=\"a\\\"b # c\" # why\nDBX=1\n", "DB", `a"b # c`, `p"q$`, "# DB=no\nexport DB = x\nDB=\"p\\\"q\\$\" # why\nDBX=1\n"},
		{".env.local", "A=plain value # note\r\nB=2\r\n", "A", "plain value", "it's new", "A=\"it's new\" # note\r\nB=2\r\n"},
		{"app.env", "A='single'", "A", "single", "x$y", "A='x$y'"},
		{".env", "A='single'", "A", "single", "it's", `A="it's"`},
		{".env", "A=\nB=b", "A", "", "v", "A=v\nB=b"},
		{"a.ini", "top=1\n[db]\n; host = no\nhost = old.example ; why\n[other]\nhost=x\n", "db.host", "old.example", "new.example", "top=1\n[db]\n; host = no\nhost = new.example ; why\n[other]\nhost=x\n"},
		{"a.conf", "[db]\npassword: \"s;e\"\n", "db.password", "s;e", "it's;", "[db]\npassword: \"it's;\"\n"},
		{"a.ini", "top=1\n", "top", "1", "2", "top=2\n"},
		{"a.toml", "a = 1\n[db.main]\nhost = 'h' # c\n", "db.main.host", "h", `x"y`, "a = 1\n[db.main]\nhost = 'x\"y' # c\n"},
		{"a.json", "{\n  \"db\": [{\"host\": \"x\"}, {\"host\" : \"old\\\"\" , \"port\": 5432}]\n}", "db.1.host", `old"`, `n"w<>`, "{\n  \"db\": [{\"host\": \"x\"}, {\"host\" : \"n\\\"w<>\" , \"port\": 5432}]\n}"},
		{"a.json", `{"db":{"port":5432,"x":{"port":1}}}`, "db.port", "5432", "5433", `{"db":{"port":5433,"x":{"port":1}}}`},
		{"a.json", `{"port":{"x":1},"p":"a"}`, "p", "a", "b", `{"port":{"x":1},"p":"b"}`},
		{"a.yml", "production: &p\n  adapter: postgresql\n  password: \"se#c\" # why\n  host: ü # x\ntest:\n  <<: *p\n", "production.password", "se#c", `p"w`, "production: &p\n  adapter: postgresql\n  password: \"p\\\"w\" # why\n  host: ü # x\ntest:\n  <<: *p\n"},
		{"a.yaml", "db:\n  - host: old.example # c\n    port: 5432\n", "db.0.host", "old.example", "new example: x", "db:\n  - host: 'new example: x' # c\n    port: 5432\n"},
		{"a.yaml", "db: {host: 'it''s', port: 1}\n", "db.host", "it's", "a'b", "db: {host: 'a''b', port: 1}\n"},
		{"a.yaml", "db:\n  port: 5432\n", "db.port", "5432", "5433", "db:\n  port: 5433\n"},
	} {
		f, err := FormatOf("dir/" + c.file)
		require.NoError(t, err)
		got, err := Get([]byte(c.content), f, c.key)
		require.NoError(t, err, c.content)
		assert.Equal(t, c.text, got, c.content)
		out, err := Set([]byte(c.content), f, c.key, c.set)
		require.NoError(t, err, c.content)
		assert.Equal(t, c.want, string(out))
		_, err = Get([]byte(c.content), f, "no.such")
		assert.ErrorIs(t, err, ErrNoKey)
	}
	_, err := FormatOf("settings.xml")
	assert.ErrorContains(t, err, "format of settings.xml is not known")
	_, err = Get([]byte("{"), JSON, "a")
	assert.Error(t, err)
	_, err = Get([]byte("a: b: c"), YAML, "a")
	assert.ErrorContains(t, err, "cannot be read as YAML")
	_, err = Set([]byte("a: |\n  b\n"), YAML, "a", "x")
	assert.ErrorContains(t, err, "not a value on one line")
}

// FuzzSet: what is set is what is read, by the format's own reader too.
func FuzzSet(f *testing.F) {
	for _, s := range []string{"x", "it's", `a"b\`, "ü # ;", " spaced ", "- x", "$y `z`", "", "null", "1", "true"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, content := range []string{"A=1\nB=2\n", "A='q'\n", "A=\"q\"\n"} {
			if out, err := Set([]byte(content), Env, "A", text); err == nil {
				got, err := Get(out, Env, "A")
				require.NoError(t, err)
				require.Equal(t, text, got)
			}
		}
		if out, err := Set([]byte(`{"a":"x","b":1}`), JSON, "a", text); err == nil {
			var v struct{ A string }
			require.NoError(t, json.Unmarshal(out, &v))
			require.Equal(t, text, v.A)
		}
		for _, content := range []string{"a: x\nb: 1\n", "a: 'x'\nb: 1\n", "a: \"x\"\nb: 1\n"} {
			if out, err := Set([]byte(content), YAML, "a", text); err == nil {
				var v struct{ A, B string }
				require.NoError(t, yaml.Unmarshal(out, &v), "%q", out)
				require.Equal(t, text, v.A)
				require.Equal(t, "1", v.B)
			}
		}
	})
}
