package mariadb_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/engine/mariadb"
	"erbario/internal/testserver"
)

// An event is never enabled on scratch, however it is written.
func TestEventsSleep(t *testing.T) {
	ctx := context.Background()
	db, err := mariadb.Engine{}.At(testserver.MariaDB(t)).Scratch(ctx)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.Exec(ctx, "CREATE TABLE loans (id int PRIMARY KEY)"))
	for _, sql := range []string{
		"CREATE EVENT a ON SCHEDULE EVERY 1 SECOND DO DELETE FROM loans",
		"create definer=root@localhost event if not exists `b` on schedule every 1 second enable do delete from loans",
		"CREATE EVENT c ON SCHEDULE EVERY 1 SECOND STARTS now() + INTERVAL 1 DAY ENDS now() + INTERVAL 2 DAY ON COMPLETION PRESERVE ENABLE COMMENT 'DISABLE' DO BEGIN DELETE FROM loans; END",
		"CREATE EVENT d ON SCHEDULE AT now() + INTERVAL 1 DAY ON COMPLETION NOT PRESERVE COMMENT 'x' DO DELETE FROM loans",
		"SET STATEMENT sql_mode = '', time_zone = '+01:00' FOR CREATE EVENT e ON SCHEDULE EVERY (1 + 1) HOUR DISABLE ON SLAVE DO DELETE FROM loans",
		"ALTER EVENT a ENABLE",
		"/* CREATE */ CREATE /*! */ EVENT f ON SCHEDULE EVERY 1 DAY /* DO */ DO DELETE FROM loans",
	} {
		require.NoError(t, db.Step(ctx, sql), sql)
	}
	rows, err := db.Sample(ctx,
		"SELECT event_name FROM information_schema.events WHERE event_schema = database() AND status <> 'DISABLED'", 0)
	require.NoError(t, err)
	assert.Empty(t, rows.Values)
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	v, ok := engine.As[engine.Verbatim](db)
	require.True(t, ok)
	list, err := v.Objects(ctx, s)
	require.NoError(t, err)
	var said []string
	for _, c := range list {
		said = append(said, c.Form)
	}
	assert.Len(t, said, 6)
}
