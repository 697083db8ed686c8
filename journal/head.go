package journal

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math/bits"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/mod/sumdb/tlog"
)

// Head is the end of a log: how many entries it has, and the roots of the perfect trees that they make up, from left to
// right. The Head of an empty log has its name alone.
type Head struct {
	Log  string
	Size int64
	Edge []tlog.Hash
}

// mostTrees is how many perfect trees a log can have, which bounds it to 2^40 entries.
const mostTrees = 40

// CheckLog reports whether a name can be that of a log: up to 64 letters, digits, dots, hyphens and underscores of ASCII.
func CheckLog(name string) error {
	for _, c := range []byte(name) {
		if (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && c != '.' && c != '-' && c != '_' {
			return fmt.Errorf("%q cannot name a log: %q is no letter, digit, dot, hyphen or underscore", name, c)
		}
	}
	if name == "" || len(name) > 64 {
		return fmt.Errorf("%q cannot name a log: a name has 1 to 64 characters", name)
	}
	return nil
}

// Append numbers entries that Make made, which come behind those of the head, and says which log they are in. The head moves
// behind them.
func (h *Head) Append(entries []Entry) {
	h.Edge = slices.Clone(h.Edge) // which the caller of an older head may have
	for i := range entries {
		entries[i].Log, entries[i].Number = h.Log, h.Size
		h.add(entries[i].Hash)
	}
}

// add adds a leaf: two perfect trees of one size become one of twice the size.
func (h *Head) add(leaf tlog.Hash) {
	for size := h.Size; size&1 == 1; size >>= 1 {
		last := len(h.Edge) - 1
		leaf = tlog.NodeHash(h.Edge[last], leaf)
		h.Edge = h.Edge[:last]
	}
	h.Edge = append(h.Edge, leaf)
	h.Size++
}

// Root returns the root of the tree (RFC 6962 §2.1).
func (h *Head) Root() tlog.Hash {
	if len(h.Edge) == 0 {
		root, _ := tlog.TreeHash(0, nil) // the hash of nothing, for which nothing is read
		return root
	}
	root := h.Edge[len(h.Edge)-1]
	for i := len(h.Edge) - 2; i >= 0; i-- {
		root = tlog.NodeHash(h.Edge[i], root)
	}
	return root
}

// MarshalBinary writes the edge and the size, not the name. All heads are of one length, and each tree has a place of its
// own, the largest first, so that one entry more changes few bytes at the end: what a database writes of a change is small.
func (h *Head) MarshalBinary() ([]byte, error) {
	text := make([]byte, mostTrees*tlog.HashSize, mostTrees*tlog.HashSize+8)
	tree := 0
	for bit := mostTrees - 1; bit >= 0; bit-- {
		if h.Size>>bit&1 == 1 {
			copy(text[(mostTrees-1-bit)*tlog.HashSize:], h.Edge[tree][:])
			tree++
		}
	}
	return binary.BigEndian.AppendUint64(text, uint64(h.Size)), nil
}

// UnmarshalBinary reads a head, and refuses one whose edge cannot be that of its size.
func (h *Head) UnmarshalBinary(text []byte) error {
	broken := errors.New("that is no head of a log")
	if len(text) != mostTrees*tlog.HashSize+8 {
		return broken
	}
	read := Head{Log: h.Log, Size: int64(binary.BigEndian.Uint64(text[mostTrees*tlog.HashSize:]))}
	if read.Size < 0 || bits.Len64(uint64(read.Size)) > mostTrees {
		return broken
	}
	for bit := mostTrees - 1; bit >= 0; bit-- {
		tree := tlog.Hash(text[(mostTrees-1-bit)*tlog.HashSize:])
		switch {
		case read.Size>>bit&1 == 1:
			read.Edge = append(read.Edge, tree)
		case tree != tlog.Hash{}:
			return broken
		}
	}
	*h = read
	return nil
}

// ParseHeadBefore reads the head of a journal that had one log, as the version before kept it: one line with the size and
// the edge. It is for who carries that over.
func ParseHeadBefore(text string) (head Head, err error) {
	broken := errors.New("that is no head of a journal")
	head = Head{Log: BeforeLog}
	for i, field := range strings.Fields(text) {
		if i == 0 {
			head.Size, err = strconv.ParseInt(field, 10, 64)
		} else {
			var tree tlog.Hash
			tree, err = tlog.ParseHash(field)
			head.Edge = append(head.Edge, tree)
		}
		if err != nil {
			return Head{}, broken
		}
	}
	if strings.TrimSpace(text) == "" || head.Size < 0 || bits.Len64(uint64(head.Size)) > mostTrees ||
		bits.OnesCount64(uint64(head.Size)) != len(head.Edge) {
		return Head{}, broken
	}
	return head, nil
}
