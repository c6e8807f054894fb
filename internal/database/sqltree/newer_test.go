package sqltree

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hovix/internal/database/sqltext"
)

func TestForMariaDB(t *testing.T) {
	def, err := ParseTable([]byte("CREATE TABLE `a` (`id` int NOT NULL, `t` varchar(50) DEFAULT 'VISIBLE' COMMENT 'SRID 1' /*!80023 INVISIBLE */, `p` point NOT NULL /*!80003 SRID 4326 */, PRIMARY KEY (`id`), "+
		"KEY `low` ((lower(`t`))), UNIQUE KEY `two` (`id`, (`t` + 1) DESC), KEY `inv` (`t`(10)) /*!80000 INVISIBLE */, KEY `vis` (`id`) VISIBLE, "+
		"CONSTRAINT `loose` CHECK ((`id` > 0)) /*!80016 NOT ENFORCED */, CONSTRAINT `tight` CHECK ((`id` > 1)) ENFORCED) ENGINE=InnoDB"), sqltext.MySQL)
	require.NoError(t, err)
	assert.Equal(t, []string{"the key low of a, which is over an expression", "the key two of a, which is over an expression", "the condition loose of a, which is not enforced"}, def.ForMariaDB(true))
	assert.Equal(t, "CREATE TABLE `a` (\n  `id` int NOT NULL,\n  `t` varchar(50) DEFAULT 'VISIBLE' COMMENT 'SRID 1' INVISIBLE,\n  `p` point REF_SYSTEM_ID = 4326 NOT NULL,\n  PRIMARY KEY (`id`),\n  "+
		"KEY `inv` (`t`(10)) IGNORED,\n  KEY `vis` (`id`),\n  CONSTRAINT `tight` CHECK ((`id` > 1))\n) ENGINE=InnoDB", def.SQL(nil))
	for _, it := range def.Items {
		if it.Name == "inv" {
			assert.Equal(t, "KEY `inv` (`t`(10)) IGNORED", it.Text)
		}
	}
}
