package postgres

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"github.com/briskwarden/briskwarden/internal/packed"
	"github.com/briskwarden/briskwarden/journal"
	"github.com/briskwarden/briskwarden/store"
)

// A transaction reads what it rests on before it begins, notes the stamps, and sends all that it changes in one round trip:
// the statements of a batch are one transaction of the database. Each that finds a row other than it was fails. So nothing is
// locked while Go thinks, and doors that change different rows do not wait for each other. Where another was first, the rows
// are locked and read, and all is done again: then nobody else can be first.

// mostTries is how often a transaction is tried where others are first.
const mostTries = 20

// errFirst says that another changed what the transaction rests on.
var errFirst = errors.New("another was first each time")

// Update implements store.Store.
func (s *Store) Update(ctx context.Context, change func(store.Tx) error) error {
	t := s.transaction(ctx, s.pool)
	if err := change(t); err != nil {
		return err
	}
	err := t.sendAlone()
	for range mostTries {
		if !wasFirst(err) {
			return err
		}
		err = s.again(ctx, t, change)
	}
	if wasFirst(err) {
		return errFirst
	}
	return err
}

// again does a transaction on rows that it locks first: those that it changed and those that it read when it was tried.
func (s *Store) again(ctx context.Context, tried *tx, change func(store.Tx) error) error {
	// Before the rows, since another transaction of this program may hold it and wait for one of them.
	s.appending.Lock()
	defer s.appending.Unlock()
	s.mu.Lock()
	clear(s.heads) // another program may have appended
	s.mu.Unlock()
	var t *tx
	err := pgx.BeginFunc(ctx, s.pool, func(begun pgx.Tx) error {
		t = s.transaction(ctx, begun)
		changed, others := tried.known()
		if err := errors.Join(t.lock(changed, "UPDATE"), t.lock(others, "SHARE")); err != nil {
			return err
		}
		if err := change(t); err != nil {
			return err
		}
		return t.send()
	})
	if err == nil {
		t.kept()
	}
	return err
}

// wasFirst reports whether an error says that another was first.
func wasFirst(err error) bool {
	var refused *pgconn.PgError
	if !errors.As(err, &refused) {
		return false
	}
	switch refused.Code {
	case divisionByZero, "40001", "40P01": // serialization_failure, deadlock_detected
		return true
	}
	return refused.Code == uniqueViolation && refused.ConstraintName != "entries_id_key"
}

// Statements fail by a division where they do not find as many rows as they are to (SQLSTATE 22012).
const divisionByZero, uniqueViolation = "22012", "23505"

// tx gathers what changes, and what that rests on.
type tx struct {
	s   *Store
	ctx context.Context
	// via is what it reads and writes through.
	via   route
	stamp int64
	// locked are rows that are locked, by key, nil where there is none.
	locked map[store.Key]*store.Row
	store.Changes
	// rests are the stamps of rows as they were read, 0 of those that there were not.
	rests map[store.Key]int64
	// logs are the entries that it appended, by log and in order; pruned the numbers of those that it emptied.
	logs   []appended
	pruned map[string][]int64
	later  bool
	// dictionary is the one that entries and long rows are packed by, nil where they are not.
	dictionary *packed.Dictionary
}

// appended are entries for the end of a log. Size is how long it was before.
type appended struct {
	head    journal.Head
	size    int64
	entries []journal.Entry
}

// route is the pool, or a transaction that locked rows.
type route interface {
	querier
	SendBatch(ctx context.Context, b *pgx.Batch) pgx.BatchResults
}

func (s *Store) transaction(ctx context.Context, via route) *tx {
	return &tx{s: s, ctx: ctx, via: via, stamp: rand.Int64()>>1 | 1, rests: map[store.Key]int64{}, pruned: map[string][]int64{}}
}

