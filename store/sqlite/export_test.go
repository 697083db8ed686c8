package sqlite

import (
	"context"
	"fmt"
)

// LimitTo lets the file have no more pages than it has and so many, as on a disk that is full; a
// negative number sets no limit.
func (s *Store) LimitTo(ctx context.Context, more int) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	pages, most := 0, 1<<30
	if err := s.conn.QueryRowContext(ctx, "PRAGMA page_count").Scan(&pages); err != nil {
		return err
	}
	if more >= 0 {
		most = pages + more
	}
	return s.conn.QueryRowContext(ctx, fmt.Sprintf("PRAGMA max_page_count = %d", most)).Scan(&most)
}
