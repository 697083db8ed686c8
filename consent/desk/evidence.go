package desk

import (
	"context"
	"fmt"

	"github.com/briskwarden/briskwarden/internal/merkle"
	"golang.org/x/mod/sumdb/tlog"
)

// Acts returns the record, once all of it has been verified as Verify does.
func (d *Desk) Acts(ctx context.Context) ([]Act, error) {
	acts, _, _, err := d.verified(ctx)
	return acts, err
}

// VerifyActs holds all acts against their tree: each is as it was recorded, and none is
// missing. It costs half of Verify, which also looks at what is kept beside the acts.
func (d *Desk) VerifyActs(ctx context.Context) error { return d.store.view(ctx, verifyActs) }

// Verify holds the whole record against its tree, and what is kept beside the acts against
// the acts. It costs a reading of the record. That somebody rewrote all of it only a
// checkpoint tells that is kept elsewhere.
func (d *Desk) Verify(ctx context.Context) error {
	_, _, _, err := d.verified(ctx)
	return err
}

// verified verifies the whole record and returns its acts, its end and the hashes of its tree.
func (d *Desk) verified(ctx context.Context) (acts []Act, h head, hashes merkle.Hashes, err error) {
	err = d.store.view(ctx, func(l ledger) (err error) {
		if h, err = l.head(); err != nil {
			return err
		}
		acts = make([]Act, 0, h.size)
		h, hashes, err = verify(l, func(a Act) { acts = append(acts, a) })
		return err
	})
	if err != nil {
		return nil, h, nil, err
	}
	return acts, h, hashes, nil
}

// Checkpoint returns how long the record is and the root of its tree, signed with a private
// key of NewKey, once all of it has been verified. Kept where nobody who writes the record
// can change it, it shows later that no act before it was edited, dropped or added.
func (d *Desk) Checkpoint(ctx context.Context, privateKey string) ([]byte, error) {
	_, h, _, err := d.verified(ctx)
	if err != nil {
		return nil, err
	}
	return merkle.Sign(h.size, h.root, privateKey)
}

// NewKey makes a key pair for checkpoints of a record, each as one line of text. The name is
// that of the record, such as ferries.example/consent.
func NewKey(name string) (private, public string, err error) { return merkle.NewKey(name) }

// Covered is what a checkpoint shows of a record.
type Covered struct {
	// Origin names the record, as the checkpoint does.
	Origin string `json:"origin" doc:"name of the record, as the checkpoint has it"`
	// Acts is how many acts were on record at the checkpoint: they are as they were then.
	Acts int64 `json:"acts" doc:"how many acts are covered by the checkpoint, and are as they were then"`
	// Since is how many acts came after it.
	Since int64 `json:"since" doc:"how many acts came after the checkpoint"`
}

// ActsAgainst returns the record, once it has been verified and held against a checkpoint
// that the owner of a public key signed and that was kept elsewhere. An error says that
// the checkpoint cannot be trusted, or that acts are not as they were.
func (d *Desk) ActsAgainst(ctx context.Context, checkpoint []byte, publicKey string) ([]Act, *Covered, error) {
	kept, err := merkle.Open(checkpoint, publicKey)
	if err != nil {
		return nil, nil, fmt.Errorf("the checkpoint: %w", err)
	}
	acts, h, hashes, err := d.verified(ctx)
	if err != nil {
		return nil, nil, err
	}
	if h.size < kept.Size {
		return nil, nil, fmt.Errorf("%w: it has %d acts, and had %d at the checkpoint", errBroken, h.size, kept.Size)
	}
	root, err := tlog.TreeHash(kept.Size, hashes)
	if err != nil {
		return nil, nil, err
	}
	if root != kept.Root {
		return nil, nil, fmt.Errorf("%w: at least one of its first %d acts is not as it was at the checkpoint", errBroken, kept.Size)
	}
	return acts, &Covered{Origin: kept.Origin, Acts: kept.Size, Since: h.size - kept.Size}, nil
}
