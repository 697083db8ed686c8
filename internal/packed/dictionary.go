package packed

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"sync"
	"sync/atomic"

	"github.com/klauspost/compress/s2"
)

// Dictionary packs texts that resemble one that is known: a decision of 3 kB to some 150 bytes, in half the time that
// packing it alone takes (S2, github.com/klauspost/compress). It is safe for concurrent use.
type Dictionary struct {
	// ID is made of the text, so that those who pack by the same text name it alike. It is above 0.
	ID   int64
	Text []byte
	dict *s2.Dict
}

// longestSample is how much of a text is used, in bytes; S2 takes no more.
const longestSample = s2.MaxDictSize

// NewDictionary makes a dictionary of a text, nil where that is too short to be of use.
func NewDictionary(text []byte) *Dictionary {
	if len(text) > longestSample {
		text = text[:longestSample]
	}
	dict := s2.MakeDict(text, nil)
	if dict == nil {
		return nil
	}
	sum := sha256.Sum256(text)
	return &Dictionary{ID: int64(binary.BigEndian.Uint64(sum[:])>>1 | 1), Text: text, dict: dict}
}

// Pack packs a text.
func (d *Dictionary) Pack(text []byte) []byte { return d.dict.Encode(nil, text) }

var errDamaged = errors.New("what was packed, or what it was packed by, is damaged")

// longestUnpacked bounds what a damaged text can unfold to, in bytes.
const longestUnpacked = 64 << 20

// Unpack undoes Pack.
func (d *Dictionary) Unpack(small []byte) ([]byte, error) {
	if n, err := s2.DecodedLen(small); err != nil || n > longestUnpacked {
		return nil, errDamaged
	}
	text, err := d.dict.Decode(nil, small)
	if err != nil {
		return nil, errDamaged
	}
	return text, nil
}

// Dictionaries are what a store packs its leaves by: the one for those to come, and those by which others were packed. The
// zero Dictionaries has none. It is safe for concurrent use.
type Dictionaries struct {
	next  atomic.Pointer[Dictionary]
	known sync.Map
}

// Resembling says what texts to come will be like.
func (d *Dictionaries) Resembling(text []byte) { d.next.Store(NewDictionary(text)) }

// Next returns the dictionary for texts to come, nil where nobody said what they will be like.
func (d *Dictionaries) Next() *Dictionary { return d.next.Load() }

// Unpack undoes Pack of the dictionary of an ID. Load returns the text of that dictionary, and is asked once.
func (d *Dictionaries) Unpack(id int64, small []byte, load func() ([]byte, error)) ([]byte, error) {
	by, ok := d.known.Load(id)
	if !ok {
		text, err := load()
		if err != nil {
			return nil, err
		}
		made := NewDictionary(text)
		if made == nil || made.ID != id {
			return nil, errDamaged
		}
		by, _ = d.known.LoadOrStore(id, made)
	}
	return by.(*Dictionary).Unpack(small)
}
