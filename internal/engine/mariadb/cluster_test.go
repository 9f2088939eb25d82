package mariadb_test

// This file is for a cluster of several servers behind one address: ERBARIO_TEST_CLUSTER has
// the URLs of its nodes, with blanks between them. Without it there is nothing to try.

import (
	"context"
	"errors"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/testserver"
)

// Behind one address a run on one node is not taken for dead by a run on another, and only
// statements of its own are given up.
func TestCluster(t *testing.T) {
	nodes := strings.Fields(os.Getenv("ERBARIO_TEST_CLUSTER"))
	if len(nodes) < 2 {
		t.Skip("ERBARIO_TEST_CLUSTER names no cluster")
	}
	ctx := context.Background()
	e, err := engines.All().ByName("mariadb")
	require.NoError(t, err)
	u, err := url.Parse(testserver.Balanced(t, nodes))
	require.NoError(t, err)
	u.Path = "/erbario_cluster"
	at := u.String()
	first, err := e.Open(ctx, at, engine.Make)
	require.NoError(t, err)
	defer first.Close()
	for _, sql := range e.OwnTables().History {
		require.NoError(t, first.Exec(ctx, sql))
	}
	require.NoError(t, first.Lock(ctx, time.Second))
	for range 2 * len(nodes) {
		other, err := e.Open(ctx, at, engine.ReadWrite)
		require.NoError(t, err)
		require.ErrorIs(t, other.Lock(ctx, 300*time.Millisecond), engine.ErrBusy)
		gone, err := other.(engine.Resumer).SessionEnded(ctx, first.(engine.Resumer).Session())
		require.NoError(t, err)
		require.False(t, gone, "it is at work")
		require.NoError(t, other.Close())
	}
	require.NoError(t, first.Begin(ctx, time.Second))
	require.NoError(t, first.Commit(ctx))
	require.NoError(t, first.Unlock(ctx))

	// A statement that is given up is this session's, whatever the others are called.
	for range len(nodes) {
		other, err := e.Open(ctx, at, engine.ReadWrite)
		require.NoError(t, err)
		require.NoError(t, other.Lock(ctx, 5*time.Second))
		soon, stop := context.WithTimeout(ctx, 300*time.Millisecond)
		began := time.Now()
		err = other.Exec(soon, "DO sleep(20)")
		stop()
		require.Error(t, err)
		require.True(t, errors.Is(err, context.DeadlineExceeded), "%v", err)
		require.Less(t, time.Since(began), 15*time.Second, "the server was told")
		require.NoError(t, other.Unlock(ctx))
		require.NoError(t, other.Close())
	}
	require.NoError(t, first.Exec(ctx, "DROP DATABASE erbario_cluster"))
}
