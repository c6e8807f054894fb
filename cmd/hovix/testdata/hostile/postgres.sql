## table: a default that runs a query given as text
CREATE TABLE "public"."a" ("b" text DEFAULT query_to_xml('SELECT 1', true, true, '')::text);
## table: a default that sleeps
CREATE TABLE "public"."a" ("b" text DEFAULT (pg_sleep(100))::text);
## table: a default that reads a file by a qualified, quoted name
CREATE TABLE "public"."a" ("b" text DEFAULT "pg_catalog"."pg_read_file"('/etc/passwd'));
## table: a default that imports a large object
CREATE TABLE "public"."a" ("b" text DEFAULT lo_import('/etc/passwd')::text);
## table: a default that gives away a number of another's sequence
CREATE TABLE "public"."a" ("b" text DEFAULT nextval('public.live_id_seq'::regclass)::text);
## table: a sequence that is named when it is asked for
CREATE TABLE "public"."a" ("b" text DEFAULT nextval(('live_id' || '_seq')::regclass)::text);
## table: a setting of the session
CREATE TABLE "public"."a" ("b" text DEFAULT set_config('search_path', 'evil', false));
## table: a setting that is read
CREATE TABLE "public"."a" ("b" text DEFAULT current_setting('data_directory'));
## table: a lock
CREATE TABLE "public"."a" ("b" text DEFAULT pg_advisory_lock(1)::text);
## table: another session is ended
CREATE TABLE "public"."a" ("b" text DEFAULT pg_terminate_backend(1)::text);
## table: a program by a check
CREATE TABLE "public"."a" ("b" text, CHECK (lo_export(1, '{file}') > 0));
## table: a generated column with a live function
CREATE TABLE "public"."a" ("b" text, c text GENERATED ALWAYS AS (public.live_function(b)) STORED);
## table: inherits from a live table
CREATE TABLE "public"."a" ("b" text) INHERITS (public.live);
## table: is a partition of a live table
CREATE TABLE "public"."a" PARTITION OF public.live DEFAULT;
## table: is like a live table
CREATE TABLE "public"."a" (LIKE public.live INCLUDING ALL);
## table: is of a live type
CREATE TABLE "public"."a" OF public.live_type;
## table: has a column of a live type
CREATE TABLE "public"."a" ("b" public.live_type);
## table: a key to a live table within the definition
CREATE TABLE "public"."a" ("b" text REFERENCES public.live (t));
## table: another tablespace
CREATE TABLE "public"."a" ("b" text) TABLESPACE pg_global;
## table: another access method
CREATE TABLE "public"."a" ("b" text) USING evil;
## table: rows at another server
CREATE FOREIGN TABLE "public"."a" ("b" text) SERVER s;
## table: in the catalog
CREATE TABLE "pg_catalog"."a" ("b" text);
## table: from a query
CREATE TABLE "public"."a" ("b") AS SELECT rolpassword FROM pg_authid;
## table!: two statements with a comment that nests
CREATE TABLE "public"."a" ("b" text /*/*/ ); DROP TABLE live; --*/*/ );
## table!: a text that goes on behind a line break, with backslashes
CREATE TABLE "public"."a" ("b" text DEFAULT E'x'
'\'); DROP TABLE live; --');
## table: a text in escapes behind an operator
CREATE TABLE "public"."a" ("b" text, CHECK ('a' =@E'\'); DROP TABLE live; --' IS NULL));
## table: a dollar quote behind a long tag
CREATE TABLE "public"."a" ("b" text DEFAULT $aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa$'$aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa$); DROP TABLE live; --');
## table: a number that runs into a text in escapes
CREATE TABLE "public"."a" ("b" text DEFAULT 1E'\'); DROP TABLE live; --');
## table: a name in escapes
CREATE TABLE "public"."a" ("b" text DEFAULT U&"\0070g_read_file"('/etc/passwd'));
## table: a row level policy behind it
CREATE TABLE "public"."a" ("b" text); CREATE POLICY p ON a USING (pg_sleep(1) IS NULL);
## table: another name than the manifest's
CREATE TABLE "public"."live" ("b" text);
## rows: rows that end early
COPY "public"."a" ("b") FROM stdin;
x
\.
DROP TABLE public.live;
\.
## rows: a query that is copied
COPY (SELECT pg_read_file('/etc/passwd')) TO stdin;
\.
## rows: rows with a header option
COPY "public"."a" ("b") FROM stdin WITH (FORMAT csv, HEADER);
x
\.
## rows: rows where a condition holds
COPY "public"."a" ("b") FROM stdin WHERE pg_sleep(9) IS NULL;
x
\.
## rows: rows of a catalog
COPY "pg_catalog"."pg_authid" ("rolname") FROM stdin;
x
\.
## rows: rows that are inserted
INSERT INTO "public"."a" VALUES (pg_read_file('/etc/passwd'));
## end: a key that calls a function
CREATE INDEX i ON "public"."a" (pg_read_file(b));
-- rows: 1
## end: a key over a live function
CREATE INDEX i ON "public"."a" (public.live_function(b));
-- rows: 1
## end: a key with a condition
CREATE INDEX i ON "public"."a" (b) WHERE (SELECT count(*) FROM pg_sleep(100)) > 0;
-- rows: 1
## end: a key of a live table
CREATE INDEX i ON public.live (t);
-- rows: 1
## end: a constraint of a live table
ALTER TABLE public.live ADD CONSTRAINT c CHECK (false) NOT VALID;
-- rows: 1
## end: an exclusion with an operator of a live function
ALTER TABLE "public"."a" ADD CONSTRAINT c EXCLUDE USING btree (b WITH OPERATOR(public.===));
-- rows: 1
## end: a key in another tablespace
CREATE INDEX i ON "public"."a" (b) TABLESPACE pg_global;
-- rows: 1
## end: a key in the background
CREATE INDEX CONCURRENTLY i ON "public"."a" (b);
-- rows: 1
## end: a class of operators of somebody's
CREATE INDEX i ON "public"."a" USING btree (b public.evil_ops);
-- rows: 1
## objects: a file in a view
CREATE VIEW "public"."v" AS SELECT pg_read_file('/etc/passwd');
## objects: a file in a view, by an operator's way to call functions
CREATE VIEW "public"."v" AS SELECT (ARRAY['/etc/passwd'])[1]::regproc, pg_stat_file('/etc/passwd');
## objects: a live table in a view
CREATE VIEW "public"."v" AS SELECT * FROM public.live;
## objects: a live table in a subquery of a view
CREATE VIEW "public"."v" AS SELECT (SELECT max(t) FROM ONLY public.live) AS t;
## objects: a live table in WITH
CREATE VIEW "public"."v" AS WITH a AS (SELECT 1), live AS (SELECT 2) SELECT * FROM (WITH x AS (SELECT * FROM public.live) SELECT * FROM x) y;
## objects: a name that WITH gave elsewhere
CREATE VIEW "public"."v" AS SELECT * FROM (WITH live AS (SELECT 1) SELECT * FROM live) x, live;
## objects: passwords in a view
CREATE VIEW "public"."v" AS SELECT rolname, rolpassword FROM pg_catalog.pg_authid;
## objects: passwords in a view, without the schema
CREATE VIEW "public"."v" AS SELECT rolname, rolpassword FROM pg_authid;
## objects: secrets in the information schema
CREATE VIEW "public"."v" AS SELECT * FROM information_schema.user_mapping_options;
## objects: a command that is a query
CREATE VIEW "public"."v" AS TABLE public.live;
## objects: rows that are deleted by WITH
CREATE MATERIALIZED VIEW "public"."v" AS WITH x AS (DELETE FROM public.live RETURNING *) SELECT * FROM x;
## objects: rows that are locked
CREATE VIEW "public"."v" AS SELECT b FROM public.a FOR UPDATE;
## objects: a table that is made by a query
CREATE VIEW "public"."v" AS SELECT b INTO public.b FROM public.a;
## objects: a sample by a live method
CREATE VIEW "public"."v" AS SELECT b FROM public.a TABLESAMPLE public.evil(1);
## objects: rows of a function that runs a text
CREATE VIEW "public"."v" AS SELECT * FROM crosstab('SELECT 1,2,3') AS t(a int, b int, c int);
## objects: rows of another server
CREATE VIEW "public"."v" AS SELECT * FROM dblink('dbname=x', 'SELECT 1') AS t(a int);
## objects: rows of a function of the server's state
CREATE VIEW "public"."v" AS SELECT * FROM ROWS FROM (pg_ls_dir('/') AS (n text));
## objects: XML that runs a query
CREATE VIEW "public"."v" AS SELECT table_to_xml('public.live'::regclass, true, true, '');
## objects: statistics of a text
CREATE MATERIALIZED VIEW "public"."v" AS SELECT * FROM ts_stat('SELECT 1');
## objects: a rewrite of a text search by a query
CREATE MATERIALIZED VIEW "public"."v" AS SELECT ts_rewrite('a'::tsquery, 'SELECT t,t FROM live');
## objects: a large object
CREATE MATERIALIZED VIEW "public"."v" AS SELECT lo_from_bytea(0, 'x');
## objects: a view that takes another's place
CREATE OR REPLACE VIEW public.live_view AS SELECT b FROM public.live;
## objects: a temporary view
CREATE TEMP VIEW "v" AS SELECT 1;
## objects: a view with two statements
CREATE VIEW "public"."v" AS SELECT 1 AS x \; DROP TABLE public.live;
## objects: a domain that calls a function
CREATE DOMAIN "public"."d" AS text CHECK (pg_read_file(VALUE) IS NULL);
## objects: a domain over a live type
CREATE DOMAIN "public"."d" AS public.live_type;
## objects: a base type with functions
CREATE TYPE "public"."t" (INPUT = textin, OUTPUT = textout);
## objects: a range with a function to make it canonical
CREATE TYPE "public"."t" AS RANGE (subtype = float8, canonical = public.live_function);
## objects: a range with the difference of a live function
CREATE TYPE "public"."t" AS RANGE (subtype = float8, subtype_diff = public.live_function);
## objects: a composite type of a live type
CREATE TYPE "public"."t" AS (x public.live_type);
## objects: a library
CREATE FUNCTION "public"."f"(text) RETURNS int LANGUAGE c AS '/lib/x86_64-linux-gnu/libc.so.6', 'system';
## objects: a function of the server under another name
CREATE FUNCTION "public"."f"(text) RETURNS text LANGUAGE internal AS 'pg_read_file';
## objects: a language that reaches out
CREATE FUNCTION "public"."f"() RETURNS text LANGUAGE plpython3u AS 'import os';
## objects: a function with the rights of its owner
CREATE FUNCTION "public"."f"() RETURNS int LANGUAGE sql SECURITY DEFINER AS 'SELECT 1';
## objects: a block
DO LANGUAGE plpgsql $$BEGIN DELETE FROM live; END$$;
## objects: a trigger on a live table
CREATE TRIGGER t BEFORE INSERT ON public.live FOR EACH ROW EXECUTE FUNCTION suppress_redundant_updates_trigger();
## objects: a trigger with a live function
CREATE TRIGGER t BEFORE INSERT ON public.a FOR EACH ROW EXECUTE FUNCTION public.live_function();
## objects: a rule that makes a table a view
CREATE RULE "_RETURN" AS ON SELECT TO public.a DO INSTEAD SELECT b FROM public.live;
## objects: a rule on a live table
CREATE RULE r AS ON INSERT TO public.live DO INSTEAD NOTHING;
## objects: an event trigger
CREATE EVENT TRIGGER e ON ddl_command_end EXECUTE FUNCTION public.live_function();
## objects: an extension that reads files
CREATE EXTENSION file_fdw;
## objects: an extension that writes files
CREATE EXTENSION adminpack;
## objects: an extension that reaches other servers
CREATE EXTENSION dblink WITH SCHEMA public;
## objects: an extension of a version
CREATE EXTENSION hstore VERSION '1.4' CASCADE;
## objects: a language
CREATE LANGUAGE plperlu;
## objects: an operator
CREATE OPERATOR public.=== (LEFTARG = text, RIGHTARG = text, FUNCTION = texteq);
## objects: a cast
CREATE CAST (text AS int) WITH INOUT AS IMPLICIT;
## objects!: an aggregate
CREATE AGGREGATE public.g (text) (SFUNC = textcat, STYPE = text);
## objects!: a collation of a library
CREATE COLLATION public.c (provider = icu, locale = 'x');
## objects: a publication of everything
CREATE PUBLICATION p FOR ALL TABLES;
## objects: a subscription
CREATE SUBSCRIPTION s CONNECTION 'host=127.0.0.1' PUBLICATION p;
## objects: a server
CREATE SERVER s FOREIGN DATA WRAPPER w;
## objects: a role
CREATE USER evil SUPERUSER PASSWORD 'x';
## objects: a database
CREATE DATABASE evil;
## objects: a tablespace
CREATE TABLESPACE evil LOCATION '/tmp';
## objects: a schema with an owner
CREATE SCHEMA evil AUTHORIZATION postgres;
## objects: a schema with what is in it
CREATE SCHEMA evil CREATE TABLE t (a int);
## objects: a schema of the server
CREATE SCHEMA pg_evil;
## objects: another owner
ALTER TABLE public.a OWNER TO postgres;
## objects: another owner of the database
ALTER DATABASE postgres OWNER TO postgres;
## objects: a setting of the database
ALTER DATABASE postgres SET search_path = evil;
## objects: a setting of a role
ALTER ROLE postgres SET search_path = evil;
## objects: a setting of the server
ALTER SYSTEM SET archive_command = 'touch {file}';
## objects: a column of a live table
ALTER TABLE public.live ALTER COLUMN t SET STATISTICS 0;
## objects: a live table goes
ALTER TABLE public.live RENAME TO gone;
## objects: triggers of a live table are off
ALTER TABLE public.live DISABLE TRIGGER ALL;
## objects: all triggers are off
ALTER TABLE public.a DISABLE TRIGGER ALL;
## objects: another schema
ALTER TABLE public.a SET SCHEMA pg_catalog;
## objects: another tablespace of all
ALTER TABLE ALL IN TABLESPACE pg_default SET TABLESPACE pg_global;
## objects: another parent
ALTER TABLE public.a INHERIT public.live;
## objects: a live table becomes a partition
ALTER TABLE public.a ATTACH PARTITION public.live DEFAULT;
## objects: bounds that call a function
ALTER TABLE public.a ATTACH PARTITION public.a FOR VALUES IN (pg_read_file('/etc/passwd'));
## objects: two changes in one
ALTER TABLE public.a CLUSTER ON i, DROP COLUMN b;
## objects: a sequence of a live column
ALTER SEQUENCE public.live_id_seq OWNED BY public.a.b;
## objects: a sequence is owned by a live column
CREATE SEQUENCE public.s OWNED BY public.live.t;
## objects: a comment on a live table
COMMENT ON TABLE public.live IS 'evil';
## objects: a comment on a role
COMMENT ON ROLE postgres IS 'evil';
## objects: a comment on the database
COMMENT ON DATABASE postgres IS 'evil';
## objects: a comment that is a query
COMMENT ON TABLE public.a IS (SELECT 1);
## objects: a label of a security provider
SECURITY LABEL FOR p ON TABLE public.a IS 'x';
## objects: statistics of a live table
CREATE STATISTICS public.s ON t, id FROM public.live;
## objects: statistics that call a function
CREATE STATISTICS public.s ON (pg_read_file(b)), b FROM public.a;
## objects: rows of a live view are made anew
REFRESH MATERIALIZED VIEW public.live_mat;
## objects: rights
GRANT ALL ON SCHEMA public TO PUBLIC;
## objects: rights by default
ALTER DEFAULT PRIVILEGES GRANT ALL ON TABLES TO PUBLIC;
## objects: another identity
SET ROLE postgres; CREATE VIEW "public"."v" AS SELECT * FROM public.live;
## objects: a query
SELECT pg_reload_conf();
## objects: a call
CALL public.live_procedure();
## objects: what was prepared
PREPARE p AS DELETE FROM live; EXECUTE p;
## objects: a message
NOTIFY x;
## objects: a file of the server
LOAD '/tmp/x.so';
## objects: rows into a program
COPY public.a TO PROGRAM 'touch {file}';
## objects: an old way to reach a function of many names
CREATE VIEW "public"."v" AS SELECT pg_catalog . "pg_ls_dir" ( '.' );
## objects: a command for the client
\! touch {file}
## last!: the position of a live sequence, of which the archive has no copy
SELECT pg_catalog.setval('public.live_id_seq', 1, false);
## last: the position of a sequence by a query
SELECT pg_catalog.setval((SELECT 'public.live_id_seq'), 1, true);
## last: a position and more
SELECT pg_catalog.setval('public.a', 1, true), pg_sleep(100);
## last: a query from a table
SELECT pg_catalog.setval('public.a', 1, true) FROM pg_sleep(100);
## last: something else
DELETE FROM public.live;
