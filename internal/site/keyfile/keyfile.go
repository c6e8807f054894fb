// Package keyfile reads and changes single values in settings files of the usual
// formats: .env, INI, TOML, JSON and YAML. A value is named by its key, with full
// stops between the levels: "database.host". A change replaces the bytes of that
// value and keeps every other byte.
package keyfile

import (
	"errors"
	"fmt"
	"path"
	"strings"
)

// Format is the format of a file.
type Format int

// The formats.
const (
	Env  Format = iota // NAME=value lines, as shells and twelve-factor programs read them
	INI                // [section] and key = value
	TOML               // the same with quoted texts
	JSON
	YAML
)

// ErrNoKey says that a file has no value under a key.
var ErrNoKey = errors.New("no such key")

// FormatOf tells the format of a file by its name.
func FormatOf(name string) (Format, error) {
	base := strings.ToLower(path.Base(name))
	switch ext := path.Ext(base); {
	case strings.HasPrefix(base, ".env"), ext == ".env":
		return Env, nil
	case ext == ".ini", ext == ".cfg", ext == ".conf", ext == ".properties":
		return INI, nil
	case ext == ".toml":
		return TOML, nil
	case ext == ".json":
		return JSON, nil
	case ext == ".yml", ext == ".yaml":
		return YAML, nil
	}
	return 0, fmt.Errorf("the format of %s is not known by its name; the formats are .env, .ini, .cfg, .conf, .properties, .toml, .json, .yml and .yaml", name)
}

// Get gives the value under a key as text.
func Get(content []byte, f Format, key string) (string, error) {
	v, err := find(content, f, key)
	return v.text, err
}

// Set gives the content with another text under a key that is there.
func Set(content []byte, f Format, key, text string) ([]byte, error) {
	v, err := find(content, f, key)
	if err != nil {
		return nil, err
	}
	out := append([]byte{}, content[:v.from]...)
	out = append(out, v.write(text)...)
	out = append(out, content[v.to:]...)
	if back, err := find(out, f, key); err != nil || back.text != text {
		return nil, fmt.Errorf("the value of %s cannot be changed: it would not be read as it was written", key)
	}
	return out, nil
}

// value is a value and where it stands.
type value struct {
	text     string
	from, to int
	write    func(text string) string // how a text is written there
}

func find(content []byte, f Format, key string) (value, error) {
	var v value
	err := Check(content)
	if err != nil {
		return v, err
	}
	switch f {
	case Env:
		v, err = findEnv(string(content), key)
	case INI:
		v, err = findINI(string(content), key, false)
	case TOML:
		v, err = findINI(string(content), key, true)
	case JSON:
		v, err = findJSON(content, key)
	default:
		v, err = findYAML(content, key)
	}
	if err != nil {
		return v, fmt.Errorf("%s: %w", key, err)
	}
	return v, nil
}
