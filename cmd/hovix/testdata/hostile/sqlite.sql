## table: a library in a default
CREATE TABLE a (b TEXT DEFAULT (load_extension('/tmp/x.so')));
## table: a file in a check
CREATE TABLE a (b TEXT CHECK (writefile('{file}', 'x')));
## table: a file in a generated column
CREATE TABLE a (b TEXT, c AS (readfile('/etc/passwd')));
## table: an editor
CREATE TABLE a (b TEXT DEFAULT (edit('x', 'touch {file}')));
## table!: a virtual table
CREATE VIRTUAL TABLE a USING fts5(b);
## table: a virtual table that reads a file
CREATE VIRTUAL TABLE a USING csv(filename='/etc/passwd');
## table: from a query
CREATE TABLE a AS SELECT * FROM sqlite_master;
## table: a temporary one
CREATE TEMP TABLE a (b TEXT);
## table: in another database
CREATE TABLE other.a (b TEXT);
## table: of the schema
CREATE TABLE sqlite_stat1 (b TEXT);
## table: two statements
CREATE TABLE a (b TEXT); ATTACH '{file}' AS x;
## table: a NUL byte
CREATE TABLE a (b TEXT DEFAULT 'x') WITHOUT evil;
## rows: a function
INSERT INTO "a" ("b") VALUES (readfile('/etc/passwd'));
## rows: a cast of a query
INSERT INTO "a" ("b") VALUES (CAST((SELECT 1) AS TEXT));
## rows: a replacement of a function
INSERT INTO "a" ("b") VALUES (replace(readfile('/etc/passwd'),'\n',char(10)));
## rows: rows of the schema
INSERT INTO "sqlite_master" ("b") VALUES ('x');
## rows: rows that replace
INSERT OR REPLACE INTO "a" ("b") VALUES ('x');
## rows: what is done where a key repeats
INSERT INTO "a" ("b") VALUES ('x') ON CONFLICT DO UPDATE SET b=readfile('/x');
## rows: what is given back
INSERT INTO "a" ("b") VALUES ('x') RETURNING load_extension('x');
## rows: another file
ATTACH DATABASE '{file}' AS x;
## end: a key that calls a function
CREATE INDEX i ON a (load_extension(b));
-- rows: 1
## end: a key with a condition
CREATE INDEX i ON a (b) WHERE readfile(b) IS NOT NULL;
-- rows: 1
## end: a key of another table
CREATE INDEX i ON other (b);
-- rows: 1
## objects: a file in a view
CREATE VIEW v AS SELECT readfile('/etc/passwd');
## objects: the schema in a view
CREATE VIEW v AS SELECT * FROM sqlite_master;
## objects: the schema in a view, by its other name
CREATE VIEW v AS SELECT * FROM main.sqlite_schema;
## objects: settings in a view
CREATE VIEW v AS SELECT * FROM pragma_database_list;
## objects: settings in a view, as a function
CREATE VIEW v AS SELECT * FROM pragma_journal_mode('wal');
## objects: a file in rows of a function
CREATE VIEW v AS SELECT * FROM fsdir('/');
## objects: pages in a view
CREATE VIEW v AS SELECT * FROM dbstat;
## objects: a table in an expression
CREATE VIEW v AS SELECT 1 IN sqlite_master;
## objects: a table that is not there
CREATE VIEW v AS SELECT * FROM other;
## objects: another file's table
CREATE VIEW v AS SELECT * FROM other.a;
## objects: a temporary view
CREATE TEMP VIEW v AS SELECT 1;
## objects: a trigger
CREATE TRIGGER t AFTER INSERT ON a BEGIN DELETE FROM a; END;
## objects: a view and more
CREATE VIEW v AS SELECT 1; PRAGMA writable_schema=1; INSERT INTO sqlite_master VALUES ('x','x','x',0,'x');
## objects: another file
VACUUM INTO '{file}';
## objects: statistics
ANALYZE;
## objects: another name
ALTER TABLE a RENAME TO sqlite_evil;
## last: rows of a table
INSERT INTO a VALUES ('x');
## last: a position by a query
INSERT INTO sqlite_sequence (name,seq) VALUES ('a',(SELECT 1));
