package postgres

import (
	"context"
	"errors"
	"fmt"

	"github.com/jackc/pgx/v5"

	"github.com/briskwarden/briskwarden/journal"
)

// Tables of the forms from formBefore to newestBefore are carried over: the newer differs by an index. Their form is set to
// retired then, so that a door of that version refuses them.
const formBefore, newestBefore, retired = 2, 3, 1000

// carryOver fills new tables with what a door of the version before kept, where there is such. Path is the schema. Its tables
// stay as they are, as the copy; nobody writes to them again.
func carryOver(ctx context.Context, tx pgx.Tx, path string) error {
	old := ""
	prefixes := []string{"briskwarden_"}
	if path == home {
		prefixes = append(prefixes, "public.briskwarden_") // where they were unless the address named another schema
	}
	for _, prefix := range prefixes {
		is, err := has(ctx, tx, prefix+"form")
		if err != nil {
			return err
		}
		if is {
			old = prefix
			break
		}
	}
	if old == "" {
		return nil
	}
	if _, err := tx.Exec(ctx, "LOCK TABLE "+old+"form, "+old+"facts, "+old+"entries, "+old+"head IN ACCESS EXCLUSIVE MODE"); err != nil {
		return err
	}
	var form, doors int
	var text string
	if err := tx.QueryRow(ctx, "SELECT (SELECT coalesce(max(form), 0) FROM "+old+"form), (SELECT head FROM "+old+"head), (SELECT count(*)"+
		" FROM "+
		"pg_stat_activity WHERE datname = current_database() AND application_name = $1)", programBefore).Scan(&form, &text, &doors); err != nil {
		return err
	}
	switch {
	case form == retired:
		return errors.New("what a door of the version before kept was carried over already, and the tables that it went to are gone: " +
			"restore them")
	case form < formBefore || form > newestBefore:
		return fmt.Errorf("the tables %s* are of form %d, which is older than what is carried over: start a door of the version before once", old,
			form)
	case doors > 0:
		return errors.New("a door of the version before is connected to this database: stop every one of them first")
	}
	head, err := journal.ParseHeadBefore(text)
	if err != nil {
		return err
	}
	binary, err := head.MarshalBinary()
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "INSERT INTO facts SELECT kind, key, CASE kind WHEN 'account' THEN '' ELSE account END, device, NULL, value,"+
		" due, 1 FROM "+old+"facts"); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "INSERT INTO entries SELECT $1, number, id::uuid, at, kind, account, hash, brief, NULL, leaf"+
		" FROM "+old+"entries",
		journal.BeforeLog); err != nil {
		return err
	}
	if head.Size > 0 {
		if _, err := tx.Exec(ctx, "INSERT INTO logs (name, size, head) VALUES ($1, $2, $3)", head.Log, head.Size, binary); err != nil {
			return err
		}
	}
	_, err = tx.Exec(ctx, "INSERT INTO "+old+"form VALUES ($1)", retired)
	return err
}
