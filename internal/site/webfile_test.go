package site

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRebaseWebFile(t *testing.T) {
	const rules = "# BEGIN /blog/\r\n<IfModule mod_rewrite.c>\r\nRewriteEngine On\r\n\tRewriteBase /blog/ \nRewriteRule ^index\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule . /blog/index.php [L,QSA]\nRewriteRule ^a$ /blogs/x [R]\nRewriteRule ^b$ https://other.example/blog/ [R]\n" +
		"ErrorDocument 404 \"/blog/not found.html\"\nErrorDocument 403 Forbidden\nRedirect 301 /blog/old /blog/new\nRedirectMatch ^/blog/(.*)$ /blog/x/$1\nFallbackResource /blog\nAuthName \"/blog/\"\n</IfModule>"
	const moved = "# BEGIN /blog/\r\n<IfModule mod_rewrite.c>\r\nRewriteEngine On\r\n\tRewriteBase /new/deep/ \nRewriteRule ^index\\.php$ - [L]\nRewriteCond %{REQUEST_FILENAME} !-f\nRewriteRule . /new/deep/index.php [L,QSA]\nRewriteRule ^a$ /blogs/x [R]\nRewriteRule ^b$ https://other.example/blog/ [R]\n" +
		"ErrorDocument 404 \"/new/deep/not found.html\"\nErrorDocument 403 Forbidden\nRedirect 301 /new/deep/old /new/deep/new\nRedirectMatch ^/blog/(.*)$ /new/deep/x/$1\nFallbackResource /new/deep\nAuthName \"/blog/\"\n</IfModule>"
	assert.Equal(t, moved, string(RebaseWebFile([]byte(rules), "/blog", "/new/deep")))
	assert.Equal(t, rules, string(RebaseWebFile([]byte(moved), "/new/deep", "/blog")), "and back")
	assert.Equal(t, rules, string(RebaseWebFile([]byte(rules), "/blog", "/blog")))
	root := "RewriteBase /\nRewriteRule . /index.php [L]\nRewriteRule ^x - [F]\nRewriteRule ^y //cdn.example/y\nRewriteRule ^z z.php\n"
	below := "RewriteBase /b/\nRewriteRule . /b/index.php [L]\nRewriteRule ^x - [F]\nRewriteRule ^y //cdn.example/y\nRewriteRule ^z z.php\n"
	assert.Equal(t, below, string(RebaseWebFile([]byte(root), "", "/b")))
	assert.Equal(t, root, string(RebaseWebFile([]byte(below), "/b", "")))
}
