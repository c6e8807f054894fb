#!/usr/bin/env bash
# A site's whole journey with a real application, as Debian packages it: installed, packed,
# restored at another address with another database, compared cell by cell, used, undone.
#   scripts/trip.sh ttrss | redmine
# It installs what the application needs (as root) and uses private servers, which it stops.
set -euo pipefail
cd "$(dirname "$0")/.."
export LC_ALL=C.UTF-8
hovix=$PWD/bin/hovix
name=${1:-}
case $name in ttrss | redmine) ;; *) echo "usage: trip.sh ttrss | redmine" >&2; exit 2 ;; esac

scripts/servers.sh install >/dev/null
dir=$(mktemp -d /tmp/hovix-trip.XXXXXX)
serving=
finish() {
  [ -z "$serving" ] || kill -- "-$serving" 2>/dev/null || true
  scripts/servers.sh stop "$dir"
}
trap finish EXIT
eval "$(scripts/servers.sh start "$dir")"
chmod 755 "$dir"

step() { echo; echo "== $*"; }
fail() { echo "FAILED: $*" >&2; exit 1; }
sql() { mariadb --no-defaults -S "$HOVIX_TEST_MARIADB_SOCKET" -utester -ptest-password "$@"; }
# dumped prints a database in the words of its server's own client, one row a line.
dumped() { mariadb-dump --no-defaults -S "$HOVIX_TEST_MARIADB_SOCKET" -utester -ptest-password --skip-extended-insert --order-by-primary --skip-comments "$1" | sed -e 's/ AUTO_INCREMENT=[0-9]*//'; }
# same insists that two databases differ in the address and the folder alone.
same() {
  dumped "$1" | sed -e "s#$3#$4#g" -e "s#$dir/old#$dir/new#g" >"$dir/old.sql"
  dumped "$2" >"$dir/new.sql"
  diff "$dir/old.sql" "$dir/new.sql" >"$dir/differs" || { head -20 "$dir/differs" >&2; fail "$(wc -l <"$dir/differs") lines differ"; }
  echo "   $(grep -c '^INSERT' "$dir/new.sql") rows, no cell differs but for the address"
}
free_port() { python3 -c 'import socket; s=socket.socket(); s.bind(("127.0.0.1",0)); print(s.getsockname()[1])'; }
# serve runs a server in a process group of its own until the next one, or the end.
serve() {
  [ -z "$serving" ] || { kill -- "-$serving" 2>/dev/null || true; sleep 0.5; }
  setsid "$@" >"$dir/serve.log" 2>&1 &
  serving=$!
}
# answers waits until an address answers with a text.
answers() {
  for _ in $(seq 120); do
    if curl -sSL "$1" 2>/dev/null | grep -q -- "$2"; then echo "   $1 answers"; return; fi
    sleep 0.5
  done
  tail -20 "$dir/serve.log" >&2
  fail "$1 does not answer with: $2"
}
# moved runs the journey of the site in $dir/old (database one) to $dir/new (database two).
moved() {
  local from=$1 to=$2
  shift 2
  step "survey"
  "$hovix" survey "$dir/old" || [ $? -eq 3 ]
  step "pack"
  "$hovix" pack "$dir/old" -o "$dir/site.tar.zst" || [ $? -eq 3 ]
  "$hovix" inspect "$dir/site.tar.zst" --check >/dev/null
  step "restore at $to"
  HOVIX_DATABASE_PASSWORD=test-password "$hovix" restore "$dir/site.tar.zst" "$dir/new" --url "$to" \
    --database "mariadb://tester@127.0.0.1:$HOVIX_TEST_MARIADB_PORT/two" --yes --links-out --stored-code "$@" || [ $? -eq 3 ]
  if grep -rqs -- "$from" "$dir/new" --include='*.php' --include='*.yml' --include='*.env'; then fail "settings still name $from"; fi
  same one two "$from" "$to"
}

