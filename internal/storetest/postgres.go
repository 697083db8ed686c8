package storetest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
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

// asPostgres is a program of the server's own, run as the user that owns the server: PostgreSQL refuses to run as root.
func asPostgres(name string, args ...string) (*exec.Cmd, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/" + name)
	if err != nil || len(found) == 0 {
		return nil, fmt.Errorf("there is no %s: it is in Debian's package postgresql", name)
	}
	args = append([]string{found[len(found)-1]}, args...)
	if os.Getuid() == 0 {
		args = append([]string{"runuser", "-u", "postgres", "--"}, args...)
	}
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Dir = "/"
	return cmd, nil
}

// GivePostgres gives a folder to the user that owns the server, with a way to it.
func GivePostgres(dir string) error {
	if os.Getuid() != 0 {
		return nil
	}
	owner, err := user.Lookup("postgres")
	if err != nil {
		return err
	}
	id, err := strconv.Atoi(owner.Uid)
	if err != nil {
		return err
	}
	for above := filepath.Dir(dir); above != "/" && above != os.TempDir(); above = filepath.Dir(above) {
		if err := os.Chmod(above, 0o755); err != nil {
			return err
		}
	}
	return os.Chown(dir, id, -1)
}

// Standby starts a server that follows the one for tests and takes no changes, and returns the address of a schema there. It goes
// with the test.
func Standby(t testing.TB, of string) string {
	address, err := url.Parse(of)
	require.NoError(t, err)
	primary, dir := address.Query().Get("host"), t.TempDir()
	require.NoError(t, GivePostgres(dir))
	data := filepath.Join(dir, "data")
	run := func(name string, args ...string) {
		cmd, err := asPostgres(name, args...)
		require.NoError(t, err)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	run("pg_basebackup", "-h", primary, "-U", "door", "-D", data, "-R", "-X", "stream", "-c", "fast")
	t.Cleanup(func() { run("pg_ctl", "-D", data, "-m", "immediate", "stop") })
	options := "-k " + dir + " -c listen_addresses='' -c fsync=off -c max_connections=200"
	run("pg_ctl", "-D", data, "-w", "-l", filepath.Join(dir, "log"), "-o", options, "start")
	query := address.Query()
	query.Set("host", dir)
	address.RawQuery = query.Encode()
	return address.String()
}
