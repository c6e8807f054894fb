package demo

import (
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"
)

// The login of the museum's keeper, who may change pages.
const (
	Keeper         = "keeper"
	KeeperPassword = "ring the brass bell"
)

// hashPassword gives salt$hash, PBKDF2 of RFC 8018 with SHA-256.
func hashPassword(password, salt string) (string, error) {
	key, err := pbkdf2.Key(sha256.New, password, []byte(salt), 100_000, 32)
	if err != nil {
		return "", fmt.Errorf("hash a password: %w", err)
	}
	return salt + "$" + hex.EncodeToString(key), nil
}

// cookie holds the token of somebody who is logged in.
const cookie = "museum_staff"

// answer gives the page at p below the site's address, or answers itself and
// gives none.
func (s *Server) answer(w http.ResponseWriter, r *http.Request, p string) (*view, error) {
	switch p {
	case "/search":
		return s.search(r.URL.Query().Get("q"))
	case "/sitemap.xml":
		return s.sitemap(w)
	case "/staff":
		return s.staff(w, r)
	case "/staff/edit":
		return s.edit(w, r)
	}
	return s.view(p)
}

// search looks for words in titles and texts.
func (s *Server) search(words string) (*view, error) {
	v := &view{Title: "Search", Section: "search"}
	if err := s.frame(v); err != nil {
		return nil, err
	}
	if words = strings.TrimSpace(words); words != "" {
		like := "%" + strings.ToLower(strings.NewReplacer("!", "!!", "%", "!%", "_", "!_").Replace(words)) + "%"
		return v, s.items(v, "SELECT path, title, '' FROM page WHERE lower(title) LIKE ? ESCAPE '!' OR lower(body) LIKE ? ESCAPE '!' UNION ALL SELECT path, title, '' FROM news WHERE lower(title) LIKE ? ESCAPE '!' OR lower(body) LIKE ? ESCAPE '!' ORDER BY 1", like, like, like, like)
	}
	return v, nil
}

// staff shows the form for logging in, and logs in.
func (s *Server) staff(w http.ResponseWriter, r *http.Request) (*view, error) {
	v := &view{Title: "Staff", Section: "staff"}
	if err := s.frame(v); err != nil {
		return nil, err
	}
	message := ""
	if r.Method == http.MethodPost {
		ok, err := s.knows(r.PostFormValue("login"), r.PostFormValue("password"))
		if err != nil {
			return nil, err
		}
		if ok {
			token := rand.Text()
			s.mu.Lock()
			s.signed[token] = true
			s.mu.Unlock()
			http.SetCookie(w, &http.Cookie{Name: cookie, Value: token, Path: s.base + "/staff", HttpOnly: true, SameSite: http.SameSiteStrictMode})
			http.Redirect(w, r, v.Home+"/staff/edit?path=/", http.StatusSeeOther)
			return nil, nil
		}
		w.WriteHeader(http.StatusForbidden)
		message = "<p>Login or password is wrong.</p>"
	}
	v.Body = template.HTML(message + `<form method="post" action="` + template.HTMLEscapeString(v.Home) + `/staff"><p><label>Login <input name="login"></label></p><p><label>Password <input type="password" name="password"></label></p><button>Log in</button></form>`)
	return v, nil
}

// knows reports whether the login exists and the password is its own.
func (s *Server) knows(login, password string) (bool, error) {
	var stored string
	err := s.db.row("SELECT password FROM account WHERE login=?", login).Scan(&stored)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	salt, _, _ := strings.Cut(stored, "$")
	hash, err := hashPassword(password, salt)
	return subtle.ConstantTimeCompare([]byte(hash), []byte(stored)) == 1, err
}

// edit shows the form for a page's title and text, and saves them.
func (s *Server) edit(w http.ResponseWriter, r *http.Request) (*view, error) {
	v := &view{Section: "staff"}
	if err := s.frame(v); err != nil {
		return nil, err
	}
	c, err := r.Cookie(cookie)
	s.mu.Lock()
	known := err == nil && s.signed[c.Value]
	s.mu.Unlock()
	if !known {
		http.Redirect(w, r, v.Home+"/staff", http.StatusSeeOther)
		return nil, nil
	}
	p := r.FormValue("path")
	if r.Method == http.MethodPost {
		res, err := s.db.Exec(s.db.bind("UPDATE page SET title=?, body=? WHERE path=?"), r.PostFormValue("title"), r.PostFormValue("body"), p)
		if err != nil {
			return nil, err
		}
		if n, err := res.RowsAffected(); err != nil || n == 0 {
			return nil, errors.Join(err, sql.ErrNoRows)
		}
		http.Redirect(w, r, v.Home+p, http.StatusSeeOther)
		return nil, nil
	}
	var body string
	if err := s.db.row("SELECT title, body FROM page WHERE path=?", p).Scan(&v.Title, &body); err != nil {
		return nil, err
	}
	esc := template.HTMLEscapeString
	v.Body = template.HTML(`<form method="post" action="` + esc(v.Home) + `/staff/edit"><input type="hidden" name="path" value="` + esc(p) + `"><p><input name="title" size="60" value="` + esc(v.Title) + `"></p><p><textarea name="body" rows="20" cols="90">` + esc(body) + `</textarea></p><button>Save</button></form>`)
	return v, nil
}
