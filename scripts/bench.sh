#!/usr/bin/env bash
# Measures whole commands beside the tools that do the same by hand, in one run.
# Needs hyperfine, zstd, GNU time and the servers for tests:
#
#   scripts/servers.sh start /tmp/bench-servers > /tmp/bench.env && . /tmp/bench.env
#   scripts/bench.sh /tmp/bench [RUNS [SECTIONS]]
#   scripts/servers.sh stop /tmp/bench-servers
#
# Before each run what the run before wrote goes to the disk, so that no one pays
# for the other.
set -euo pipefail
cd "$(dirname "$0")/.."
dir=$1
runs=${2:-5}
sections=${3:-files pack restore rewrite live postgres crawl memory}
wants() { case " $sections " in *" $1 "*) ;; *) return 1 ;; esac; }
sock=$HOVIX_TEST_MARIADB_SOCKET
sql() { mariadb --no-defaults -S "$sock" -utester -ptest-password "$@"; }
export HOVIX_DATABASE_PASSWORD=test-password
make --no-print-directory build
h=$PWD/bin/hovix

if [ ! -d "$dir/site" ]; then
  mkdir -p "$dir"
  sql -e 'DROP DATABASE IF EXISTS hovix_bench; CREATE DATABASE hovix_bench'
  go run ./internal/testenv/benchsite "$dir/site" "${HOVIX_BENCH_MB:-1700}" 264000 "$sock" hovix_bench
fi
site=$dir/site
echo "== the site: $(du -sm "$site" | cut -f1) MB of files; the database:"
sql -N -e "SELECT COUNT(*), 'tables,', SUM(TABLE_ROWS), 'rows,', SUM(DATA_LENGTH+INDEX_LENGTH)>>20, 'MB' FROM information_schema.TABLES WHERE TABLE_SCHEMA='hovix_bench'"

if wants files; then
echo "== files"
hyperfine -N -w 1 -r "$runs" --prepare sync --export-json "$dir/pipe.json" \
  -n 'hovix pack, to a pipe' "sh -c '$h pack $site --parts uploads,code -o - -y | cat >/dev/null'" \
  -n 'tar | zstd -3 -T2, to a pipe' "sh -c 'tar -C $site -cf - . | zstd -3 -T2 -q | cat >/dev/null'" 2>/dev/null
hyperfine -N -w 1 -r "$runs" --prepare "sh -c 'rm -f $dir/f.tar.zst $dir/f2.tar.zst $dir/f3.tar.zst; sync; sleep 1'" --export-json "$dir/files.json" \
  -n 'hovix pack' "$h pack $site --parts uploads,code -o $dir/f.tar.zst -y" \
  -n 'tar | zstd -3 -T2' "sh -c 'tar -C $site -cf - . | zstd -3 -T2 -q -f -o $dir/f2.tar.zst'" \
  -n 'tar | zstd -1 -T2' "sh -c 'tar -C $site -cf - . | zstd -1 -T2 -q -f -o $dir/f3.tar.zst'" 2>/dev/null
fi

if wants pack || wants restore || wants rewrite; then
echo "== database, packing"
hyperfine -N -w 1 -r "$runs" --prepare "rm -f $dir/d.tar.zst; sync" --prepare "rm -f $dir/d2.sql.zst; sync" --export-json "$dir/db.json" \
  -n 'hovix pack' "$h pack $site --parts database,settings -o $dir/d.tar.zst -y" \
  -n 'mariadb-dump | zstd -3 -T2' "sh -c 'mariadb-dump --no-defaults --single-transaction --quick -S $sock -utester -ptest-password hovix_bench | zstd -3 -T2 -q -f -o $dir/d2.sql.zst'" 2>/dev/null
ls -l "$dir"/d.tar.zst "$dir"/d2.sql.zst | awk '{print $5, $9}'
zstd -dqf "$dir/d2.sql.zst" -o "$dir/d.sql"
fi

fresh="mariadb --no-defaults -S $sock -utester -ptest-password -e 'DROP DATABASE IF EXISTS hovix_bench_new; CREATE DATABASE hovix_bench_new'; rm -rf $dir/new"
if wants restore; then
echo "== database, restoring (with addresses rewritten by hovix, without by mariadb)"
hyperfine -r 2 --prepare "$fresh" --export-json "$dir/load.json" \
  -n 'hovix restore' "$h restore $dir/d.tar.zst $dir/new --url https://blog.new.example --database 'mariadb://tester@localhost/hovix_bench_new?socket=$sock'" \
  -n 'mariadb < dump.sql' "mariadb --no-defaults -S $sock -utester -ptest-password hovix_bench_new < $dir/d.sql" 2>/dev/null
