package storetest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// PostgresVariable names the environment variable with the address of a PostgreSQL server for
// tests, as scripts/test sets it. The role may make schemas.
const PostgresVariable = "BRISKWARDEN_TEST_POSTGRES"

var schemas atomic.Int64

// Postgres returns the address of an empty schema on the server for tests, which goes with the
// test. Where there is no server the test is skipped, and fails in CI.
func Postgres(t testing.TB) string {
	at := os.Getenv(PostgresVariable)
	if at == "" {
		if os.Getenv("CI") != "" {
			t.Fatalf("%s is not set: in CI these tests need a PostgreSQL server, which scripts/test starts", PostgresVariable)
		}
		t.Skipf("skipped: %s names no PostgreSQL server; scripts/test starts one where Debian's packages can be installed", PostgresVariable)
	}
	address, err := url.Parse(at)
	require.NoError(t, err)
	name := fmt.Sprintf("test_%d_%d", os.Getpid(), schemas.Add(1))
	do := func(statement string) {
		conn, err := pgx.Connect(context.Background(), at)
		require.NoError(t, err)
		defer conn.Close(context.Background())
		_, err = conn.Exec(context.Background(), statement)
		require.NoError(t, err)
	}
	do("CREATE SCHEMA " + name)
	t.Cleanup(func() { do("DROP SCHEMA " + name + " CASCADE") })
	query := address.Query()
	query.Set("search_path", name)
	address.RawQuery = query.Encode()
	return address.String()
}

// PostgresProgram is a program of PostgreSQL's own, such as pg_dump, on the server for tests. Postgres is to be called before.
func PostgresProgram(t testing.TB, name string, args ...string) *exec.Cmd {
	found, err := exec.LookPath(name)
	require.NoError(t, err, "it is in Debian's package postgresql-client")
	return exec.Command(found, append([]string{"--dbname", os.Getenv(PostgresVariable)}, args...)...)
}