// sendAlone sends a transaction that locked nothing. While it does, no other of this program appends.
func (t *tx) sendAlone() error {
	if len(t.logs) > 0 {
		t.s.appending.Lock()
		defer t.s.appending.Unlock()
	}
	if err := t.send(); err != nil {
		return err
	}
	t.kept()
	return nil
}

// known returns the keys that it rests on, in order: those of rows that it changed, and the others.
func (t *tx) known() (changed, others []store.Key) {
	for _, key := range slices.SortedFunc(maps.Keys(t.rests), store.Key.Compare) {
		if _, is := t.Changes[key]; is {
			changed = append(changed, key)
		} else {
			others = append(others, key)
		}
	}
	return changed, others
}

// lock locks rows in order and reads them; strength is UPDATE or SHARE. All transactions lock what they change first, in the
// order of the keys, and then what they rest on besides: so none waits for another in turn.
func (t *tx) lock(keys []store.Key, strength string) error {
	if t.locked == nil {
		t.locked = make(map[store.Key]*store.Row, len(keys))
	}
	var kinds, names []string
	for _, key := range keys {
		t.locked[key] = nil
		kinds, names = append(kinds, string(key.Kind)), append(names, key.Key)
	}
	found, err := t.via.Query(t.ctx, "SELECT "+columns+" FROM facts f"+
		" JOIN unnest($1::text[], $2::text[]) AS n (kind, key) USING (kind, key) ORDER BY kind, key FOR "+
		strength+" OF f", kinds, names)
	if err != nil {
		return err
	}
	rows, err := t.s.scanRows(t.ctx, found)
	for i := range rows {
		t.locked[rows[i].Key] = &rows[i]
	}
	return err
}

// noted notes what a transaction rests on, as it was read first.
func (t *tx) noted(key store.Key, stamp int64) {
	if _, was := t.rests[key]; !was {
		t.rests[key] = stamp
	}
}

// Get implements store.Reader.
func (t *tx) Get(ctx context.Context, key store.Key) (store.Row, error) {
	if row, changed, err := t.Changes.Get(key); changed {
		return row, err
	}
	if locked, is := t.locked[key]; is {
		if locked == nil {
			t.noted(key, 0)
			return store.Row{}, store.ErrNotFound
		}
		t.noted(key, locked.Stamp)
		row := *locked
		row.Value = bytes.Clone(row.Value)
		return row, nil
	}
	row, err := t.s.get(ctx, t.via, key)
	if err == nil || errors.Is(err, store.ErrNotFound) {
		t.noted(key, row.Stamp)
	}
	return row, err
}

// List implements store.Reader.
func (t *tx) List(ctx context.Context, q store.Query) ([]store.Row, error) {
	return t.Changes.List(q, func(q store.Query) ([]store.Row, error) {
		rows, err := t.s.list(ctx, t.via, q)
		for i := range rows {
			t.noted(rows[i].Key, rows[i].Stamp)
		}
		return rows, err
	})
}

// Rests implements store.Tx.
func (t *tx) Rests(key store.Key, stamp int64) bool {
	if locked, is := t.locked[key]; is && (locked == nil && stamp != 0 || locked != nil && locked.Stamp != stamp) {
		return false
	}
	t.noted(key, stamp)
	return true
}

// Stamp implements store.Tx.
func (t *tx) Stamp() int64 { return t.stamp }

// TellLater implements store.Tx.
func (t *tx) TellLater() { t.later = true }

// head returns the end of a log as the database has it.
func (s *Store) head(ctx context.Context, log string) (journal.Head, error) {
	s.mu.Lock()
	head, known := s.heads[log]
	s.mu.Unlock()
	if known {
		return head, nil
	}
	head = journal.Head{Log: log}
	var text []byte
	switch err := s.pool.QueryRow(ctx, "SELECT head FROM logs WHERE name = $1", log).Scan(&text); {
	case errors.Is(err, pgx.ErrNoRows):
		return head, journal.CheckLog(log)
	case err != nil:
		return head, err
	}
	return head, head.UnmarshalBinary(text)
}

