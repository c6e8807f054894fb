package site

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"hovix/internal/nearest"
	"hovix/internal/site/keyfile"
	"hovix/internal/site/phpconf"
)

// keys are the values of one settings file, by their keys: levels joined by full stops, and
// in PHP as phpconf names them.
type keys interface {
	// get gives a value. The error wraps keyfile.ErrNoKey where there is none.
	get(key string) (string, error)
	// set gives a value that is there another text, in place.
	set(key, text string) error
}

// isPHP reports whether a settings file is one of PHP, by its name.
func isPHP(rel string) bool { return path.Ext(rel) == ".php" || path.Ext(rel) == ".inc" }

// checkKeys returns an error if values of a file of this name cannot be named.
func checkKeys(rel string) error {
	if isPHP(rel) {
		return nil
	}
	_, err := keyfile.FormatOf(rel)
	return err
}

// keysOf gives the values of one of the files, which is among them.
func (files Files) keysOf(rel string) (keys, error) {
	if isPHP(rel) {
		conf, err := files.php(rel)
		return &phpKeys{conf}, err
	}
	format, err := keyfile.FormatOf(rel)
	return &fileKeys{format, files[rel]}, err
}

// keepKeys takes over what was changed.
func (files Files) keepKeys(rel string, k keys) {
	switch k := k.(type) {
	case *phpKeys:
		files.keep(rel, k.conf)
	case *fileKeys:
		files[rel] = k.content
	}
}

// ownKeys gives the values of a settings file in a site's folder, and notes it and what it
// includes among the site's settings.
func (s *Site) ownKeys(root, rel string) (keys, error) {
	if isPHP(rel) {
		conf, err := phpSettings(s, root, rel, "vendor", "node_modules")
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("there is no %s", rel)
		}
		return &phpKeys{conf}, err
	}
	format, err := keyfile.FormatOf(rel)
	if err != nil {
		return nil, err
	}
	content, _, err := ReadOwn(root, rel)
	if err != nil {
		return nil, fmt.Errorf("read the settings of the program: %w", err)
	}
	s.Settings = append(s.Settings, rel)
	return &fileKeys{format, content}, nil
}

type fileKeys struct {
	format  keyfile.Format
	content []byte
}

func (k *fileKeys) get(key string) (string, error) { return keyfile.Get(k.content, k.format, key) }

func (k *fileKeys) set(key, text string) (err error) {
	k.content, err = keyfile.Set(k.content, k.format, key, text)
	return err
}

type phpKeys struct{ conf *phpconf.File }

func (k *phpKeys) get(key string) (string, error) {
	text, why, found := k.conf.Key(key)
	switch {
	case !found:
		err := fmt.Errorf("it does not set %s: %w", key, keyfile.ErrNoKey)
		if n := nearest.Of(key, k.conf.Keys()); n != "" {
			err = fmt.Errorf("%w; did you mean %s?", err, n)
		} else if all := k.conf.Keys(); len(all) > 0 {
			err = fmt.Errorf("%w; it sets %s", err, few(all))
		}
		return "", err
	case why != "":
		return "", fmt.Errorf("the value of %s cannot be read: it needs %s", key, why)
	}
	return text, nil
}

func (k *phpKeys) set(key, text string) error { return k.conf.SetKey(key, text) }

// withPort cuts a port off a host, where a program's settings have both in one value.
func withPort(host string) (name, port string) {
	if i := strings.LastIndexByte(host, ':'); i > 0 && strings.Count(host, ":") == 1 && host[i+1:] != "" && strings.Trim(host[i+1:], "0123456789") == "" {
		return host[:i], host[i+1:]
	}
	return host, ""
}
