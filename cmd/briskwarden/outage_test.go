package main_test

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/storetest"
)

// smallDisk is a file system of its own of so many MiB, which goes with the test.
func smallDisk(t *testing.T, size int) string {
	dir := t.TempDir()
	if out, err := exec.Command("mount", "-t", "tmpfs", "-o", fmt.Sprintf("size=%dm", size), "none", dir).CombinedOutput(); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatalf("no file system can be mounted: %s", out)
		}
		t.Skipf("skipped: no file system can be mounted here: %s", out)
	}
	t.Cleanup(func() { require.NoError(t, exec.Command("umount", dir).Run()) })
	return dir
}

// TestAFullDisk: while nothing can be recorded nobody is let in, what was acknowledged is kept, and it goes on when there is room.
func TestAFullDisk(t *testing.T) {
	for name, where := range map[string]func(t *testing.T, disk string) string{
		"sqlite": func(_ *testing.T, disk string) string {
			return fmt.Sprintf("store: {file: %q}\n", filepath.Join(disk, "door.db"))
		},
		"postgres": func(t *testing.T, disk string) string { // its tables are on the disk, and its log is elsewhere
			address, err := url.Parse(storetest.Postgres(t))
			require.NoError(t, err)
			space := "full_" + address.Query().Get("search_path")
			require.NoError(t, storetest.GivePostgres(disk))
			conn, err := pgx.Connect(t.Context(), address.String())
			require.NoError(t, err)
			do := func(format string, args ...any) {
				_, err := conn.Exec(context.Background(), fmt.Sprintf(format, args...))
				require.NoError(t, err)
			}
			do("CREATE TABLESPACE %s LOCATION '%s'", space, disk)
			t.Cleanup(func() { // before the disk goes
				schema := address.Query().Get("search_path")
				do("DROP SCHEMA %[1]s CASCADE; CREATE SCHEMA %[1]s", schema)
				do("DROP TABLESPACE %s", space)
				require.NoError(t, conn.Close(context.Background()))
			})
			query := address.Query()
			query.Set("default_tablespace", space)
			address.RawQuery = query.Encode()
			return fmt.Sprintf("store: {postgres: %q}\n", address)
		},
	} {
		t.Run(name, func(t *testing.T) {
			disk, dir := smallDisk(t, 24), t.TempDir()
			in(t, dir, 0, "demo", "--out", "kestrel")
			s := serve(t, dir, configuredDoor(t, dir, where(t, disk)))
			var acknowledged []string
			decides := func() (verdict, text string) {
				session := fmt.Sprint("s-", len(acknowledged))
				status, text := s.ask("POST", "/v1/decisions", "application/json", strings.Replace(signOn, "s-1", session, 1))
				require.Equal(t, 200, status, text)
				if strings.Contains(text, `"verdict":"grant"`) {
					acknowledged = append(acknowledged, text[len(`{"id":"`):len(`{"id":"`)+36])
					return "grant", text
				}
				return "block", text
			}
			verdict, text := decides()
			require.Equal(t, "grant", verdict, text)
			filler := filepath.Join(disk, "filler")
			exec.Command("dd", "if=/dev/zero", "of="+filler, "bs=64k").Run() // until there is no room
			for blocked, tries := 0, 0; blocked < 20; tries++ {
				require.Less(t, tries, 20_000, "the disk is not full")
				if verdict, text := decides(); verdict == "block" {
					blocked++
					require.Contains(t, text, "not_recorded")
				}
			}
			status, text := s.ask("GET", "/readyz", "", "")
			require.Equal(t, 503, status, text)
			require.Contains(t, text, "nothing can be recorded")
			verdict, text = s.decides(byTheKey)
			require.Equal(t, "grant", verdict, "the emergency account: "+text)
			require.NoError(t, os.Remove(filler))
			require.Eventually(t, func() bool { verdict, _ := decides(); return verdict == "grant" }, 20*time.Second, 50*time.Millisecond,
				s.log.String())
			status, text = s.ask("GET", "/readyz", "", "")
			require.Equal(t, 200, status, text)
			s.stop()
			require.Contains(t, in(t, dir, 0, "journal", "verify"), "SOUND")
			list := in(t, dir, 0, "journal", "list", "--kind", "decision", "--most", "10000000", "--json")
			for _, id := range acknowledged {
				require.Equal(t, 1, strings.Count(list, `"id": "`+id), id)
			}
		})
	}
}

