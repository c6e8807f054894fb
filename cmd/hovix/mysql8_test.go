package main_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/testenv"
)

// mysql8 is a dump in the words of MySQL 8.0's own client, with what MariaDB says in others
// or not at all.
const mysql8 = "-- MySQL dump 10.13  Distrib 8.0.36, for Linux (x86_64)\n/*!50503 SET NAMES utf8mb4 */;\n" +
	"CREATE TABLE `a` (\n  `id` int NOT NULL AUTO_INCREMENT,\n  `t` varchar(50) COLLATE utf8mb4_0900_ai_ci DEFAULT NULL,\n  `hid` int DEFAULT '7' /*!80023 INVISIBLE */,\n  PRIMARY KEY (`id`),\n" +
	"  KEY `low` ((lower(`t`))),\n  KEY `inv` (`t`) /*!80000 INVISIBLE */,\n  CONSTRAINT `loose` CHECK ((`id` > 5)) /*!80016 NOT ENFORCED */\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci;\n" +
	"INSERT INTO `a` (`id`, `t`, `hid`) VALUES (1,'http://old.example/x',8),(2,'b',9);\n" +
	"CREATE TABLE `g` (\n  `id` int NOT NULL,\n  `p` point NOT NULL /*!80003 SRID 4326 */,\n  `d` json DEFAULT (json_array()),\n  PRIMARY KEY (`id`),\n  SPATIAL KEY `p` (`p`)\n) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_0900_ai_ci;\n" +
	"INSERT INTO `g` VALUES (1,0xE61000000101000000000000000000F03F0000000000000040,'[]');\n-- Dump completed\n"

// TestDumpOfMySQL8: such a dump becomes a database of MariaDB; what that has not is named
// when it is packed, and left out.
func TestDumpOfMySQL8(t *testing.T) {
	folder, file := filepath.Join(t.TempDir(), "site"), filepath.Join(t.TempDir(), "a.tar.zst")
	siteFile(t, folder, `name = "x"`, `address = "http://old.example"`)
	packed := ok(t, testenv.Hovix(t, "pack", "--files", folder, "--dump", write(t, filepath.Join(t.TempDir(), "d.sql"), []byte(mysql8)), "-o", file))
	assert.Contains(t, packed.Out, "leaves out: the key low of a, which is over an expression; the condition loose of a, which is not enforced.")
	target := testenv.MariaDB(t)
	run := testenv.Hovix(t, "restore", file, liveFolder(t, target), "--url", "http://new.example", "--yes")
	require.Equal(t, 3, run.Status, run.Err)
	assert.Contains(t, run.Out, "MariaDB has nothing like the key low of a, which is over an expression: it is left out")
	assert.Equal(t, "id\tt\thid\n1\thttp://new.example/x\t8\n2\tb\t9\n", testenv.Client(t, target, []byte("SELECT id, t, hid FROM a;")))
	assert.Equal(t, "s\tp\n4326\tPOINT(1 2)\n", testenv.Client(t, target, []byte("SELECT ST_SRID(p) AS s, ST_AsText(p) AS p FROM g;")))
	made := testenv.Client(t, target, []byte("SHOW CREATE TABLE a;"))
	assert.Contains(t, made, "KEY `inv` (`t`) IGNORED")
	assert.Contains(t, made, "`hid` int(11) INVISIBLE DEFAULT 7")
	assert.Contains(t, testenv.Client(t, target, []byte("SHOW CREATE TABLE g;")), "SPATIAL KEY `p` (`p`)")
}
