package journal

import (
	"cmp"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
)

// BeforeLog is the log of what was recorded when a store had one log alone.
const BeforeLog = "before"

// covered is how long a log was at a checkpoint, and the root of its tree then.
type covered struct {
	Log  string
	Size int64
	Root tlog.Hash
}

// NewKey makes a pair of keys (Ed25519) for the checkpoints of a journal of that name, each one line of text. The name has
// no space and no plus sign.
func NewKey(origin string) (private, public string, err error) {
	if origin == "" || strings.ContainsAny(origin, "+ \t\r\n") {
		return "", "", fmt.Errorf("%q cannot name a journal; write a name without spaces and plus signs, such as ferries.example/journal", origin)
	}
	return note.GenerateKey(rand.Reader, origin)
}

// PublicKey returns the public key that belongs to a private key of NewKey.
func PublicKey(private string) (string, error) {
	parts := strings.SplitN(strings.TrimSpace(private), "+", 5) // PRIVATE+KEY+name+hash+data, as package note has it
	signer, err := note.NewSigner(strings.TrimSpace(private))
	if err != nil || len(parts) != 5 {
		return "", errNoKey
	}
	data, err := base64.StdEncoding.DecodeString(parts[4])
	if err != nil || len(data) != 1+ed25519.SeedSize {
		return "", errNoKey
	}
	return note.NewEd25519VerifierKey(signer.Name(), ed25519.NewKeyFromSeed(data[1:]).Public().(ed25519.PublicKey))
}

var errNoKey = errors.New("that is no private key for checkpoints: one line that begins with PRIVATE+KEY+")

// Checkpoint signs the size and the root of every log of a journal with a private key of NewKey. It is a signed note
// (golang.org/x/mod/sumdb/note): the name of the journal, which is that of the key, and a line for each log.
func Checkpoint(heads []Head, private string) ([]byte, error) {
	signer, err := note.NewSigner(strings.TrimSpace(private))
	if err != nil {
		return nil, errNoKey
	}
	heads = slices.SortedFunc(slices.Values(heads), func(a, b Head) int { return cmp.Compare(a.Log, b.Log) })
	text := signer.Name() + "\n"
	for i := range heads {
		root := heads[i].Root()
		text += fmt.Sprintf("log %s %d %s\n", heads[i].Log, heads[i].Size, base64.StdEncoding.EncodeToString(root[:]))
	}
	return note.Sign(&note.Note{Text: text}, signer)
}

// openCheckpoint reads a checkpoint that the owner of a public key signed. Any other is an error.
func openCheckpoint(signed []byte, public string) (origin string, logs []covered, err error) {
	verifier, err := note.NewVerifier(strings.TrimSpace(public))
	if err != nil {
		return "", nil, errors.New("that is no public key for checkpoints: one line such as ferries.example/journal+33d7b496+AeHzf0EAyV…")
	}
	n, err := note.Open(signed, note.VerifierList(verifier))
	var unsigned *note.UnverifiedNoteError
	var forged *note.InvalidSignatureError
	switch {
	case errors.As(err, &unsigned):
		return "", nil, fmt.Errorf("it is not signed by %s with that key", verifier.Name())
	case errors.As(err, &forged):
		return "", nil, fmt.Errorf("the signature of %s is wrong: it was changed after it was signed", verifier.Name())
	case err != nil:
		return "", nil, errors.New("it is no checkpoint: lines of text, an empty one and a line for each signature")
	}
	lines := strings.Split(strings.TrimSuffix(n.Text, "\n"), "\n")
	if origin = lines[0]; origin != verifier.Name() {
		return "", nil, fmt.Errorf("it is of the journal %q, and signed by %q", origin, verifier.Name())
	}
	if len(lines) == 3 && !strings.Contains(lines[1], " ") {
		// Of the version before, which had one log: origin, size and root (https://c2sp.org/tlog-checkpoint).
		lines = []string{origin, fmt.Sprintf("log %s %s %s", BeforeLog, lines[1], lines[2])}
	}
	for _, line := range lines[1:] {
		words := strings.Split(line, " ")
		if len(words) != 4 || words[0] != "log" || CheckLog(words[1]) != nil {
			return "", nil, fmt.Errorf("%q says nothing of a log: its name, how many entries it has, and the root of its tree", line)
		}
		size, err := strconv.ParseInt(words[2], 10, 64)
		root, wrong := base64.StdEncoding.DecodeString(words[3])
		switch {
		case err != nil || size < 0 || strconv.FormatInt(size, 10) != words[2]:
			return "", nil, fmt.Errorf("%q is not how many entries a log has", words[2])
		case wrong != nil || len(root) != tlog.HashSize:
			return "", nil, fmt.Errorf("%q is not the root of a tree: 32 bytes in base64", words[3])
		case slices.ContainsFunc(logs, func(l covered) bool { return l.Log == words[1] }):
			return "", nil, fmt.Errorf("it speaks twice of the log %s", words[1])
		}
		logs = append(logs, covered{words[1], size, tlog.Hash(root)})
	}
	return origin, logs, nil
}
