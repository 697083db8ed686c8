package desk

import "context"

// Append keeps acts as they are, so that a test can set every field.
func Append(s Store, acts ...Act) ([]Act, error) {
	return (&Desk{store: s}).act(context.Background(), acts[0].At, func(s *sitting) error {
		for _, a := range acts {
			if err := s.append(a); err != nil {
				return err
			}
		}
		return nil
	})
}
