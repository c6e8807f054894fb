package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"hovix/internal/cli/ui"
	"hovix/internal/fsys"
	"hovix/internal/nearest"
	"hovix/internal/seal"
)

// passphraseVariable is the environment variable that holds a passphrase.
const passphraseVariable = "HOVIX_PASSPHRASE"

// sealFlags say for whom an archive is encrypted.
type sealFlags struct {
	recipients     []string
	passphrase     bool
	passphraseFile string
}

func (f *sealFlags) add(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.StringArrayVar(&f.recipients, "recipient", nil, "encrypt the archive for this public key of age or SSH, or the keys in a file (`KEY`, may be given again)")
	fl.BoolVar(&f.passphrase, "passphrase", false, "encrypt the archive under a passphrase, from a prompt or "+passphraseVariable)
	fl.StringVar(&f.passphraseFile, "passphrase-file", "", "encrypt the archive under the passphrase in `FILE`")
}

// given reports whether the archive is to be encrypted.
func (f *sealFlags) given() bool {
	return len(f.recipients) > 0 || f.passphrase || f.passphraseFile != ""
}

// keys reads the flags; nil if nothing is to be encrypted.
func (f *sealFlags) keys(a *app) (*seal.Keys, error) {
	k := &seal.Keys{}
	switch {
	case !f.given():
		return nil, nil
	case len(f.recipients) > 0 && (f.passphrase || f.passphraseFile != ""):
		return nil, usage("an archive is encrypted for recipients or under a passphrase, not both; give one of the two")
	case len(f.recipients) > 0:
		for _, r := range f.recipients {
			if err := k.AddRecipient(r); err != nil {
				return nil, usageError{err}
			}
		}
		return k, nil
	}
	p, err := a.passphrase(f.passphraseFile, true)
	if err != nil {
		return nil, err
	}
	return k, k.UnderPassphrase(p)
}

// openFlags say with what an encrypted archive is opened.
type openFlags struct {
	identities     []string
	passphraseFile string
}

func (f *openFlags) add(cmd *cobra.Command) {
	fl := cmd.Flags()
	fl.StringArrayVar(&f.identities, "identity", nil, "open an encrypted archive with the private key of age or SSH in `FILE` (may be given again)")
	fl.StringVar(&f.passphraseFile, "passphrase-file", "", "open an encrypted archive with the passphrase in `FILE`; "+passphraseVariable+" serves too")
}

func (f *openFlags) keys(a *app) (*seal.Keys, error) {
	k := &seal.Keys{Passphrase: func() (string, error) { return a.passphrase(f.passphraseFile, false) }}
	k.Required = len(f.identities) > 0 || f.passphraseFile != ""
	for _, path := range f.identities {
		if err := k.AddIdentity(path); err != nil {
			return nil, err
		}
	}
	return k, nil
}

// passphrase gets a passphrase from a file, the environment, or a terminal, there
// twice if it is a new one.
func (a *app) passphrase(file string, fresh bool) (string, error) {
	if file != "" {
		b, err := os.ReadFile(file)
		if err != nil {
			return "", fmt.Errorf("read the passphrase: %w", err)
		}
		return strings.TrimRight(string(b), "\r\n"), nil
	}
	if p := os.Getenv(passphraseVariable); p != "" {
		return p, nil
	}
	tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
	if err != nil || !ui.IsTerminal(a.err) {
		return "", advised{fmt.Errorf("%w: it is under a passphrase, and there is no terminal to ask for it", seal.ErrNoKey), "Set " + passphraseVariable + " or give --passphrase-file. Nothing was changed."}
	}
	defer tty.Close()
	ask := func(question string) (string, error) {
		fmt.Fprint(a.err, question)
		b, err := term.ReadPassword(int(tty.Fd()))
		fmt.Fprintln(a.err)
		return string(b), err
	}
	p, err := ask("Passphrase of the archive: ")
	if err != nil || !fresh {
		return p, err
	}
	again, err := ask("The same once more: ")
	switch {
	case err != nil:
		return "", err
	case p == "":
		return "", errors.New("the passphrase is empty; nothing was packed")
	case p != again:
		return "", errors.New("the two passphrases differ; nothing was packed")
	}
	return p, nil
}

// archiveFile is an archive that can be read at any place, opened if it was
// encrypted.
type archiveFile struct {
	io.ReaderAt
	size   int64 // of the archive
	onDisk int64 // of the file
	sealed bool
	file   *os.File
}

// stream reads it from its beginning.
func (f *archiveFile) stream() io.Reader { return io.NewSectionReader(f, 0, f.size) }

// Close closes the file.
func (f *archiveFile) Close() error { return f.file.Close() }

// openArchive opens a file of archives; the error suggests what lies nearby.
func (a *app) openArchive(path string, keys *seal.Keys) (_ *archiveFile, err error) {
	f, err := fsys.OpenFile(path)
	if errors.Is(err, fsys.ErrIrregular) {
		if st, e := os.Stat(path); e == nil && st.IsDir() {
			return nil, fmt.Errorf("%s is a folder; name the archive file", path)
		}
		return nil, fmt.Errorf("%s is no regular file; for a pipe, give - and lead it to standard input", path)
	}
	if errors.Is(err, os.ErrNotExist) {
		if near := nearest.Path(path); near != "" {
			return nil, fmt.Errorf("there is no file %s; did you mean %s?", path, near)
		}
		return nil, fmt.Errorf("there is no file %s", path)
	}
	if err != nil {
		return nil, fmt.Errorf("open the archive: %w", err)
	}
	defer func() {
		if err != nil {
			_ = f.Close()
		}
	}()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if st.IsDir() {
		return nil, fmt.Errorf("%s is a folder; name the archive file", path)
	}
	out := &archiveFile{ReaderAt: f, size: st.Size(), onDisk: st.Size(), file: f}
	head := make([]byte, len(seal.Magic))
	_, err = io.ReadFull(io.NewSectionReader(f, 0, int64(len(head))), head)
	if sealed := err == nil && seal.Sealed(head); !sealed && keys.Required {
		return nil, fmt.Errorf("%s: %w", path, seal.ErrPlain)
	} else if sealed {
		out.sealed = true
		if out.ReaderAt, out.size, err = keys.ReaderAt(f, st.Size()); err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	return out, nil
}

// openToRead opens an archive with the keys that flags name.
func (a *app) openToRead(path string, f *openFlags) (*archiveFile, error) {
	keys, err := f.keys(a)
	if err != nil {
		return nil, err
	}
	return a.openArchive(path, keys)
}

// openStream opens an archive that comes as a stream, which may be encrypted.
func openStream(in io.Reader, keys *seal.Keys) (io.Reader, error) {
	r := bufio.NewReaderSize(in, 64<<10)
	if head, _ := r.Peek(len(seal.Magic)); !seal.Sealed(head) {
		if keys.Required {
			return nil, seal.ErrPlain
		}
		return r, nil
	}
	return keys.Reader(r)
}
