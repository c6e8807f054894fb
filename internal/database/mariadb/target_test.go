package mariadb

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"hovix/internal/database"
	"hovix/internal/database/sqltext"
	"hovix/internal/database/sqltree"
	"hovix/internal/testenv"
)

func TestRightsOf(t *testing.T) {
	for name, c := range map[string]struct {
		grants  []string
		has     string
		certain bool
	}{
		"all on one":      {[]string{"GRANT USAGE ON *.* TO `a`@`%` IDENTIFIED BY PASSWORD 'x'", "GRANT ALL PRIVILEGES ON `shop`.* TO `a`@`%`"}, "USAGE " + allRights, true},
		"all on another":  {[]string{"GRANT ALL PRIVILEGES ON `shopx`.* TO `a`@`%`"}, "", true},
		"a pattern":       {[]string{"GRANT SELECT, CREATE VIEW ON `sh%`.* TO `a`@`%`", "GRANT DROP ON `s_op`.* TO a"}, "SELECT CREATE VIEW DROP", true},
		"not a pattern":   {[]string{"GRANT SELECT ON `s\\_op`.* TO `a`@`%`", "GRANT SELECT ON `[s]hop`.* TO a", "GRANT INSERT ON `shop`.`t` TO a"}, "", true},
		"everywhere":      {[]string{"GRANT SELECT, SUPER ON *.* TO `a`@`%` WITH GRANT OPTION"}, "SELECT SUPER", true},
		"perhaps by role": {[]string{"GRANT `writers` TO `a`@`%`", "GRANT SELECT ON `shop`.* TO `a`@`%`"}, "SELECT", false},
	} {
		var rows [][]string
		for _, g := range c.grants {
			rows = append(rows, []string{g})
		}
		_, own, certain := rightsOf(rows, "shop")
		assert.Equal(t, c.has, strings.Join(own, " "), name)
		assert.Equal(t, c.certain, certain, name)
	}
}

func TestCanTake(t *testing.T) {
	l := testenv.MariaDB(t)
	can := func(kinds ...database.ObjectKind) error {
		r, err := openReader(context.Background(), l)
		require.NoError(t, err)
		defer r.Close()
		for _, c := range r.CanTake(context.Background(), database.Need{Kinds: kinds}) {
			if c.Err != nil {
				return c.Err
			}
		}
		return nil
	}
	require.NoError(t, can(database.View, database.Event))
	testenv.Exec(t, l, "REVOKE ALL PRIVILEGES ON `"+l.Name+"`.* FROM '"+l.User+"'@'localhost'")
	testenv.Exec(t, l, "GRANT SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, ALTER ON `"+l.Name+"`.* TO '"+l.User+"'@'localhost'")
	err := can(database.Trigger)
	var ce *database.ConnectError
	require.ErrorAs(t, err, &ce)
	assert.ErrorContains(t, err, "the user lacks the rights INDEX, TRIGGER")
	testenv.Exec(t, l, strings.TrimPrefix(ce.Advice, "An administrator of the server can give them with: "))
	assert.NoError(t, can(database.Trigger), "the advice helps")
}

// Two sessions may begin to fill one empty table at the same moment.
func TestTwoSessionsFillOneTable(t *testing.T) {
	l := testenv.MariaDB(t)
	s, err := NewStage(t.Context(), l, database.StageOptions{ID: "abcd", Connections: 2})
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Discard(context.Background())) }()
	for i := range 60 {
		name := fmt.Sprintf("t%d", i)
		def, err := sqltree.ParseTable([]byte("CREATE TABLE `"+name+"` (`id` int NOT NULL AUTO_INCREMENT, `v` varchar(80), PRIMARY KEY (`id`)) ENGINE=InnoDB"), sqltext.MySQL)
		require.NoError(t, err)
		require.NoError(t, s.Define(t.Context(), def))
		s.(*stage).tables[name].loader.off.Store(i%2 == 0) // every second one is loaded
		var g errgroup.Group
		for chunk := range 2 {
			g.Go(func() error {
				var q strings.Builder
				fmt.Fprintf(&q, "INSERT INTO %s (`id`,`v`) VALUES ", s.Target(name))
				for row := range 300 {
					if row > 0 {
						q.WriteString(",")
					}
					fmt.Fprintf(&q, "(%d,'a value of this row')", chunk*300+row+1)
				}
				n, err := s.Fill(name, chunk+1, 300, [][]byte{[]byte(q.String())})(t.Context())
				if err == nil && n != 300 {
					return fmt.Errorf("%d rows", n)
				}
				return err
			})
		}
		require.NoError(t, g.Wait(), name)
		assert.Equal(t, i%2 == 0, s.(*stage).tables[name].loader.off.Load())
		require.NoError(t, s.Finish(t.Context(), name, nil))
	}
}
