package postgres

import "context"

// EndOthers ends all other connections to the database, as a restart of the server does.
func (s *Store) EndOthers(ctx context.Context) error {
	_, err := s.pool.Exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity"+
		" WHERE pid <> pg_backend_pid() AND datname = current_database() AND query LIKE 'LISTEN%'")
	return err
}