fi

old=http://blog.old-harbour.example new=https://blog.new.example
if wants rewrite; then
echo "== the dump, its address changed: $(stat -c %s "$dir/d.sql") bytes"
hyperfine -N -w 1 -r "$runs" --prepare "rm -f $dir/d3.sql $dir/d4.sql; sync" --export-json "$dir/rewrite.json" \
  -n 'hovix rewrite' "$h rewrite $dir/d.sql --map $old=$new -o $dir/d3.sql -y" \
  -n 'hovix rewrite, held to one core' "taskset -c 0 $h rewrite $dir/d.sql --map $old=$new -o $dir/d3.sql -y" \
  -n 'sed, held to one core' "sh -c \"LC_ALL=C taskset -c 0 sed 's#$old#$new#g' $dir/d.sql > $dir/d4.sql\"" 2>/dev/null
command time -f "rewrite a dump: %M kB at its peak" "$h" rewrite "$dir/d.sql" --map $old=$new -o "$dir/d3.sql" -y >/dev/null
for _ in 1 2 3; do
  php internal/rewrite/testdata/serialized.php
  go test -run xxx -bench Metadata ./internal/rewrite | grep Benchmark
done
GOMAXPROCS=1 go test -run xxx -bench NoMatch -count 3 ./internal/rewrite | grep Benchmark
fi

if wants live; then
echo "== the live database, its address changed and changed back (by REPLACE, which breaks serialized values)"
replace() { sql hovix_bench -e "START TRANSACTION; UPDATE posts SET body=REPLACE(body,'$1','$2'), guid=REPLACE(guid,'$1','$2'); UPDATE postmeta SET value=REPLACE(value,'$1','$2'); COMMIT"; }
for _ in 1 2; do
  time "$h" rewrite "$site" --map $old=$new --yes >/dev/null
  command time -f "rewrite a live database: %M kB at its peak" "$h" rewrite "$site" --map $new=$old --yes >/dev/null
done
time "$h" rewrite "$site" --map $old=$new --plan >/dev/null
for _ in 1 2; do
  time replace $old $new
  time replace $new $old
done
fi

if wants postgres; then
pg="-h $HOVIX_TEST_POSTGRES_SOCKET -p $HOVIX_TEST_POSTGRES_PORT -U tester"
echo "== PostgreSQL: 150,000 posts with two addresses each, 1,500,000 serialized values, five secondary keys"
dropdb $pg --if-exists hovix_bench 2>/dev/null; createdb $pg hovix_bench
psql $pg -d hovix_bench -q <<SQL
CREATE TABLE posts (id serial PRIMARY KEY, title text, body text, created timestamptz DEFAULT now(), author int);
INSERT INTO posts (title, body, author) SELECT 'Title ' || g, '<p><a href="$old/' || g || '">more</a> ' || (SELECT string_agg(md5((g*40+k)::text) || ' the harbour', ' ') FROM generate_series(1,35) k) || ' <img src="$old/p.jpg"></p>', g % 100 FROM generate_series(1,150000) g;
CREATE INDEX ON posts (author, created); CREATE INDEX ON posts (title);
CREATE TABLE meta (id serial PRIMARY KEY, post int, key text, value text);
INSERT INTO meta (post, key, value) SELECT g % 150000, 'key_' || g % 20, CASE WHEN g % 5 = 0 THEN 'a:1:{s:3:"url";s:43:"$old/' || lpad(g::text, 8, '0') || 'xxx";}' ELSE md5(g::text) || md5((-g)::text) END FROM generate_series(1,1500000) g;
CREATE INDEX ON meta (post); CREATE INDEX ON meta (key, post); CREATE INDEX ON meta (value);
SQL
mkdir -p "$dir/pg"
where="postgres://tester@localhost:$HOVIX_TEST_POSTGRES_PORT/hovix_bench?socket=$HOVIX_TEST_POSTGRES_SOCKET"
printf 'address = "%s"\ndatabase = "%s"\n' "$old" "$where" > "$dir/pg/hovix.toml"
hyperfine -N -w 1 -r "$runs" --prepare "rm -f $dir/p.tar.zst; sync" --prepare "rm -f $dir/p.dump; sync" --prepare sync --export-json "$dir/pg.json" \
  -n 'hovix pack' "$h pack $dir/pg -o $dir/p.tar.zst -y" -n 'pg_dump -Fc' "pg_dump $pg -d hovix_bench -Fc -f $dir/p.dump" \
  -n 'pg_dump | zstd -3 -T2' "sh -c 'pg_dump $pg -d hovix_bench | zstd -3 -T2 -q -f -o $dir/p.sql.zst'" 2>/dev/null