ttrss() {
  apt-get install -y -qq --no-install-recommends php-php-gettext php-psr-log libjs-dojo-core libjs-dojo-dijit libjs-scriptaculous phpqrcode php-mysql php-intl php-mbstring php-xml >/dev/null
  (cd "$dir" && apt-get download -qq tt-rss && dpkg -x tt-rss_*.deb deb)
  cp -a "$dir/deb/usr/share/tt-rss/www" "$dir/old"
  # Links to other packages become what they lead to.
  (cd "$dir/old" && find . -type l | while read -r link; do
    to=$(readlink "$link")
    case $to in /*) ;; *) to=/usr/share/tt-rss/www/${link%/*}/$to ;; esac
    to=$(realpath -m "$to")
    rm "$link"
    if [ -e "$to" ]; then cp -aL "$to" "$link"; fi
  done)
  sql -e "CREATE DATABASE one CHARACTER SET utf8mb4; CREATE DATABASE two CHARACTER SET utf8mb4"
  local a b; a=$(free_port) b=$(free_port)
  rm -f "$dir/old/config.php"
  cat >"$dir/old/config.php" <<EOF
<?php
define('DB_TYPE', 'mysql');
define('DB_HOST', '127.0.0.1');
define('DB_USER', 'tester');
define('DB_NAME', 'one');
define('DB_PASS', 'test-password');
define('DB_PORT', '$HOVIX_TEST_MARIADB_PORT');
define('MYSQL_CHARSET', 'UTF8');
define('SELF_URL_PATH', 'http://127.0.0.1:$a/');
define('SINGLE_USER_MODE', false);
define('SIMPLE_UPDATE_MODE', true);
define('PHP_EXECUTABLE', '/usr/bin/php');
define('LOCK_DIRECTORY', 'lock');
define('CACHE_DIR', 'cache');
define('ICONS_DIR', 'feed-icons');
define('ICONS_URL', 'feed-icons');
define('AUTH_AUTO_CREATE', true);
define('AUTH_AUTO_LOGIN', true);
define('FORCE_ARTICLE_PURGE', 0);
define('ENABLE_REGISTRATION', false);
define('REG_NOTIFY_ADDRESS', 'keeper@feeds.example');
define('REG_MAX_USERS', 10);
define('SESSION_COOKIE_LIFETIME', 86400);
define('SMTP_FROM_NAME', 'Feeds');
define('SMTP_FROM_ADDRESS', 'noreply@feeds.example');
define('DIGEST_SUBJECT', 'Digest');
define('CHECK_FOR_UPDATES', false);
define('ENABLE_GZIP_OUTPUT', false);
define('PLUGINS', 'auth_internal, note');
define('LOG_DESTINATION', 'sql');
define('CONFIG_VERSION', 26);
EOF
  for d in lock cache feed-icons; do
    if [ -L "$dir/old/$d" ]; then rm "$dir/old/$d"; fi
    mkdir -p "$dir/old/$d"
  done
  sql one <"$dir/deb/usr/share/tt-rss/schema/ttrss_schema_mysql.sql"
  sql one -e "INSERT INTO ttrss_feeds (owner_uid, title, feed_url, site_url) SELECT id, 'The museum', 'http://127.0.0.1:$a/feed.xml', 'http://127.0.0.1:$a/museum/' FROM ttrss_users LIMIT 1;
    INSERT INTO ttrss_entries (title, guid, link, updated, content, content_hash, date_entered, date_updated) SELECT CONCAT('Ferry ', seq), CONCAT('http://127.0.0.1:$a/e/', seq), CONCAT('http://127.0.0.1:$a/e/', seq), NOW(), REPEAT(CONCAT('<a href=\"http://127.0.0.1:$a/x/', seq, '\">x</a> ', MD5(seq)), 20), SHA1(seq), NOW(), NOW() FROM seq_1_to_3000"
  cat >"$dir/old/hovix.toml" <<EOF
name = "Feeds"
caches = ["cache", "lock"]
uploads = ["feed-icons"]
[login]
file = "config.php"
engine = "mariadb"
host = "DB_HOST"
port = "DB_PORT"
name = "DB_NAME"
user = "DB_USER"
password = "DB_PASS"
address = "SELF_URL_PATH"
EOF
  serve php -d display_errors=0 -S "127.0.0.1:$a" -t "$dir/old"
  answers "http://127.0.0.1:$a/" "Tiny Tiny RSS"
  moved "http://127.0.0.1:$a" "http://127.0.0.1:$b"
  step "use it"
  mkdir -p "$dir/new/cache" "$dir/new/lock"
  for d in images upload export starred-images simplepie feeds; do mkdir -p "$dir/new/cache/$d"; done
  serve php -d display_errors=0 -S "127.0.0.1:$b" -t "$dir/new"
  answers "http://127.0.0.1:$b/" "Tiny Tiny RSS"
  "$hovix" undo "$dir/new" --yes || [ $? -eq 3 ]
}

redmine() {
  DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends redmine redmine-mysql ruby-mysql2 ruby-rails ruby-webrick puma >/dev/null
  sql -e "CREATE DATABASE one CHARACTER SET utf8mb4; CREATE DATABASE two CHARACTER SET utf8mb4"
  local a b; a=$(free_port) b=$(free_port)
  cp -aL /usr/share/redmine "$dir/old" 2>/dev/null || true # links into the system become what they lead to
  rm -rf "$dir/old/config/database.yml" "$dir/old/tmp" "$dir/old/log" "$dir/old/files"
  mkdir -p "$dir/old/tmp" "$dir/old/log" "$dir/old/files"
  cat >"$dir/old/config/database.yml" <<EOF
production:
  adapter: mysql2
  host: 127.0.0.1
  port: $HOVIX_TEST_MARIADB_PORT
  database: one
  username: tester
  password: "test-password"
  encoding: utf8mb4
EOF
  cat >"$dir/old/hovix.toml" <<EOF
name = "Projects"
address = "http://127.0.0.1:$a"
uploads = ["files"]
caches = ["tmp", "log"]
[login]
file = "config/database.yml"
engine = "mariadb"
host = "production.host"
port = "production.port"
name = "production.database"
user = "production.username"
password = "production.password"
EOF
  run() { (cd "$1" && shift && RAILS_ENV=production REDMINE_LANG=en SECRET_KEY_BASE=0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef "$@"); }
  run "$dir/old" bundle exec rake db:migrate redmine:load_default_data >"$dir/rake.log" 2>&1 || { tail -20 "$dir/rake.log" >&2; fail "rake"; }
  sql one -e "INSERT INTO projects (name, description, identifier, status, is_public, created_on, updated_on, lft, rgt) VALUES ('Ferry', 'see http://127.0.0.1:$a/projects/ferry', 'ferry', 1, 1, NOW(), NOW(), 1, 2);
    UPDATE settings SET value='127.0.0.1:$a' WHERE name='host_name'; INSERT INTO settings (name, value) SELECT 'host_name', '127.0.0.1:$a' FROM DUAL WHERE NOT EXISTS (SELECT 1 FROM settings WHERE name='host_name');
    INSERT INTO issues (tracker_id, project_id, subject, description, status_id, priority_id, author_id, lock_version, created_on, updated_on, lft, rgt) SELECT 1, 1, CONCAT('Issue ', seq), CONCAT('http://127.0.0.1:$a/issues/', seq, ' ', MD5(seq)), 1, 1, 1, 0, NOW(), NOW(), 1, 2 FROM seq_1_to_500"
  serve bash -c "cd '$dir/old' && RAILS_ENV=production SECRET_KEY_BASE=0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef bundle exec rails server -b 127.0.0.1 -p $a"
  answers "http://127.0.0.1:$a/projects/ferry" "Ferry"
  moved "http://127.0.0.1:$a" "http://127.0.0.1:$b" --bare-hosts
  step "use it"
  mkdir -p "$dir/new/tmp" "$dir/new/log"
  serve bash -c "cd '$dir/new' && RAILS_ENV=production SECRET_KEY_BASE=0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef bundle exec rails server -b 127.0.0.1 -p $b"
  answers "http://127.0.0.1:$b/projects/ferry" "127.0.0.1:$b/projects/ferry"
  "$hovix" undo "$dir/new" --yes || [ $? -eq 3 ]
}

"$name"
step "the trip of $name is done"
