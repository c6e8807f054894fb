package seal

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"testing/iotest"

	"filippo.io/age"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

func sealed(t *testing.T, k *Keys, plain []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := k.Writer(&b)
	require.NoError(t, err)
	_, err = w.Write(plain)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.True(t, Sealed(b.Bytes()))
	return b.Bytes()
}

// keyFile makes a key of age in a file and gives its public part.
func keyFile(t *testing.T) (path, public string) {
	t.Helper()
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	path = filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(path, []byte("# a key\n"+id.String()+"\n"), 0o600))
	return path, id.Recipient().String()
}

// TestKeys seals for keys of age and SSH, given as such and in files, and opens with
// each of them, as a stream and at any place.
func TestKeys(t *testing.T) {
	plain := bytes.Repeat([]byte("ferry "), 50_000)
	dir := t.TempDir()
	ssh := filepath.Join(dir, "ssh")
	testenv.Program(t, "ssh-keygen", nil, "-q", "-t", "ed25519", "-N", "", "-C", "keeper", "-f", ssh)
	path, public := keyFile(t)
	list := filepath.Join(dir, "list")
	_, other := keyFile(t)
	require.NoError(t, os.WriteFile(list, []byte("# those who may\n"+other+"\n"), 0o600))
	k := &Keys{}
	for _, r := range []string{public, list, ssh + ".pub"} {
		require.NoError(t, k.AddRecipient(r))
	}
	b := sealed(t, k, plain)
	assert.NotContains(t, string(b), "ferry")
	for _, file := range []string{path, ssh} {
		k := &Keys{}
		require.NoError(t, k.AddIdentity(file))
		in, err := k.Reader(bufio.NewReader(bytes.NewReader(b)))
		require.NoError(t, err)
		require.NoError(t, iotest.TestReader(io.LimitReader(in, int64(len(plain))), plain))
		at, n, err := k.ReaderAt(bytes.NewReader(b), int64(len(b)))
		require.NoError(t, err)
		require.EqualValues(t, len(plain), n)
		piece := make([]byte, 70_000)
		got, err := at.ReadAt(piece, 100_001)
		require.NoError(t, err)
		assert.Equal(t, plain[100_001:100_001+got], piece)
	}
	no, _ := keyFile(t)
	wrong := &Keys{}
	require.NoError(t, wrong.AddIdentity(no))
	_, _, err := wrong.ReaderAt(bytes.NewReader(b), int64(len(b)))
	assert.ErrorIs(t, err, ErrNoKey)
	assert.ErrorContains(t, err, "for other recipients")
	_, err = (&Keys{}).Reader(bufio.NewReader(bytes.NewReader(b)))
	assert.ErrorIs(t, err, ErrNoKey)
}

// TestTheProgramAge: what is sealed here opens there, and the other way round.
func TestTheProgramAge(t *testing.T) {
	program := testenv.Tool(t, "age")
	path, public := keyFile(t)
	k := &Keys{}
	require.NoError(t, k.AddRecipient(public))
	require.NoError(t, k.AddIdentity(path))
	plain := bytes.Repeat([]byte("museum"), 30_000)
	assert.Equal(t, plain, testenv.Program(t, program, sealed(t, k, plain), "-d", "-i", path))
	in, err := k.Reader(bufio.NewReader(bytes.NewReader(testenv.Program(t, program, plain, "-r", public))))
	require.NoError(t, err)
	got, err := io.ReadAll(in)
	require.NoError(t, err)
	assert.Equal(t, plain, got)
}

func TestPassphrase(t *testing.T) {
	k := &Keys{}
	require.NoError(t, k.UnderPassphrase("low tide"))
	b := sealed(t, k, []byte("plain"))
	open := func(p string) ([]byte, error) {
		in, err := (&Keys{Passphrase: func() (string, error) { return p, nil }}).Reader(bufio.NewReader(bytes.NewReader(b)))
		if err != nil {
			return nil, err
		}
		return io.ReadAll(in)
	}
	got, err := open("low tide")
	require.NoError(t, err)
	assert.Equal(t, "plain", string(got))
	_, err = open("high tide")
	assert.ErrorIs(t, err, ErrNoKey)
	assert.ErrorContains(t, err, "the passphrase is another one")
	_, err = (&Keys{}).Reader(bufio.NewReader(bytes.NewReader(b)))
	assert.ErrorContains(t, err, "under a passphrase")
	nobody := &Keys{Passphrase: func() (string, error) { return "", errors.New("no terminal") }}
	_, _, err = nobody.ReaderAt(bytes.NewReader(b), int64(len(b)))
	assert.ErrorContains(t, err, "no terminal")
}

// TestWhatIsNoKey: mistakes are named, and a private key is not repeated.
func TestWhatIsNoKey(t *testing.T) {
	path, _ := keyFile(t)
	secret, err := os.ReadFile(path)
	require.NoError(t, err)
	k := &Keys{}
	err = k.AddRecipient(string(secret[8:]))
	require.Error(t, err)
	assert.NotContains(t, err.Error(), string(secret[30:60]))
	for _, given := range []string{"age1nonsense", path, "ssh-ed25519 AAAA"} {
		assert.ErrorContains(t, k.AddRecipient(given), "neither a public key of age or SSH nor a file of them")
	}
	assert.Error(t, k.AddIdentity(filepath.Join(t.TempDir(), "none")))
	empty := filepath.Join(t.TempDir(), "empty")
	require.NoError(t, os.WriteFile(empty, []byte("# nothing\n"), 0o600))
	assert.ErrorContains(t, k.AddRecipient(empty), "holds no public key")
	assert.ErrorContains(t, k.AddIdentity(empty), "holds no private key")
	locked := filepath.Join(t.TempDir(), "locked")
	out, err := exec.Command(testenv.Tool(t, "ssh-keygen"), "-q", "-t", "ed25519", "-N", "secret", "-f", locked).CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.ErrorContains(t, k.AddIdentity(locked), "cannot be used")
}

// TestDamage tells a damaged file from a disk that fails.
func TestDamage(t *testing.T) {
	path, public := keyFile(t)
	k := &Keys{}
	require.NoError(t, k.AddRecipient(public))
	require.NoError(t, k.AddIdentity(path))
	b := sealed(t, k, bytes.Repeat([]byte("x"), 200_000))
	all := func(r io.Reader) error {
		in, err := k.Reader(bufio.NewReader(r))
		if err == nil {
			_, err = io.Copy(io.Discard, in)
		}
		return err
	}
	require.NoError(t, all(bytes.NewReader(b)))
	for _, at := range []int{30, 100, len(b) / 2, len(b) - 1} {
		bad := bytes.Clone(b)
		bad[at] ^= 4
		err := all(bytes.NewReader(bad))
		assert.True(t, errors.Is(err, ErrDamaged) || errors.Is(err, ErrNoKey), "%d: %v", at, err)
		assert.ErrorIs(t, all(bytes.NewReader(b[:at])), ErrDamaged, at)
		_, _, err = k.ReaderAt(bytes.NewReader(b[:at]), int64(at))
		assert.ErrorIs(t, err, ErrDamaged, at)
	}
	broken := errors.New("the disk fails")
	assert.ErrorIs(t, all(io.MultiReader(bytes.NewReader(b[:len(b)/2]), iotest.ErrReader(broken))), broken)
}
