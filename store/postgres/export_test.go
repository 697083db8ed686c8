package postgres

import (
	"context"

	"github.com/jackc/pgx/v5"
)

// Telling is the advisory lock that is held while others are told.
const Telling = telling

// EndOthers ends all other connections to the database, as a restart of the server does.
func (s *Store) EndOthers(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity"+
		" WHERE pid <> pg_backend_pid() AND datname = current_database() AND query LIKE 'LISTEN%'")
	return err
}

// EndAll ends all connections of the pool, as a restart of the server does.
func (s *Store) EndAll(ctx context.Context) error {
	other, err := pgx.ConnectConfig(ctx, s.pool.Config().ConnConfig)
	if err != nil {
		return err
	}
	defer other.Close(ctx)
	for _, conn := range s.pool.AcquireAllIdle(ctx) {
		pid := conn.Conn().PgConn().PID()
		conn.Release()
		if _, err := other.Exec(ctx, "SELECT pg_terminate_backend($1)", int32(pid)); err != nil {
			return err
		}
	}
	return nil
}

// Run runs a statement of SQL.
func (s *Store) Run(ctx context.Context, text string) error {
	_, err := s.pool.Exec(ctx, text)
	return err
}
