package site

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

// TestHashes proves the hashes by PHP: its own for those of password_hash, and each
// software's way to read a hash, as it documents it, for the others.
func TestHashes(t *testing.T) {
	const check = `
		[, $kind, $password, $hash] = $argv;
		$digits = './0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz';
		$encode = function ($in) use ($digits) {
			$out = ''; $i = 0; $n = strlen($in);
			do {
				$v = ord($in[$i++]); $out .= $digits[$v & 63];
				if ($i < $n) $v |= ord($in[$i]) << 8;
				$out .= $digits[($v >> 6) & 63];
				if ($i++ >= $n) break;
				if ($i < $n) $v |= ord($in[$i]) << 16;
				$out .= $digits[($v >> 12) & 63];
				if ($i++ >= $n) break;
				$out .= $digits[($v >> 18) & 63];
			} while ($i < $n);
			return $out;
		};
		$rounds = function ($algorithm) use ($hash, $password, $digits, $encode) {
			$n = 1 << strpos($digits, $hash[3]); $salt = substr($hash, 4, 8);
			$sum = hash($algorithm, $salt.$password, true);
			do { $sum = hash($algorithm, $sum.$password, true); } while (--$n);
			return substr(substr($hash, 0, 12).$encode($sum), 0, strlen($hash));
		};
		switch ($kind) {
			case 'bcrypt': echo password_verify($password, $hash) ? 'same' : 'other'; break;
			case 'md5': echo $rounds('md5') === $hash && strlen($hash) === 34 ? 'same' : 'other'; break;
			case 'sha512': echo $rounds('sha512') === $hash && strlen($hash) === 55 ? 'same' : 'other'; break;
			case 'pbkdf2':
				[, , $algorithm, $n, $length, $salt, $key] = explode(':', $hash);
				echo hash_pbkdf2($algorithm, $password, base64_decode($salt), (int) $n, (int) $length, true) === base64_decode($key) ? 'same' : 'other';
		}`
	for kind, hash := range map[string]func(string) (string, error){"bcrypt": bcryptHash, "md5": portableHash, "sha512": drupalHash, "pbkdf2": mediawikiHash} {
		for _, password := range []string{"a", "pässwörd 🔑", strings.Repeat("long", 15), NewPassword()} {
			h, err := hash(password)
			require.NoError(t, err)
			assert.Equal(t, "same", string(testenv.PHP(t, check, nil, kind, password, h)), "%s of %q", kind, password)
			assert.Equal(t, "other", string(testenv.PHP(t, check, nil, kind, password+"x", h)))
			again, err := hash(password)
			require.NoError(t, err)
			assert.NotEqual(t, h, again, "each has a salt of its own")
		}
	}
	assert.Equal(t, "$S$", first(drupal{}.Passwords("", "9.5.11", "").Hash("a"))[:3])
	assert.Equal(t, "$2y$", first(drupal{}.Passwords("", "10.1.0", "").Hash("a"))[:4])
	assert.Equal(t, "$2y$", first(drupal{}.Passwords("", "11.0.1", "").Hash("a"))[:4])
}

func first(s string, _ error) string { return s }