ls -l "$dir"/p.tar.zst "$dir"/p.dump "$dir"/p.sql.zst | awk '{print $5, $9}'
again="dropdb $pg --if-exists hovix_bench_new 2>/dev/null; createdb $pg hovix_bench_new; rm -rf $dir/pgnew; sync"
to="--database '${where/hovix_bench?/hovix_bench_new?}'"
hyperfine -r 2 --prepare "$again" --export-json "$dir/pgload.json" \
  -n 'hovix restore, address changed' "$h restore $dir/p.tar.zst $dir/pgnew --url $new $to" \
  -n 'hovix restore, same address' "$h restore $dir/p.tar.zst $dir/pgnew --url $old $to" \
  -n 'pg_restore -j2' "pg_restore $pg -d hovix_bench_new -j2 $dir/p.dump" 2>/dev/null
fi

if wants crawl; then
echo "== following the links of 5,000 pages of 20 KB, served by nginx"
if [ ! -d "$dir/web" ]; then
  mkdir -p "$dir/web"
  awk -v dir="$dir/web" 'BEGIN {
    srand(7); for (i = 0; i < 3000; i++) word[i] = sprintf("%c%c%c%c%c", 97+rand()*26, 97+rand()*26, 97+rand()*26, 97+rand()*26, 97+rand()*26)
    for (p = 0; p < 5000; p++) {
      f = p ? sprintf("%s/page-%d.html", dir, p) : dir "/index.html"
      printf "<!doctype html><html lang=en><title>Page %d</title><nav>", p > f
      for (k = 0; k < 50; k++) printf "<a href=\"/page-%d.html\">page</a> ", (p*50+k)%4999+1 > f
      printf "</nav><main><h1>Page %d</h1>", p > f
      for (k = 0; k < 180; k++) { printf "<p>" > f; for (w = 0; w < 15; w++) printf "%s ", word[int(rand()*3000)] > f; printf "</p>\n" > f }
      close(f)
    } }'
fi
port=$(python3 -c 'import socket; s=socket.socket(); s.bind(("127.0.0.1",0)); print(s.getsockname()[1])')
printf 'pid %s/nginx.pid;\nerror_log %s/nginx.log;\nevents {}\nhttp { types { text/html html; } access_log %s/nginx.access; keepalive_requests 1000000; server { listen 127.0.0.1:%s; root %s/web; } }\n' "$dir" "$dir" "$dir" "$port" "$dir" > "$dir/nginx.conf"
chmod -R a+rX "$dir"
nginx -e "$dir/nginx.log" -c "$dir/nginx.conf"
hyperfine -N -w 1 -r "$runs" "$h redirects gather http://127.0.0.1:$port/ --at-once 8 -o $dir/pages.csv -y" 2>/dev/null
: > "$dir/nginx.access"
command time -f "gather: %e s, %M kB at its peak" "$h" redirects gather "http://127.0.0.1:$port/" --at-once 8 -o "$dir/pages.csv" -y
echo "addresses that were asked more than once:"
awk '{print $7}' "$dir/nginx.access" | sort | uniq -d
kill "$(cat "$dir/nginx.pid")"
fi

wants memory || exit 0
echo "== memory, the whole site"
command time -f "pack: %e s, %M kB at its peak" "$h" pack "$site" -o "$dir/all.tar.zst" -y >/dev/null
sh -c "$fresh"
command time -f "restore: %e s, %M kB at its peak" "$h" restore "$dir/all.tar.zst" "$dir/new" --url https://blog.new.example --database "mariadb://tester@localhost/hovix_bench_new?socket=$sock" >/dev/null
command time -f "inspect --check: %e s, %M kB at its peak" "$h" inspect "$dir/all.tar.zst" --check >/dev/null
