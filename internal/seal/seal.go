// Package seal encrypts archives for recipients, or under a passphrase, and opens
// them again. The form is that of age (age-encryption.org/v1): the program age opens
// such a file too. It takes and gives bytes, and knows nothing of what is in them.
package seal

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
)

// Magic begins a sealed file.
const Magic = "age-encryption.org/v1\n"

// Errors that a caller may want to tell apart with errors.Is.
var (
	// ErrNoKey says that none of the keys, or not the passphrase, opens a file.
	ErrNoKey = errors.New("it is encrypted, and no key at hand opens it")
	// ErrDamaged says that bytes of a sealed file are not those that were written, or
	// are missing.
	ErrDamaged = errors.New("the encrypted file is damaged, or ends early")
)

// Keys says how to seal or to open. The zero value does neither.
type Keys struct {
	Recipients []age.Recipient
	Identities []age.Identity
	// Passphrase asks for the passphrase when a file turns out to be sealed under one;
	// nil: there is none.
	Passphrase func() (string, error)
	// Required says that a plain archive is not to be taken for the encrypted one that
	// was meant.
	Required bool
}

// AddRecipient takes a public key (age1…, or of SSH), or a file with such keys, one
// a line.
func (k *Keys) AddRecipient(given string) error {
	text := given
	if b, err := os.ReadFile(given); err == nil {
		text = string(b)
	}
	n := 0
	for _, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		r, err := parseRecipient(line)
		if err != nil {
			return fmt.Errorf("%q is neither a public key of age or SSH nor a file of them", shorten(given))
		}
		k.Recipients = append(k.Recipients, r)
		n++
	}
	if n == 0 {
		return fmt.Errorf("the file %s holds no public key", given)
	}
	return nil
}

func parseRecipient(line string) (age.Recipient, error) {
	if strings.HasPrefix(line, "ssh-") {
		return agessh.ParseRecipient(line)
	}
	list, err := age.ParseRecipients(strings.NewReader(line))
	if err != nil {
		return nil, err
	}
	return list[0], nil
}

// shorten keeps a private key that was given by mistake out of messages.
func shorten(s string) string {
	if len(s) > 12 && strings.HasPrefix(s, "AGE-SECRET") {
		return "AGE-SECRET-KEY…"
	}
	return s[:min(len(s), 80)]
}

// AddIdentity takes a file with private keys: of age, or one of SSH that is not
// locked by a passphrase of its own.
func (k *Keys) AddIdentity(path string) error {
	b, err := os.ReadFile(path)
	if err != nil {
		return fmt.Errorf("read the key: %w", err)
	}
	if bytes.HasPrefix(b, []byte("-----BEGIN")) {
		id, err := agessh.ParseIdentity(b)
		if err != nil {
			return fmt.Errorf("the key %s cannot be used: %w", path, err)
		}
		k.Identities = append(k.Identities, id)
		return nil
	}
	ids, err := age.ParseIdentities(bytes.NewReader(b))
	if err != nil {
		return fmt.Errorf("%s holds no private key of age or SSH", path)
	}
	k.Identities = append(k.Identities, ids...)
	return nil
}

// UnderPassphrase seals under a passphrase instead of for recipients.
func (k *Keys) UnderPassphrase(passphrase string) error {
	r, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return fmt.Errorf("the passphrase cannot be used: %w", err)
	}
	k.Recipients = []age.Recipient{r}
	return nil
}

// Writer seals what is written to it into w. Its Close ends the file; without it
// nobody can open it.
func (k *Keys) Writer(w io.Writer) (io.WriteCloser, error) {
	out, err := age.Encrypt(w, k.Recipients...)
	if err != nil {
		return nil, fmt.Errorf("encrypt: %w", err)
	}
	return out, nil
}

// ErrPlain says that an archive is not encrypted although a key or passphrase was given.
var ErrPlain = errors.New("the archive is not encrypted, and a key or passphrase for it was given: somebody may have put another in its place. If it is the right one, leave the key out")

