## table: a default that reads a file
CREATE TABLE `a` (`b` text DEFAULT (load_file('/etc/passwd')));
## table: a default that waits
CREATE TABLE `a` (`b` text DEFAULT (sleep(100)));
## table: a default that holds the server up
CREATE TABLE `a` (`b` text DEFAULT (benchmark(1000000000, md5('x'))));
## table: a default with a lock
CREATE TABLE `a` (`b` text DEFAULT (get_lock('x', 100)));
## table: a default from a query
CREATE TABLE `a` (`b` text DEFAULT ((SELECT password FROM mysql.user LIMIT 1)));
## table: a default of a live sequence
CREATE TABLE `a` (`b` text DEFAULT (nextval(`live_seq`)));
## table: a default of another database's sequence
CREATE TABLE `a` (`b` text DEFAULT (NEXT VALUE FOR mysql.s));
## table: a default of a function that the server has loaded
CREATE TABLE `a` (`b` text DEFAULT (sys_exec('touch {file}')));
## table: a generated column that reads a file
CREATE TABLE `a` (`b` text, c text GENERATED ALWAYS AS (load_file(b)) VIRTUAL);
## table: a check with a variable
CREATE TABLE `a` (`b` text CHECK (@@global.general_log = 0));
## table: a check that sets a variable
CREATE TABLE `a` (`b` text CHECK (@x := 1));
## table: a folder of the server
CREATE TABLE `a` (`b` text) ENGINE=MyISAM DATA DIRECTORY='/tmp' INDEX DIRECTORY='/tmp';
## table: a folder of the server for a partition
CREATE TABLE `a` (`b` text, i int) PARTITION BY HASH (i) (PARTITION p0 DATA DIRECTORY '/tmp');
## table: a folder of the server for a part of a partition
CREATE TABLE `a` (`b` text, i int) PARTITION BY RANGE (i) SUBPARTITION BY HASH (i) (PARTITION p0 VALUES LESS THAN (1) (SUBPARTITION s0 INDEX DIRECTORY = '/tmp'));
## table: bounds that read a file
CREATE TABLE `a` (`b` text, i int) PARTITION BY LIST (i) (PARTITION p0 VALUES IN (load_file('/etc/passwd')));
## table: rows at another server
CREATE TABLE `a` (`b` text) ENGINE=FEDERATED CONNECTION='mysql://root@127.0.0.1/mysql/user';
## table: rows in a file of the server
CREATE TABLE `a` (`b` text) ENGINE=CONNECT TABLE_TYPE=DOS FILE_NAME='/etc/passwd';
## table: rows in a file of the server, engine in quotes
CREATE TABLE `a` (`b` text) ENGINE='CSV';
## table: rows nowhere
CREATE TABLE `a` (`b` text) ENGINE=BLACKHOLE;
## table: rows of live tables
CREATE TABLE `a` (`b` text) ENGINE=MERGE UNION=(`live`) INSERT_METHOD=LAST;
## table: rows of another server by shards
CREATE TABLE `a` (`b` text) ENGINE=SPIDER COMMENT='wrapper "mysql"';
## table: an engine behind a comment
CREATE TABLE `a` (`b` text) /*!50000 ENGINE */ /*M!100000 = FEDERATED */ CONNECTION='x';
## table: like a live table
CREATE TABLE `a` LIKE `live`;
## table: from a query
CREATE TABLE `a` (`b` text) SELECT `t` AS `b` FROM `live`;
## table: from a query that replaces
CREATE TABLE `a` (`b` text) REPLACE AS SELECT `t` AS `b` FROM `live`;
## table: that takes another's place
CREATE OR REPLACE TABLE `live` (`b` text);
## table: a temporary one
CREATE TEMPORARY TABLE `a` (`b` text);
## table: in another database
CREATE TABLE `mysql`.`a` (`b` text);
## table: with the name of a live one
CREATE TABLE `live` (`b` text);
## table: a key to another database
CREATE TABLE `a` (`b` text, i int, CONSTRAINT c FOREIGN KEY (i) REFERENCES `mysql`.`user` (`host`)) ENGINE=InnoDB;
## table: a key to a live table
CREATE TABLE `a` (`b` text, i int, KEY (i), CONSTRAINT c FOREIGN KEY (i) REFERENCES `live` (`id`) ON DELETE CASCADE) ENGINE=InnoDB;
## table: a key with a parser of a plugin
CREATE TABLE `a` (`b` text, FULLTEXT KEY (b) WITH PARSER evil);
## table: a key over an expression that reads a file
CREATE TABLE `a` (`b` text, KEY k ((load_file(b))));
## table: a comment of dashes and a control byte
CREATE TABLE `a` (`b` text) COMMENT 'x' --; DROP TABLE live
## table: two statements behind a text with a backslash
CREATE TABLE `a` (`b` text DEFAULT 'x\\'); DROP TABLE `live`; -- ');
## table: a mode that ends texts elsewhere
SET sql_mode='NO_BACKSLASH_ESCAPES'; CREATE TABLE `a` (`b` text DEFAULT '\'); DROP TABLE `live`; -- ');
## table: names in double quotes
SET sql_mode='ANSI_QUOTES'; CREATE TABLE "a" ("b" text DEFAULT "load_file");
## table: a comment in a comment that is executed
CREATE TABLE `a` (`b` text /*! /*! , c text DEFAULT (load_file('/x')) */ */ );
## rows: a file
INSERT INTO `a` (`b`) VALUES (LOAD_FILE('/etc/passwd'));
## rows: a variable
INSERT INTO `a` (`b`) VALUES (@@datadir);
## rows: a user's variable
INSERT INTO `a` (`b`) VALUES (@x);
## rows: a query in the place of rows
INSERT INTO `a` (`b`) SELECT authentication_string FROM mysql.user;
## rows: what is done where a key repeats
INSERT INTO `a` (`b`) VALUES ('x') ON DUPLICATE KEY UPDATE b=SLEEP(10);
## rows: what is given back
INSERT INTO `a` (`b`) VALUES ('x') RETURNING SLEEP(10);
## rows: rows that are set
INSERT INTO `a` SET b=LOAD_FILE('/etc/passwd');
## rows: rows into a partition
INSERT INTO `a` PARTITION (p0) (`b`) VALUES ('x');
## rows: rows that replace
REPLACE INTO `a` (`b`) VALUES ('x');
## rows: a file of the client
LOAD DATA LOCAL INFILE '/etc/passwd' INTO TABLE `a`;
## rows: a file of the server
LOAD DATA INFILE '/etc/passwd' INTO TABLE `a`;
## rows: a comment among the rows
INSERT INTO `a` (`b`) VALUES ('x') /*!99999 ,(LOAD_FILE('/etc/passwd')) */;
## rows: dashes and a control byte
INSERT INTO `a` (`b`) VALUES ('x') --,('y');
## rows: a default
INSERT INTO `a` (`b`) VALUES (DEFAULT(b));
## rows: rows of the server's own
INSERT INTO `mysql`.`user` (`b`) VALUES ('x');
## end: a key of a live table
ALTER TABLE `live` ADD KEY (`id`);
-- rows: 1
## end: rows that are deleted
DELETE FROM `live`;
-- rows: 1
## end: keys that are made outside
CREATE INDEX i ON `live` (`id`);
-- rows: 1
## objects: passwords in a view
CREATE VIEW `v` AS SELECT User, Password FROM mysql.user;
## objects: a live table in a view
CREATE VIEW `v` AS SELECT * FROM `live`;
## objects: a live table in a join of a view
CREATE VIEW `v` AS SELECT 1 FROM (`a` JOIN (`a` x LEFT JOIN `live` ON (1 = 1)));
## objects: a live table in an expression
CREATE VIEW `v` AS SELECT b IN (SELECT t FROM `live`) AS x FROM `a`;
## objects: secrets in the information schema
CREATE VIEW `v` AS SELECT * FROM information_schema.PROCESSLIST;
## objects: what others run
CREATE VIEW `v` AS SELECT * FROM performance_schema.threads;
## objects: a file in a view
CREATE VIEW `v` AS SELECT LOAD_FILE('/etc/passwd') AS x;
## objects: a file in a view, by a name in quotes
CREATE VIEW `v` AS SELECT `LOAD_FILE`('/etc/passwd') AS x;
## objects: a function that the server has loaded
CREATE VIEW `v` AS SELECT sys_exec('id') AS x;
## objects: a function of another database
CREATE VIEW `v` AS SELECT sys.format_path('x') AS x;
## objects: a file that is written
CREATE VIEW `v` AS SELECT 'x' INTO OUTFILE '{file}';
## objects: a file that is written, with another order
CREATE VIEW `v` AS SELECT 'x' INTO DUMPFILE '{file}' FROM `a`;
## objects: an analysis
CREATE VIEW `v` AS SELECT b FROM `a` PROCEDURE ANALYSE();
## objects: rows that are locked
CREATE VIEW `v` AS SELECT b FROM `a` FOR UPDATE;
## objects: rows that are locked in another way
CREATE VIEW `v` AS SELECT b FROM `a` LOCK IN SHARE MODE;
## objects: rows of a document
CREATE VIEW `v` AS SELECT * FROM JSON_TABLE(LOAD_FILE('/x'), '$[*]' COLUMNS (a INT PATH '$')) t;
## objects: a view in another's name
CREATE DEFINER=`root`@`localhost` SQL SECURITY DEFINER VIEW `v` AS SELECT 1;
## objects: a view in another database
CREATE VIEW `mysql`.`v` AS SELECT 1;
## objects: a view in a live one's place
CREATE OR REPLACE VIEW `live_view` AS SELECT * FROM `live`;
## objects: a view and more
CREATE VIEW `v` AS SELECT 1 AS x; DROP TABLE `live`;
## objects: a view and more behind a comment
CREATE VIEW `v` AS SELECT 1 AS x /*! */; /*!50000 DROP TABLE `live` */;
## objects: another end of statements
DELIMITER //
CREATE VIEW `v` AS SELECT 1 AS x; DROP TABLE `live` //
DELIMITER ;
## objects: a trigger on a live table
DELIMITER ;;
CREATE TRIGGER `t` BEFORE INSERT ON `live` FOR EACH ROW SET NEW.t = 'evil';;
DELIMITER ;
## objects: a library
CREATE FUNCTION sys_exec RETURNS INT SONAME 'lib_mysqludf_sys.so';
## objects: a library, once more
CREATE OR REPLACE AGGREGATE FUNCTION sys_exec RETURNS INT SONAME 'x.so';
## objects: a package
CREATE PACKAGE p AS PROCEDURE x(); END;
## objects: a sequence in another database
CREATE SEQUENCE `mysql`.`s` START WITH 1;
## objects: a sequence in an engine that reaches out
CREATE SEQUENCE `s` START WITH 1 ENGINE=FEDERATED;
## objects: a server
CREATE SERVER s FOREIGN DATA WRAPPER mysql OPTIONS (HOST '127.0.0.1');
## objects: an account
CREATE USER evil IDENTIFIED BY 'x';
## objects: a role
CREATE ROLE evil;
## objects: a right
GRANT ALL ON *.* TO CURRENT_USER;
## objects: a password
SET PASSWORD = PASSWORD('x');
## objects: a setting of the server
SET GLOBAL general_log_file = '{file}';
## objects: a plugin
INSTALL SONAME 'ha_connect';
## objects: a database
CREATE DATABASE evil;
## objects: a database of another charset
ALTER DATABASE CHARACTER SET latin1;
## objects: another name
RENAME TABLE `live` TO `gone`;
## objects: what was prepared
PREPARE p FROM 'DROP TABLE live'; EXECUTE p;
## objects: at once
EXECUTE IMMEDIATE 'DROP TABLE live';
## objects: a block
BEGIN NOT ATOMIC DROP TABLE live; END;
## objects: a call
CALL sys.diagnostics(1, 1, 'current');
## objects: a handler
HANDLER `live` OPEN;
## objects: tables that are flushed
FLUSH TABLES WITH READ LOCK;
## objects: a session that ends
KILL 1;
## objects: a mode that is none
SET sql_mode='x'' , global general_log=1';
## last: a query
SELECT SLEEP(100);
## last: the position of a live sequence
DO SETVAL(`live_seq`, 1, 0);
## last: the position and more
DO SETVAL(`a`, 1, 0), SLEEP(100);
## last: the position of another database's
DO SETVAL(`mysql`.`s`, 1, 0);
## last: rows
INSERT INTO `live` VALUES (1, 'evil');