// TestADoorStartsWithoutItsDatabase for emergency accounts alone, and lets everybody in when it is there.
func TestADoorStartsWithoutItsDatabase(t *testing.T) {
	address, err := url.Parse(storetest.Postgres(t))
	require.NoError(t, err)
	query := address.Query()
	dir, sockets := t.TempDir(), query.Get("host")
	link := filepath.Join(dir, "sockets")
	query.Set("host", link)
	address.RawQuery = query.Encode()
	in(t, dir, 0, "demo", "--out", "kestrel")
	token := configuredDoor(t, dir, fmt.Sprintf("store: {postgres: %q, history: complete}\n", address))
	require.NoError(t, os.Symlink(sockets, link))
	s := serve(t, dir, token)
	verdict, cause := s.decides(byTheKey)
	require.Equal(t, "grant", verdict, cause)
	s.stop()

	require.NoError(t, os.Remove(link))
	s = serve(t, dir, token)
	verdict, cause = s.decides(fresh)
	require.Equal(t, "block", verdict)
	require.Contains(t, cause, "account_unavailable")
	verdict, cause = s.decides(byTheKey)
	require.Equal(t, "grant", verdict, cause)
	status, text := s.ask("GET", "/readyz", "", "")
	require.Equal(t, 503, status, text)
	require.NoError(t, os.Symlink(sockets, link))
	require.Eventually(t, func() bool { status, _ := s.ask("GET", "/readyz", "", ""); return status == 200 }, 30*time.Second,
		50*time.Millisecond, s.log.String())
	verdict, cause = s.decides(fresh)
	require.Equal(t, "grant", verdict, cause)
	list := in(t, dir, 0, "journal", "list", "--kind", "decision", "--account", "harbour-key@kestrelsound.example", "--json")
	require.Equal(t, 2, strings.Count(list, `"verdict": "grant"`), list)
	s.stop()

	require.NoError(t, os.Remove(link))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "door.state")))
	s = serve(t, dir, token)
	verdict, cause = s.decides(byTheKey)
	require.Equal(t, "block", verdict, "nobody knows whether it was disabled: "+cause)
	s.stop()
	require.NoError(t, os.Symlink(sockets, link)) // for what ends the test
}

// TestAStandbyCanBeRead: an auditor lists and verifies the journal on a copy of the database that takes no changes.
func TestAStandbyCanBeRead(t *testing.T) {
	dir, address := t.TempDir(), storetest.Postgres(t)
	in(t, dir, 0, "demo", "--out", "kestrel")
	s := serve(t, dir, configuredDoor(t, dir, fmt.Sprintf("store: {postgres: %q}\n", address)))
	verdict, _ := s.decides(signOn)
	require.Equal(t, "grant", verdict)
	standby := storetest.Standby(t, address)
	verdict, _ = s.decides(signOn)
	require.Equal(t, "grant", verdict)
	list := in(t, dir, 0, "journal", "list", "--kind", "decision", "--format", "csv")
	s.stop()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "audit.yaml"), []byte(fmt.Sprintf("door: 1\nstore: {postgres: %q}\n", standby)), 0o600))
	audit := []string{"journal", "list", "--config", "audit.yaml", "--kind", "decision", "--format", "csv"}
	require.Eventually(t, func() bool { return in(t, dir, 0, audit...) == list }, 20*time.Second, 100*time.Millisecond, "it follows")
	require.Contains(t, in(t, dir, 0, "journal", "verify", "--config", "audit.yaml"), "SOUND")
	prune := []string{"journal", "prune", "--config", "audit.yaml", "--before", "2020-01-01", "--as", "ragna", "--yes"}
	require.Contains(t, in(t, dir, 2, prune...), "read-only")
}
