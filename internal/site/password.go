package site

import (
	"context"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha512"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/crypto/bcrypt"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/nearest"
)

// ErrNoAccounts says that a kind of site keeps its accounts where Hovix does not know.
var ErrNoAccounts = errors.New("it is not known where sites of this kind keep their accounts")

// Passwords say where a kind keeps the passwords of accounts, and in which form.
type Passwords struct {
	Table, Login, Password string // the table, with its prefix, and its columns
	Hash                   func(password string) (string, error)
}

// Keeper is a Kind whose accounts may be given a new password.
type Keeper interface {
	// Passwords tells where they are, in a database whose tables have the prefix. version is
	// that of the software, "" if unknown.
	Passwords(prefix, version string, engine database.Engine) Passwords
}

// NewPassword gives a password that nobody guesses: 26 letters and digits.
func NewPassword() string { return rand.Text() }

// SetPassword gives an account of the site another password, in the database that ed has
// open and in which nothing has begun. The error names the nearest account where there is
// none of this name.
func (s *Site) SetPassword(ctx context.Context, ed database.Editor, login, password string) error {
	k, ok := s.kind.(Keeper)
	if !ok {
		return ErrNoAccounts
	}
	p := k.Passwords(s.Prefix, s.Version, ed.Info().Engine)
	rows, err := ed.Strings(ctx, "SELECT "+ident(ed, p.Login)+" FROM "+ident(ed, p.Table)+" WHERE "+ident(ed, p.Login)+"=?", login)
	if err != nil {
		return fmt.Errorf("look for the account %s: %w", login, err)
	}
	if len(rows) == 0 {
		return s.noAccount(ctx, ed, login)
	}
	hash, err := p.Hash(password)
	if err != nil {
		return fmt.Errorf("hash the password: %w", err)
	}
	d := ed.Info().Engine.Dialect()
	text := func(v string) string {
		switch d {
		case sqltext.MySQL:
			return string(sqltext.AppendMySQLString(nil, []byte(v), false))
		case sqltext.SQLite:
			return string(sqltext.AppendSQLiteText(nil, []byte(v)))
		}
		return "'" + strings.ReplaceAll(v, "'", "''") + "'"
	}
	if err := ed.Begin(ctx); err != nil {
		return err
	}
	table := ident(ed, p.Table)
	if d == sqltext.Postgres {
		table = sqltext.QuoteRelation(p.Table)
	}
	if err := ed.Touch(ctx, fmt.Sprintf("UPDATE %s SET %s=%s WHERE %s=%s", table, ident(ed, p.Password), text(hash), ident(ed, p.Login), text(rows[0][0]))); err != nil {
		return err
	}
	return ed.Commit(context.WithoutCancel(ctx))
}

// noAccount says that there is no account of a name.
func (s *Site) noAccount(ctx context.Context, ed database.Editor, login string) error {
	err := fmt.Errorf("the site has no account %s", login)
	admins, e := s.Accounts(ctx, ed)
	if e != nil || len(admins) == 0 {
		return err
	}
	var names []string
	for _, a := range admins {
		names = append(names, a.Login)
	}
	if n := nearest.Of(login, names); n != "" {
		return fmt.Errorf("%w; did you mean %s?", err, n)
	}
	return fmt.Errorf("%w; its administrators are %s", err, strings.Join(names[:min(len(names), 5)], ", "))
}

// bcryptHash is PHP's password_hash with its default algorithm.
func bcryptHash(password string) (string, error) {
	h, err := bcrypt.GenerateFromPassword([]byte(password), 10)
	return strings.Replace(string(h), "$2a$", "$2y$", 1), err
}

// itoa64 are the digits of the portable hashes of PHP software, with the lowest bits first.
const itoa64 = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

// encode64 writes bytes in these digits.
func encode64(b []byte) string {
	var out strings.Builder
	for i := 0; i < len(b); i += 3 {
		v, n := 0, min(3, len(b)-i)
		for j := range n {
			v |= int(b[i+j]) << (8 * j)
		}
		for range n + 1 {
			out.WriteByte(itoa64[v&63])
			v >>= 6
		}
	}
	return out.String()
}

// portableHash is the hash of MD5 in rounds that WordPress reads in all its versions; it
// makes a new one of it when the account logs in.
func portableHash(password string) (string, error) {
	const rounds = 13 // of two to this
	raw := make([]byte, 6)
	_, _ = rand.Read(raw)
	salt := encode64(raw)
	sum := md5.Sum([]byte(salt + password))
	for range 1 << rounds {
		sum = md5.Sum(append(sum[:], password...))
	}
	return "$P$" + string(itoa64[rounds]) + salt + encode64(sum[:]), nil
}

// drupalHash is the hash of SHA-512 in rounds that Drupal 7 to 10.0 reads, and later ones
// with their module for old passwords.
func drupalHash(password string) (string, error) {
	const rounds, length = 16, 55
	raw := make([]byte, 6)
	_, _ = rand.Read(raw)
	salt := encode64(raw)
	sum := sha512.Sum512([]byte(salt + password))
	for range 1 << rounds {
		sum = sha512.Sum512(append(sum[:], password...))
	}
	return ("$S$" + string(itoa64[rounds]) + salt + encode64(sum[:]))[:length], nil
}

// mediawikiHash is the hash that MediaWiki makes since version 1.24.
func mediawikiHash(password string) (string, error) {
	const rounds, length = 30000, 64
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	key, err := pbkdf2.Key(sha512.New, password, salt, rounds, length)
	if err != nil {
		return "", err
	}
	b64 := base64.StdEncoding.EncodeToString
	return fmt.Sprintf(":pbkdf2:sha512:%d:%d:%s:%s", rounds, length, b64(salt), b64(key)), nil
}

// Passwords of WordPress.
func (wordpress) Passwords(prefix, _ string, _ database.Engine) Passwords {
	return Passwords{prefix + "users", "user_login", "user_pass", portableHash}
}

// Passwords of Drupal, which reads hashes of PHP since version 10.1.
func (drupal) Passwords(prefix, version string, _ database.Engine) Passwords {
	hash := drupalHash
	major, rest, _ := strings.Cut(version, ".")
	minor, _, _ := strings.Cut(rest, ".")
	m, _ := strconv.Atoi(major)
	n, _ := strconv.Atoi(minor)
	if m > 10 || m == 10 && n >= 1 {
		hash = bcryptHash
	}
	return Passwords{prefix + "users_field_data", "name", "pass", hash}
}

// Passwords of Joomla.
func (joomla) Passwords(prefix, _ string, _ database.Engine) Passwords {
	return Passwords{prefix + "users", "username", "password", bcryptHash}
}

// Passwords of MediaWiki.
func (mediawiki) Passwords(prefix, _ string, engine database.Engine) Passwords {
	table := "user"
	if engine == database.Postgres {
		table = "mwuser"
	}
	return Passwords{prefix + table, "user_name", "user_password", mediawikiHash}
}
