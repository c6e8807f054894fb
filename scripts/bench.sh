#!/usr/bin/env bash
# Measures whole commands beside the tools that do the same by hand, in one run.
# Needs hyperfine, zstd, GNU time and a MariaDB for tests:
#
#   scripts/servers.sh start /tmp/bench-servers > /tmp/bench.env && . /tmp/bench.env
#   scripts/bench.sh /tmp/bench
#   scripts/servers.sh stop /tmp/bench-servers
#
# Before each run what the run before wrote goes to the disk, so that no one pays
# for the other.
set -euo pipefail
cd "$(dirname "$0")/.."
dir=$1
runs=${2:-5}
sock=$HOVIX_TEST_MARIADB_SOCKET
sql() { mariadb --no-defaults -S "$sock" -utester -ptest-password "$@"; }
export HOVIX_DATABASE_PASSWORD=test-password
make --no-print-directory build
h=$PWD/bin/hovix

if [ ! -d "$dir/site" ]; then
  mkdir -p "$dir"
  sql -e 'DROP DATABASE IF EXISTS hovix_bench; CREATE DATABASE hovix_bench'
  go run ./internal/testenv/benchsite "$dir/site" 1700 200000 "$sock" hovix_bench
fi
site=$dir/site
echo "== the site: $(du -sm "$site" | cut -f1) MB of files; the database:"
sql -N -e "SELECT COUNT(*), 'tables,', SUM(TABLE_ROWS), 'rows,', SUM(DATA_LENGTH+INDEX_LENGTH)>>20, 'MB' FROM information_schema.TABLES WHERE TABLE_SCHEMA='hovix_bench'"

echo "== files"
hyperfine -N -w 1 -r "$runs" --prepare sync --export-json "$dir/pipe.json" \
  -n 'hovix pack, to a pipe' "sh -c '$h pack $site --parts uploads,code -o - -y | cat >/dev/null'" \
  -n 'tar | zstd -3 -T2, to a pipe' "sh -c 'tar -C $site -cf - . | zstd -3 -T2 -q | cat >/dev/null'" 2>/dev/null
hyperfine -N -w 1 -r "$runs" --prepare "rm -f $dir/f.tar.zst; sync" --prepare "rm -f $dir/f2.tar.zst; sync" --export-json "$dir/files.json" \
  -n 'hovix pack' "$h pack $site --parts uploads,code -o $dir/f.tar.zst -y" \
  -n 'tar | zstd -3 -T2' "sh -c 'tar -C $site -cf - . | zstd -3 -T2 -q -f -o $dir/f2.tar.zst'" 2>/dev/null
ls -l "$dir"/f.tar.zst "$dir"/f2.tar.zst | awk '{print $5, $9}'

echo "== database, packing"
hyperfine -N -w 1 -r "$runs" --prepare "rm -f $dir/d.tar.zst; sync" --prepare "rm -f $dir/d2.sql.zst; sync" --export-json "$dir/db.json" \
  -n 'hovix pack' "$h pack $site --parts database,settings -o $dir/d.tar.zst -y" \
  -n 'mariadb-dump | zstd -3 -T2' "sh -c 'mariadb-dump --no-defaults --single-transaction --quick -S $sock -utester -ptest-password hovix_bench | zstd -3 -T2 -q -f -o $dir/d2.sql.zst'" 2>/dev/null
ls -l "$dir"/d.tar.zst "$dir"/d2.sql.zst | awk '{print $5, $9}'

echo "== database, restoring (with addresses rewritten by hovix, without by mariadb)"
zstd -dqf "$dir/d2.sql.zst" -o "$dir/d.sql"
fresh="mariadb --no-defaults -S $sock -utester -ptest-password -e 'DROP DATABASE IF EXISTS hovix_bench_new; CREATE DATABASE hovix_bench_new'; rm -rf $dir/new"
hyperfine -r 2 --prepare "$fresh" --export-json "$dir/load.json" \
  -n 'hovix restore' "$h restore $dir/d.tar.zst $dir/new --url https://blog.new.example --database 'mariadb://tester@localhost/hovix_bench_new?socket=$sock'" \
  -n 'mariadb < dump.sql' "mariadb --no-defaults -S $sock -utester -ptest-password hovix_bench_new < $dir/d.sql" 2>/dev/null

echo "== the dump, its address changed"
address=$(grep -o -m1 'http://[a-z.-]*\.example' "$dir/d.sql" | head -1)
hyperfine -N -w 1 -r "$runs" --export-json "$dir/rewrite.json" \
  -n 'hovix rewrite' "$h rewrite $dir/d.sql --map $address=https://blog.new.example -o $dir/d3.sql -y" \
  -n 'sed' "sh -c \"LC_ALL=C sed 's#$address#https://blog.new.example#g' $dir/d.sql > $dir/d4.sql\"" 2>/dev/null
php internal/rewrite/testdata/serialized.php
go test -run xxx -bench Metadata ./internal/rewrite | grep Benchmark

echo "== memory, the whole site"
command time -f "pack: %e s, %M kB at its peak" "$h" pack "$site" -o "$dir/all.tar.zst" -y >/dev/null
sh -c "$fresh"
command time -f "restore: %e s, %M kB at its peak" "$h" restore "$dir/all.tar.zst" "$dir/new" --url https://blog.new.example --database "mariadb://tester@localhost/hovix_bench_new?socket=$sock" >/dev/null
command time -f "inspect --check: %e s, %M kB at its peak" "$h" inspect "$dir/all.tar.zst" --check >/dev/null
