#!/usr/bin/env bash
# Private servers for tests: a MariaDB and a PostgreSQL in a folder of their own
# on sockets and free ports, which nothing else on the machine uses. Web servers are
# started by the tests that need them.
#
#   servers.sh install        install what the tests need with apt-get (as root)
#   servers.sh start FOLDER   start the servers, print what the tests read
#   servers.sh stop FOLDER    stop them and remove the folder
set -euo pipefail

have() { command -v "$1" >/dev/null 2>&1 || [ -x "/usr/sbin/$1" ]; }

# postgres_bin gives the folder of PostgreSQL's server programs, where Debian
# puts them.
postgres_bin() { dirname "$(ls /usr/lib/postgresql/*/bin/initdb 2>/dev/null | sort -V | tail -1)" 2>/dev/null | grep / || true; }

install() {
  local missing=()
  have mariadbd || missing+=(mariadb-server)
  have mariadb || missing+=(mariadb-client)
  have php || missing+=(php-cli php-mysql php-sqlite3 php-gd php-xml)
  have zstd || missing+=(zstd)
  have perl || missing+=(perl)
  have sqlite3 || missing+=(sqlite3)
  have age || missing+=(age)
  have ssh-keygen || missing+=(openssh-client)
  have lowntfs-3g || missing+=(ntfs-3g)
  have nginx || missing+=(nginx)
  have apache2 || missing+=(apache2)
  have caddy || missing+=(caddy)
  have haproxy || missing+=(haproxy)
  [ -n "$(postgres_bin)" ] || missing+=(postgresql)
  if have php && ! php -m | grep -qi mysqli; then missing+=(php-mysql php-gd); fi
  if have php && ! php -m | grep -qi simplexml; then missing+=(php-xml); fi # WordPress makes sitemaps with it
  [ ${#missing[@]} -eq 0 ] && return 0
  if [ "$(id -u)" -ne 0 ] || ! have apt-get; then
    echo "servers.sh: cannot install ${missing[*]}: needs root and apt-get" >&2
    return 1
  fi
  # Packages must not start servers of their own.
  local policy=/usr/sbin/policy-rc.d made=
  if [ ! -e $policy ]; then printf '#!/bin/sh\nexit 101\n' >$policy && chmod +x $policy && made=1; fi
  apt-get update -qq >&2
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >&2 || { [ -n "$made" ] && rm -f $policy; return 1; }
  [ -n "$made" ] && rm -f $policy
  return 0
}

free_port() {
  python3 -c 'import socket; s=socket.socket(); s.bind(("127.0.0.1",0)); print(s.getsockname()[1])' 2>/dev/null ||
    perl -MIO::Socket::INET -e 'print IO::Socket::INET->new(LocalAddr=>"127.0.0.1",Listen=>1)->sockport'
}

start() {
  local dir=$1 port
  mkdir -p "$dir/db"
  if have mariadbd; then
    port=$(free_port)
    local user=()
    if [ "$(id -u)" -eq 0 ]; then
      user=(--user=mysql)
      chmod 755 "$dir" && chown mysql: "$dir" "$dir/db"
    fi
    mariadb-install-db --no-defaults "${user[@]}" --datadir="$dir/db" --auth-root-authentication-method=normal --skip-test-db >"$dir/install.log" 2>&1
    "$(command -v mariadbd || echo /usr/sbin/mariadbd)" --no-defaults "${user[@]}" --datadir="$dir/db" --socket="$dir/sock" --pid-file="$dir/pid" \
      --port="$port" --bind-address=127.0.0.1 --skip-name-resolve --character-set-server=utf8mb4 \
      --innodb-buffer-pool-size="${HOVIX_BUFFER_POOL:-256M}" --innodb-flush-log-at-trx-commit=2 --log-error="$dir/log" >/dev/null 2>&1 &
    for _ in $(seq 150); do
      if mariadb --no-defaults -S "$dir/sock" -uroot -e 'SELECT 1' >/dev/null 2>&1; then break; fi
      sleep 0.1
    done
    mariadb --no-defaults -S "$dir/sock" -uroot -e "
      CREATE USER IF NOT EXISTS tester@'%' IDENTIFIED BY 'test-password'; GRANT ALL ON *.* TO tester@'%' WITH GRANT OPTION;
      CREATE USER IF NOT EXISTS tester@localhost IDENTIFIED BY 'test-password'; GRANT ALL ON *.* TO tester@localhost WITH GRANT OPTION;"
    echo "export HOVIX_TEST_MARIADB_SOCKET=$dir/sock HOVIX_TEST_MARIADB_PORT=$port"
  fi
  if [ -n "$(postgres_bin)" ]; then start_postgres "$dir"; fi
  # WordPress as Debian packages it, unpacked without its dependencies.
  if have apt-get && have dpkg; then
    if (cd "$dir" && apt-get download -qq wordpress >"$dir/wordpress.log" 2>&1 && dpkg -x wordpress_*.deb wp); then
      echo "export HOVIX_TEST_WORDPRESS=$dir/wp/usr/share/wordpress"
    fi
    # The statements of MariaDB's own tests.
    if (cd "$dir" && apt-get download -qq mariadb-test-data >"$dir/mariadb-test.log" 2>&1 && dpkg -x mariadb-test-data_*.deb mt); then
      echo "export HOVIX_TEST_MARIADB_TESTS=$dir/mt/usr/share/mysql/mysql-test"
    fi
    # A database of SQLite that comes with a program.
    if (cd "$dir" && apt-get download -qq proj-data >"$dir/sqlite-files.log" 2>&1 && dpkg -x proj-data_*.deb lite); then
      echo "export HOVIX_TEST_SQLITE_FILES=$dir/lite"
    fi
  fi
}

start_postgres() {
  local dir=$1 port bin as=()
  port=$(free_port)
  bin=$(postgres_bin)
  mkdir -p "$dir/pg"
  if [ "$(id -u)" -eq 0 ]; then # the server refuses to run as root
    chmod 755 "$dir" && chown postgres: "$dir/pg"
    as=(runuser -u postgres --)
  fi
  (cd "$dir/pg" && "${as[@]}" "$bin/initdb" -D "$dir/pg/data" -U tester --auth-local=trust --auth-host=scram-sha-256 -E UTF8 --locale=C.UTF-8 >"$dir/pg-install.log" 2>&1 &&
    "${as[@]}" "$bin/pg_ctl" -D "$dir/pg/data" -w -l "$dir/pg/log" -o "-p $port -k $dir/pg -c listen_addresses=127.0.0.1 -c fsync=off" start >/dev/null 2>&1)
  echo "export HOVIX_TEST_POSTGRES_SOCKET=$dir/pg HOVIX_TEST_POSTGRES_PORT=$port"
}

stop() {
  local dir=$1
  if [ -f "$dir/pg/data/postmaster.pid" ]; then
    kill -INT "$(head -1 "$dir/pg/data/postmaster.pid")" 2>/dev/null || true
    for _ in $(seq 100); do [ -f "$dir/pg/data/postmaster.pid" ] || break; sleep 0.1; done
  fi
  if [ -f "$dir/pid" ]; then
    local pid
    pid=$(cat "$dir/pid")
    kill "$pid" 2>/dev/null || true
    for _ in $(seq 100); do kill -0 "$pid" 2>/dev/null || break; sleep 0.1; done
  fi
  rm -rf "$dir"
}

case ${1:-} in
install) install ;;
start) start "$2" ;;
stop) stop "$2" ;;
*) echo "usage: servers.sh install | start FOLDER | stop FOLDER" >&2; exit 2 ;;
esac
