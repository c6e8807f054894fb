// Command benchsite makes a large site for measurements: a blog-like MariaDB
// database and a folder of uploads, both the same for the same arguments.
//
//	benchsite FOLDER MEGABYTES-OF-FILES POSTS MARIADB-SOCKET DATABASE
package main

import (
	"bytes"
	"database/sql"
	"fmt"
	"log"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	_ "github.com/go-sql-driver/mysql" // the driver "mysql"
)

const address = "http://blog.old-harbour.example"

var words = strings.Fields("the ferry leaves at ten and comes back with the tide whoever waits on the pier may ring a bell for tea or a rope while gulls discuss weather prices engines lamps maps songs islands bread winter paint timetable harbour captain signal knots lantern")

func text(r *rand.Rand, n int) string {
	var b strings.Builder
	for b.Len() < n {
		b.WriteString(words[r.IntN(len(words))])
		b.WriteByte(' ')
		if r.IntN(9) == 0 {
			fmt.Fprintf(&b, "%x ", r.Uint32())
		}
	}
	return b.String()
}

func main() {
	log.SetFlags(0)
	if len(os.Args) != 6 {
		log.Fatal("usage: benchsite FOLDER MEGABYTES POSTS SOCKET DATABASE")
	}
	folder, socket, name := os.Args[1], os.Args[4], os.Args[5]
	megabytes, err := strconv.Atoi(os.Args[2])
	check(err)
	posts, err := strconv.Atoi(os.Args[3])
	check(err)
	files(folder, megabytes)
	toml := fmt.Sprintf("name = \"Bench\"\naddress = %q\ndatabase = \"mariadb://tester@localhost/%s?socket=%s\"\ndatabase-password = \"test-password\"\nuploads = [\"uploads\"]\n", address, name, socket)
	check(os.WriteFile(filepath.Join(folder, "hovix.toml"), []byte(toml), 0o600))
	db, err := sql.Open("mysql", fmt.Sprintf("tester:test-password@unix(%s)/%s?maxAllowedPacket=0", socket, name))
	check(err)
	defer db.Close()
	tables(db, posts)
}

func check(err error) {
	if err != nil {
		log.Fatal(err)
	}
}

// files writes 8 files a megabyte, seven bytes of ten incompressible.
func files(folder string, megabytes int) {
	r := rand.New(rand.NewPCG(1, 2))
	noise := rand.NewChaCha8([32]byte{7})
	buf := make([]byte, 4<<20)
	for i := range megabytes * 8 {
		dir := filepath.Join(folder, "uploads", fmt.Sprintf("%02d", i%40))
		check(os.MkdirAll(dir, 0o755))
		size := 16<<10 + r.IntN(224<<10)
		ext := "jpg"
		if i%10 < 7 {
			_, _ = noise.Read(buf[:size])
		} else {
			ext = "txt"
			copy(buf, text(r, size))
		}
		check(os.WriteFile(filepath.Join(dir, fmt.Sprintf("%06d.%s", i, ext)), buf[:size], 0o644))
	}
}

func tables(db *sql.DB, posts int) {
	for _, q := range []string{
		"CREATE TABLE posts (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, author INT NOT NULL, published DATETIME NOT NULL, title TEXT NOT NULL, slug VARCHAR(200) NOT NULL, body LONGTEXT NOT NULL, guid VARCHAR(255) NOT NULL, KEY slug (slug(191)), KEY by_date (published, id), KEY author (author)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
		"CREATE TABLE postmeta (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, post_id BIGINT UNSIGNED NOT NULL, name VARCHAR(255), value LONGTEXT, KEY post (post_id), KEY name (name(191))) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
		"CREATE TABLE comments (id BIGINT UNSIGNED NOT NULL AUTO_INCREMENT PRIMARY KEY, post_id BIGINT UNSIGNED NOT NULL, author TINYTEXT NOT NULL, body TEXT NOT NULL, KEY post (post_id)) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4",
	} {
		_, err := db.Exec(q)
		check(err)
	}
	r := rand.New(rand.NewPCG(3, 4))
	post := &loader{db: db, head: "INSERT INTO posts (author,published,title,slug,body,guid) VALUES "}
	meta := &loader{db: db, head: "INSERT INTO postmeta (post_id,name,value) VALUES "}
	comment := &loader{db: db, head: "INSERT INTO comments (post_id,author,body) VALUES "}
	for i := range posts {
		slug := fmt.Sprintf("notice-%d-%x", i, r.Uint32())
		body := "<p>" + text(r, 600+r.IntN(1200)) + "</p>"
		if i%2 == 0 {
			body += fmt.Sprintf("<a href=\"%s/2024/notice-%d\"><img src=\"%s/uploads/%06d.jpg\"></a>", address, i, address, i%8000)
		}
		post.add("(%d,'2024-%02d-%02d 10:00:00','%s','%s','%s','%s/?p=%d')", i%30, 1+i%12, 1+i%28, text(r, 30), slug, body, address, i)
		for m := range 7 {
			value := strconv.Itoa(r.IntN(1e6))
			switch k := (i*7 + m) % 20; {
			case k < 3:
				u := fmt.Sprintf("%s/uploads/%06d.jpg", address, i%8000)
				value = fmt.Sprintf(`a:3:{s:4:"file";s:%d:"%s";s:5:"width";i:%d;s:5:"sizes";a:1:{s:5:"thumb";a:1:{s:4:"mime";s:10:"image/jpeg";}}}`, len(u), u, r.IntN(2000))
			case k < 4:
				value = fmt.Sprintf(`{"url":"%s","n":%d}`, strings.ReplaceAll(address+"/x", "/", `\\/`), i)
			}
			meta.add("(%d,'meta_%d','%s')", i, m, value)
		}
		if i%3 == 0 {
			comment.add("(%d,'guest %d','%s')", i, i, text(r, 80))
		}
	}
	post.flush()
	meta.flush()
	comment.flush()
}

// loader collects rows into statements of a megabyte.
type loader struct {
	db   *sql.DB
	head string
	buf  bytes.Buffer
}

func (l *loader) add(row string, a ...any) {
	if l.buf.Len() == 0 {
		l.buf.WriteString(l.head)
	} else {
		l.buf.WriteByte(',')
	}
	fmt.Fprintf(&l.buf, row, a...)
	if l.buf.Len() > 1<<20 {
		l.flush()
	}
}

func (l *loader) flush() {
	if l.buf.Len() > 0 {
		_, err := l.db.Exec(l.buf.String())
		check(err)
		l.buf.Reset()
	}
}
