// Package merkle is the evidence that a record only grew: the hashes of a Merkle tree over
// its entries (RFC 6962 §2.1, as golang.org/x/mod/sumdb/tlog has it), and checkpoints,
// which are signed notes of the tree's size and root.
//
// A record that agrees with a checkpoint kept elsewhere has every entry that it had then,
// unchanged and in its place. What came after the checkpoint is not covered by it.
package merkle

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// Hashes are stored hashes in memory.
type Hashes []tlog.Hash

// ReadHashes implements tlog.HashReader.
func (h Hashes) ReadHashes(positions []int64) ([]tlog.Hash, error) {
	found := make([]tlog.Hash, len(positions))
	for i, p := range positions {
		if p < 0 || p >= int64(len(h)) {
			return nil, fmt.Errorf("hash %d is missing", p)
		}
		found[i] = h[p]
	}
	return found, nil
}

// Checkpoint is how long a record was at a moment, and the root of its tree then.
type Checkpoint struct {
	// Origin names the record. It is the name of the key that signs.
	Origin string
	Size   int64
	Root   tlog.Hash
}

// text writes a checkpoint in the three lines that transparency logs write: origin, size
// in decimal, root in base64 (https://c2sp.org/tlog-checkpoint).
func (c Checkpoint) text() string {
	return fmt.Sprintf("%s\n%d\n%s\n", c.Origin, c.Size, base64.StdEncoding.EncodeToString(c.Root[:]))
}

// NewKey makes a key pair (Ed25519) for checkpoints of the record called origin, each as
// one line of text. The origin has no space and no plus sign.
func NewKey(origin string) (private, public string, err error) {
	if origin == "" || strings.ContainsAny(origin, "+ \t\r\n") {
		return "", "", fmt.Errorf("%q cannot name a record; write a name without spaces and plus signs, such as ferries.example/consent", origin)
	}
	return note.GenerateKey(rand.Reader, origin)
}

// Sign returns the checkpoint of a record as a signed note (package note of
// golang.org/x/mod/sumdb). The name of the key becomes the origin.
func Sign(size int64, root tlog.Hash, private string) ([]byte, error) {
	signer, err := note.NewSigner(strings.TrimSpace(private))
	if err != nil {
		return nil, errors.New("that is no private key for checkpoints: one line that begins with PRIVATE+KEY+")
	}
	c := Checkpoint{Origin: signer.Name(), Size: size, Root: root}
	return note.Sign(&note.Note{Text: c.text()}, signer)
}

// Open reads a checkpoint that the owner of a public key signed. Any other is an error.
func Open(signed []byte, public string) (Checkpoint, error) {
	verifier, err := note.NewVerifier(strings.TrimSpace(public))
	if err != nil {
		return Checkpoint{}, errors.New("that is no public key for checkpoints: one line such as consent+33d7b496+AeHzf0EAyV…")
	}
	n, err := note.Open(signed, note.VerifierList(verifier))
	var unsigned *note.UnverifiedNoteError
	var forged *note.InvalidSignatureError
	switch {
	case errors.As(err, &unsigned):
		return Checkpoint{}, fmt.Errorf("it is not signed by %s with that key", verifier.Name())
	case errors.As(err, &forged):
		return Checkpoint{}, fmt.Errorf("the signature of %s is wrong: it was changed after it was signed", verifier.Name())
	case err != nil:
		return Checkpoint{}, errors.New("it is no checkpoint: three lines of text, an empty one and a line for each signature")
	}
	return parse(n.Text, verifier.Name())
}

// parse reads the text of a checkpoint. Lines after the third are extensions, which say
// nothing of the tree.
func parse(text, signer string) (Checkpoint, error) {
	lines := strings.SplitN(text, "\n", 4)
	if len(lines) < 4 {
		return Checkpoint{}, errors.New("a checkpoint has three lines: origin, size and root")
	}
	c := Checkpoint{Origin: lines[0]}
	size, err := strconv.ParseInt(lines[1], 10, 64)
	root, wrong := base64.StdEncoding.DecodeString(lines[2])
	switch {
	case c.Origin != signer:
		return Checkpoint{}, fmt.Errorf("it is of the record %q, and signed by %q", c.Origin, signer)
	case err != nil || size < 0 || strconv.FormatInt(size, 10) != lines[1]:
		return Checkpoint{}, fmt.Errorf("%q is not how many entries a record has", lines[1])
	case wrong != nil || len(root) != tlog.HashSize:
		return Checkpoint{}, fmt.Errorf("%q is not the root of a tree: 32 bytes in base64", lines[2])
	}
	c.Size, c.Root = size, tlog.Hash(root)
	return c, nil
}