// Append implements store.Tx.
func (t *tx) Append(log string, entries []journal.Entry) error {
	if len(entries) == 0 {
		return nil
	}
	i := slices.IndexFunc(t.logs, func(a appended) bool { return a.head.Log == log })
	if i < 0 {
		head := journal.Head{Log: log}
		if err := journal.CheckLog(log); err != nil {
			return err
		}
		t.logs, i = append(t.logs, appended{head: head}), len(t.logs)
	}
	t.logs[i].entries = append(t.logs[i].entries, entries...)
	return nil
}

// Prune implements store.Tx.
func (t *tx) Prune(log string, before time.Time, most int) (numbers []int64, err error) {
	rows, err := t.via.Query(t.ctx, "SELECT number FROM entries WHERE log = $1 AND at < $2 AND leaf IS NOT NULL AND kind <> $3"+
		" AND NOT number = ANY ($4) ORDER BY number LIMIT $5", log, before, int16(journal.Pruned),
		append([]int64{}, t.pruned[log]...), most)
	if err == nil {
		numbers, err = pgx.CollectRows(rows, pgx.RowTo[int64])
	}
	t.pruned[log] = append(t.pruned[log], numbers...)
	return numbers, err
}

// all is a query that fails unless a statement that returns rows finds as many as $1.
func all(statement string) string {
	return "WITH done AS (" + statement + ") SELECT 1 / (count(*) = $1)::int FROM done"
}

// rows are rows as arrays, one a column.
type rows struct {
	kinds, keys, accounts, devices []string
	dues                           []*time.Time
	dictionaries                   []*int64
	values                         [][]byte
	stamps                         []int64
}

// packedFrom is from which length on a row is packed, in bytes: a session, which has the circumstances of each app in it.
const packedFrom = 512

func (r *rows) add(key store.Key, row *store.Row, stamp int64, by *packed.Dictionary) {
	r.kinds, r.keys, r.stamps = append(r.kinds, string(key.Kind)), append(r.keys, key.Key), append(r.stamps, stamp)
	if row == nil {
		return
	}
	var due *time.Time
	if !row.Due.IsZero() {
		due = &row.Due
	}
	value, dictionary := row.Value, (*int64)(nil)
	if by != nil && len(value) >= packedFrom {
		value, dictionary = by.Pack(value), &by.ID
	}
	r.accounts, r.devices = append(r.accounts, row.Account), append(r.devices, row.Device)
	r.dues, r.dictionaries, r.values = append(r.dues, due), append(r.dictionaries, dictionary), append(r.values, value)
}

const (
	// theirs are the rows of a statement as they are to be, and after each the stamp that it rests on.
	theirs = "unnest($3::text[], $4::text[], $5::text[], $6::text[], $7::bigint[], $8::bytea[], $9::timestamptz[], $10::bigint[])" +
		" AS n (kind, key, account, device, dictionary, value, due, was)"
	update = "UPDATE facts f SET account = n.account, device = n.device, dictionary = n.dictionary, value = n.value, due = n.due," +
		" stamp = $2 FROM " + theirs + " WHERE f.kind = n.kind AND f.key = n.key AND f.stamp = n.was RETURNING 1"
	insert = "INSERT INTO facts SELECT kind, key, account, device, dictionary, value, due, $2 FROM " + theirs +
		" ON CONFLICT DO NOTHING RETURNING 1"
	// upsert is for rows that nobody read, which take the place of whatever there is.
	upsert = "INSERT INTO facts SELECT kind, key, account, device, dictionary, value, due, $2 FROM " + theirs + " ON CONFLICT (kind, key)" +
		" DO UPDATE SET account = excluded.account, device = excluded.device, dictionary = excluded.dictionary, value = excluded.value," +
		" due = excluded.due, stamp = excluded.stamp RETURNING 1"
	known    = "unnest($2::text[], $3::text[], $4::bigint[]) AS n (kind, key, was)"
	remove   = "DELETE FROM facts f USING " + known + " WHERE f.kind = n.kind AND f.key = n.key AND f.stamp = n.was RETURNING 1"
	read     = "SELECT 1 FROM facts f JOIN " + known + " ON f.kind = n.kind AND f.key = n.key AND f.stamp = n.was FOR SHARE OF f"
	missing  = "SELECT 1 FROM " + known + " WHERE NOT EXISTS (SELECT FROM facts f WHERE f.kind = n.kind AND f.key = n.key)"
	dropping = "DELETE FROM facts f USING unnest($1::text[], $2::text[]) AS n (kind, key) WHERE f.kind = n.kind AND f.key = n.key"
)

