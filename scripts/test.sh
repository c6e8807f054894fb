#!/usr/bin/env bash
# Runs all tests, or what its arguments say to go test. Installs what they need where root allows, starts private
# servers in a temporary folder, stops them, and says what ran and what did not.
set -uo pipefail
cd "$(dirname "$0")/.."

# The databases' own clients take their encoding from it.
export LC_ALL=C.UTF-8

left_out=()
scripts/servers.sh install || left_out+=("what could not be installed (see above)")

# Tests make and remove very many files: in memory, where there is much of it, that takes a
# fraction of the time that it does on a disk.
where=/tmp
free_memory=$(awk '/^MemAvailable:/ {print int($2 / 1048576)}' /proc/meminfo 2>/dev/null)
free_shm=$(df --output=avail -B1G /dev/shm 2>/dev/null | tail -1)
if [ "${free_memory:-0}" -ge 14 ] && [ "${free_shm:-0}" -ge 10 ] && [ -w /dev/shm ]; then where=/dev/shm; fi
dir=$(mktemp -d $where/hovix-servers.XXXXXX)
trap 'scripts/servers.sh stop "$dir"' EXIT
if env=$(scripts/servers.sh start "$dir"); then eval "$env"; else left_out+=("private servers: they did not start"); fi

echo "The tests use:"
if [ -n "${HOVIX_TEST_MARIADB_SOCKET:-}" ]; then
  echo "  $(mariadb --no-defaults -S "$HOVIX_TEST_MARIADB_SOCKET" -utester -ptest-password -N -e 'SELECT CONCAT("MariaDB ", VERSION(), ", port ", @@port)')"
else
  left_out+=("everything on MariaDB: no server")
fi
if [ -n "${HOVIX_TEST_POSTGRES_SOCKET:-}" ]; then
  echo "  $(psql -h "$HOVIX_TEST_POSTGRES_SOCKET" -p "$HOVIX_TEST_POSTGRES_PORT" -U tester -d postgres -Atc "SELECT split_part(version(), ' ', 1) || ' ' || split_part(version(), ' ', 2) || ', port ' || current_setting('port')")"
else
  left_out+=("dumps of PostgreSQL: no server")
fi
for tool in php perl sqlite3 zstd tar age ssh-keygen lowntfs-3g nginx apache2 caddy haproxy; do
  if command -v $tool >/dev/null || [ -x /usr/sbin/$tool ]; then
    case $tool in
    php) echo "  $(php -v | head -1 | cut -d' ' -f1,2)" ;;
    age) echo "  age $(age --version)" ;;
    ssh-keygen | lowntfs-3g | perl) ;;
    nginx) /usr/sbin/nginx -v 2>&1 | sed 's/nginx version: /  /' ;;
    apache2) echo "  $(/usr/sbin/apache2 -v | sed -n 's/Server version: //p')" ;;
    caddy) echo "  Caddy $(caddy version)" ;;
    haproxy) echo "  HAProxy $(/usr/sbin/haproxy -v | sed -n 's/HAProxy version \([^ ]*\).*/\1/p')" ;;
    sqlite3) echo "  SQLite client $(sqlite3 --version | cut -d' ' -f1)" ;;
    *) echo "  $($tool --version | head -1)" ;;
    esac
  else
    left_out+=("tests against $tool: it is not installed")
  fi
done
if [ -n "${HOVIX_TEST_WORDPRESS:-}" ]; then
  echo "  WordPress $(sed -n "s/^\$wp_version = '\(.*\)';/\1/p" "$HOVIX_TEST_WORDPRESS/wp-includes/version.php")"
else
  left_out+=("the real WordPress site: its package could not be fetched")
fi
if [ -n "${HOVIX_TEST_MARIADB_TESTS:-}" ]; then
  echo "  MariaDB's own tests, $(find "$HOVIX_TEST_MARIADB_TESTS" -name '*.test' | wc -l) files"
else
  left_out+=("the statements of MariaDB's own tests: their package could not be fetched")
fi
if [ -n "${HOVIX_TEST_SQLITE_FILES:-}" ]; then
  echo "  a database of SQLite that comes with a program"
else
  left_out+=("a database of SQLite that comes with a program: its package could not be fetched")
fi
[ "$(id -u)" -eq 0 ] || left_out+=("a full disk: mounting a small one needs root")
echo

mkdir -p "$dir/tmp" # what tests leave there, such as the program they build, goes with the servers
out=${HOVIX_TEST_OUT:-$(mktemp)}
TMPDIR=$dir/tmp CGO_ENABLED=0 go test -count=1 -timeout 6h -parallel 4 -v "${@:-./...}" >"$out" 2>&1
status=$?
grep -E '^(ok|FAIL|---? FAIL|panic)' "$out" | grep -v 'no test files'
if [ $status -ne 0 ]; then
  echo
  grep -vE '^(=== |\s*--- PASS|ok|\?)' "$out" | head -200
fi
passed=$(grep -cE '^\s*--- PASS' "$out")
failed=$(grep -cE '^\s*--- FAIL' "$out")
skipped=$(grep -cE '^\s*--- SKIP' "$out")
if [ "$skipped" -gt 0 ]; then
  while read -r line; do left_out+=("$line"); done < <(grep -E 'LEFT OUT' "$out" | sed 's/.*LEFT OUT: //' | sort | uniq -c | sed 's/^ *\([0-9]*\) /\1 × /')
fi
rm -f "$out"
if [ ${#left_out[@]} -gt 0 ]; then
  echo
  echo "!!! LEFT OUT of this run:"
  printf '!!!   %s\n' "${left_out[@]}"
fi
echo
echo "$passed passed, $failed failed, $skipped skipped"
exit $status