// Sealed reports whether a file that begins with head is sealed.
func Sealed(head []byte) bool { return bytes.HasPrefix(head, []byte(Magic)) }

// identities are the keys to try on a file.
func (k *Keys) identities(head []byte) ([]age.Identity, error) {
	if bytes.Contains(head, []byte("\n-> scrypt ")) {
		if k.Passphrase == nil {
			return nil, fmt.Errorf("%w: it is under a passphrase", ErrNoKey)
		}
		passphrase, err := k.Passphrase()
		if err != nil {
			return nil, err
		}
		id, err := age.NewScryptIdentity(passphrase)
		if err != nil {
			return nil, fmt.Errorf("%w: the passphrase is empty", ErrNoKey)
		}
		return []age.Identity{id}, nil
	}
	if len(k.Identities) == 0 {
		return nil, ErrNoKey
	}
	return k.Identities, nil
}

// headSize is how much of a file is looked at to see under what it is sealed.
const headSize = 4096

// ReaderAt opens the sealed file of size bytes in r for reading at any place, and
// gives the size of what is in it.
func (k *Keys) ReaderAt(r io.ReaderAt, size int64) (io.ReaderAt, int64, error) {
	head := make([]byte, min(size, headSize))
	if _, err := r.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		return nil, 0, err
	}
	ids, err := k.identities(head)
	if err != nil {
		return nil, 0, err
	}
	src := &source{at: r}
	in, n, err := age.DecryptReaderAt(src, size, ids...)
	if err != nil {
		return nil, 0, src.explain(err)
	}
	return &opened{src, in}, n, nil
}

// Peeker is a Reader whose next bytes can be looked at, such as a *bufio.Reader.
type Peeker interface {
	io.Reader
	Peek(n int) ([]byte, error)
}

// Reader opens a sealed stream.
func (k *Keys) Reader(r Peeker) (io.Reader, error) {
	head, _ := r.Peek(headSize) // it may be shorter
	ids, err := k.identities(head)
	if err != nil {
		return nil, err
	}
	src := &source{r: r}
	in, err := age.Decrypt(src, ids...)
	if err != nil {
		return nil, src.explain(err)
	}
	return &openedStream{src, in}, nil
}

// source remembers errors of what is read, to tell them from those of its content.
type source struct {
	r   io.Reader
	at  io.ReaderAt
	err error
}

func (s *source) Read(b []byte) (int, error) {
	n, err := s.r.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		s.err = err
	}
	return n, err
}

func (s *source) ReadAt(b []byte, off int64) (int, error) {
	n, err := s.at.ReadAt(b, off)
	if err != nil && !errors.Is(err, io.EOF) {
		return n, &sourceError{err}
	}
	return n, err
}

// sourceError is an error of the file that is read, not of what it holds.
type sourceError struct{ error }

func (e *sourceError) Unwrap() error { return e.error }

func (s *source) explain(err error) error {
	var no *age.NoIdentityMatchError
	var own *sourceError
	switch {
	case err == nil, err == io.EOF: // the end, as it should be
		return err
	case s.err != nil:
		return s.err
	case errors.As(err, &own):
		return own.error
	case errors.As(err, &no):
		return fmt.Errorf("%w: %s", ErrNoKey, reason(no))
	}
	return fmt.Errorf("%w: %w", ErrDamaged, err)
}

// reason says why no key fits.
func reason(e *age.NoIdentityMatchError) string {
	for _, t := range e.StanzaTypes {
		if t == "scrypt" {
			return "the passphrase is another one"
		}
	}
	return "it was made for other recipients"
}

type opened struct {
	src *source
	in  io.ReaderAt
}

func (o *opened) ReadAt(b []byte, off int64) (int, error) {
	n, err := o.in.ReadAt(b, off)
	return n, o.src.explain(err)
}

type openedStream struct {
	src *source
	in  io.Reader
}

func (o *openedStream) Read(b []byte) (int, error) {
	n, err := o.in.Read(b)
	return n, o.src.explain(err)
}