// queueRows queues what changes rows.
func (t *tx) queueRows(batch *pgx.Batch) {
	var updated, inserted, put, removed, dropped, unchanged, absent rows
	for _, key := range t.Changes.Keys() {
		row := t.Changes[key]
		was, rests := t.rests[key]
		switch {
		case row == nil && !rests:
			dropped.add(key, nil, 0, t.dictionary)
		case row == nil && was != 0:
			removed.add(key, nil, was, t.dictionary)
		case row == nil:
			absent.add(key, nil, 0, t.dictionary)
		case !rests:
			put.add(key, row, 0, t.dictionary)
		case was == 0:
			inserted.add(key, row, 0, t.dictionary)
		default:
			updated.add(key, row, was, t.dictionary)
		}
	}
	_, others := t.known()
	for _, key := range others {
		if was := t.rests[key]; was != 0 {
			unchanged.add(key, nil, was, t.dictionary)
		} else {
			absent.add(key, nil, 0, t.dictionary)
		}
	}
	for _, x := range []struct {
		*rows
		statement string
	}{{&absent, missing}, {&removed, remove}} {
		if n := len(x.keys); n > 0 {
			batch.Queue(all(x.statement), n, x.kinds, x.keys, x.stamps)
		}
	}
	if len(dropped.keys) > 0 {
		batch.Queue(dropping, dropped.kinds, dropped.keys)
	}
	for _, x := range []struct {
		*rows
		statement string
	}{{&updated, update}, {&inserted, insert}, {&put, upsert}} {
		if n := len(x.keys); n > 0 {
			batch.Queue(all(x.statement), n, t.stamp, x.kinds, x.keys, x.accounts, x.devices, x.dictionaries, x.values, x.dues,
				x.stamps)
		}
	}
	if n := len(unchanged.keys); n > 0 { // last, as lock has it
		batch.Queue(all(read), n, unchanged.kinds, unchanged.keys, unchanged.stamps)
	}
}

// queueEntries queues the entries of one log, and moves its head.
func (t *tx) queueEntries(batch *pgx.Batch, a *appended) error {
	text, err := a.head.MarshalBinary()
	if err != nil {
		return err
	}
	// The head first: who is not the first to move it does nothing else.
	if a.size == 0 {
		batch.Queue(all("INSERT INTO logs (name, size, head) VALUES ($2, $3, $4) ON CONFLICT DO NOTHING RETURNING 1"), 1, a.head.Log,
			a.head.Size, text)
	} else {
		batch.Queue(all("UPDATE logs SET size = $3, head = $4 WHERE name = $2 AND size = $5 RETURNING 1"), 1, a.head.Log, a.head.Size,
			text, a.size)
	}
	n := len(a.entries)
	numbers, ids, ats, kinds := make([]int64, n), make([]string, n), make([]time.Time, n), make([]int16, n)
	accounts, leaves, hashes, briefs := make([]string, n), make([][]byte, n), make([][]byte, n), make([][]byte, n)
	var by *int64
	if t.dictionary != nil {
		by = &t.dictionary.ID
	}
	for i := range a.entries {
		e := &a.entries[i]
		numbers[i], ids[i], ats[i], kinds[i], accounts[i] = e.Number, e.ID, e.At, int16(e.Kind), e.Account
		leaves[i], hashes[i], briefs[i] = e.Leaf, e.Hash[:], e.Brief
		if t.dictionary != nil && e.Leaf != nil {
			leaves[i] = t.dictionary.Pack(e.Leaf)
		}
	}
	batch.Queue("INSERT INTO entries SELECT $1, number, id, at, kind, account, hash, brief, $2::bigint, leaf"+
		" FROM unnest($3::bigint[], $4::uuid[], $5::timestamptz[], $6::smallint[], $7::text[], $8::bytea[], $9::bytea[], $10::bytea[])"+
		" AS n (number, id, at, kind, account, hash, brief, leaf)", a.head.Log, by, numbers, ids, ats, kinds, accounts, hashes, briefs, leaves)
	return nil
}

// send sends all that changes.
func (t *tx) send() error {
	var batch pgx.Batch
	t.queueDictionary(&batch)
	for i := range t.logs {
		a := &t.logs[i]
		head, err := t.s.head(t.ctx, a.head.Log)
		if err != nil {
			return err
		}
		a.head, a.size = head, head.Size
		a.head.Append(a.entries)
		if err := t.queueEntries(&batch, a); err != nil {
			return err
		}
	}
	t.queueRows(&batch)
	for log, numbers := range t.pruned {
		batch.Queue(all("UPDATE entries SET leaf = NULL, brief = NULL, dictionary = NULL, account = '' WHERE log = $2 AND number = ANY ($3)"+
			" AND leaf IS NOT NULL RETURNING 1"), len(numbers), log, numbers)
	}
	keys := t.Changes.Keys()
	if !t.later {
		for _, notice := range t.s.notices(keys) {
			batch.Queue("SELECT pg_notify($1, $2)", channel, notice)
		}
	}
	if batch.Len() == 0 {
		return nil
	}
	return t.via.SendBatch(t.ctx, &batch).Close()
}

// kept notes what the database has, once it is there.
func (t *tx) kept() {
	t.s.mu.Lock()
	for i := range t.logs {
		t.s.heads[t.logs[i].head.Log] = t.logs[i].head
	}
	if t.dictionary != nil {
		t.s.kept[t.dictionary.ID] = true
	}
	t.s.mu.Unlock()
	if t.later {
		t.s.tellSoon(t.Changes.Keys())
	}
}

// queueDictionary queues what entries and long rows are packed by, where there are such and the database does not have it.
func (t *tx) queueDictionary(batch *pgx.Batch) {
	packs := len(t.logs) > 0
	for _, row := range t.Changes {
		packs = packs || row != nil && len(row.Value) >= packedFrom
	}
	d := t.s.packing.Next()
	if d == nil || !packs {
		return
	}
	t.dictionary = d
	t.s.mu.Lock()
	defer t.s.mu.Unlock()
	if !t.s.kept[d.ID] {
		batch.Queue("INSERT INTO dictionaries VALUES ($1, $2) ON CONFLICT DO NOTHING", d.ID, d.Text)
	}
}

// longestNotice is how long a notification may be, in bytes (PostgreSQL: shorter than 8000).
const longestNotice = 7900

// notice is what a notification says: who changed which rows. All says that they were too many
// to name.
type notice struct {
	By   string      `json:"by"`
	Keys []store.Key `json:"keys,omitempty"`
	All  bool        `json:"all,omitzero"`
}

// notices are the notifications that name some keys.
func (s *Store) notices(keys []store.Key) (list []string) {
	const most = 10_000 // beyond that they are told to forget all
	add := func(n notice) {
		text, err := json.Marshal(n)
		if err != nil {
			panic(err) // it is texts
		}
		list = append(list, string(text))
	}
	everything := notice{By: s.self, All: true}
	if len(keys) > most {
		add(everything)
		return list
	}
	told, size := notice{By: s.self}, 0
	for _, key := range keys {
		length := 6*(len(key.Kind)+len(key.Key)) + 20 // as JSON, at the worst
		if length > longestNotice {
			list = nil
			add(everything)
			return list
		}
		if size+length > longestNotice-100 && len(told.Keys) > 0 {
			add(told)
			told.Keys, size = nil, 0
		}
		told.Keys, size = append(told.Keys, key), size+length
	}
	if len(told.Keys) > 0 {
		add(told)
	}
	return list
}

// Keys are gathered for so long before others are told, and told once more after so long where that fails.
const tellAfter, tellAgain = 3 * time.Millisecond, 100 * time.Millisecond

// tellSoon notes keys that others are told of a moment later. A notification within the transaction would have doors wait for each
// other: PostgreSQL lets one transaction that notifies end at a time.
func (s *Store) tellSoon(keys []store.Key) { s.tellIn(tellAfter, keys) }

func (s *Store) tellIn(after time.Duration, keys []store.Key) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.untold = append(s.untold, keys...)
	if s.telling == nil && len(s.untold) > 0 {
		s.telling = time.AfterFunc(after, s.tell)
	}
}

// tell tells others of the keys that were noted. Where another program is at it, it tries again a moment later.
func (s *Store) tell() {
	s.mu.Lock()
	keys := s.untold
	s.untold, s.telling = nil, nil
	s.mu.Unlock()
	if len(keys) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	var batch pgx.Batch
	// Nothing is kept by it, so that it need not wait for the disk.
	batch.Queue("SELECT set_config('synchronous_commit', 'off', true) WHERE pg_try_advisory_xact_lock($1)", telling)
	for _, notice := range s.notices(keys) {
		batch.Queue("SELECT pg_notify($1, $2) WHERE pg_try_advisory_xact_lock($3)", channel, notice, telling)
	}
	results := s.pool.SendBatch(ctx, &batch)
	first, err := results.Exec()
	if err = errors.Join(err, results.Close()); err != nil {
		s.tellIn(tellAgain, keys)
	} else if first.RowsAffected() == 0 {
		s.tellIn(tellAfter, keys)
	}
}

// lockOf is the number of the advisory lock on a name, among the schemas of a database.
const lockOf = "hashtextextended(current_schema() || '/' || $1, 0)"

// Hold implements store.Store. A connection of its own holds an advisory lock on the name.
func (s *Store) Hold(ctx context.Context, name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if conn := s.held[name]; conn != nil {
		if conn.Ping(ctx) == nil {
			return nil
		}
		delete(s.held, name)
	}
	conn, err := pgx.ConnectConfig(ctx, s.pool.Config().ConnConfig)
	if err != nil {
		return err
	}
	var got bool
	err = conn.QueryRow(ctx, "SELECT pg_try_advisory_lock("+lockOf+")", name).Scan(&got)
	if err == nil && !got {
		err = fmt.Errorf("another door runs under the name %q on this store: give each door a name of its own (journal: {door: NAME})", name)
	}
	if err != nil {
		return errors.Join(err, conn.Close(context.WithoutCancel(ctx)))
	}
	s.held[name] = conn
	return nil
}

// Release implements store.Store.
func (s *Store) Release(name string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	conn := s.held[name]
	if conn == nil {
		return nil
	}
	delete(s.held, name)
	return conn.Close(context.Background())
}

// Held implements store.Store.
func (s *Store) Held(ctx context.Context, name string) (held bool, err error) {
	// The two halves of the number stand in classid and objid.
	return held, s.pool.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_locks, (SELECT "+lockOf+" AS number) AS of"+
		" WHERE locktype = 'advisory' AND database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND objsubid = 1"+
		" AND classid::bigint = (number >> 32) & 4294967295 AND objid::bigint = number & 4294967295 AND granted)", name).Scan(&held)
}
