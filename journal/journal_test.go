package journal_test

import (
	"context"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/mod/sumdb/note"
	"golang.org/x/mod/sumdb/tlog"
	"pgregory.net/rapid"

	"github.com/briskwarden/briskwarden/journal"
)

var at = time.Date(2026, time.November, 23, 13, 10, 0, 123456789, time.UTC)

// hashes are stored hashes in memory.
type hashes []tlog.Hash

// ReadHashes implements tlog.HashReader.
func (h hashes) ReadHashes(positions []int64) (found []tlog.Hash, err error) {
	for _, p := range positions {
		found = append(found, h[p])
	}
	return found, nil
}

func record(n int) (entries []journal.Entry, head journal.Head) {
	head.Log = "door"
	for i := range n {
		entries = append(entries, journal.Make(journal.Decision, fmt.Sprint(i), at, "gateway", "liv", "answer", fmt.Appendf(nil, `{"n":%d}`, i)))
	}
	head.Append(entries)
	return entries, head
}

func all(entries []journal.Entry) iter.Seq2[journal.Entry, error] {
	return func(yield func(journal.Entry, error) bool) {
		for _, e := range entries {
			if !yield(e, nil) {
				return
			}
		}
	}
}

func TestTheRootIsThatOfTheLibrary(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		first := rapid.IntRange(0, 40).Draw(t, "first")
		entries, head := record(first)
		before := head
		root := before.Root()
		more := rapid.IntRange(0, 40).Draw(t, "more")
		later, _ := record(more)
		head.Append(later)
		require.Equal(t, root, before.Root(), "an older head stays as it was")
		var stored hashes
		for i, e := range append(entries, later...) {
			added, err := tlog.StoredHashes(int64(i), e.Leaf, stored)
			require.NoError(t, err)
			stored = append(stored, added...)
		}
		want, err := tlog.TreeHash(int64(first+more), stored)
		require.NoError(t, err)
		require.Equal(t, want, head.Root())
		text, err := head.MarshalBinary()
		require.NoError(t, err)
		var read journal.Head
		require.NoError(t, read.UnmarshalBinary(text))
		require.Equal(t, head.Root(), read.Root())
		require.Equal(t, head.Size, read.Size)
	})
}

func TestVerify(t *testing.T) {
	private, public, err := journal.NewKey("ferries.example/journal")
	require.NoError(t, err)
	derived, err := journal.PublicKey(private)
	require.NoError(t, err)
	require.Equal(t, public, derived)
	_, err = journal.PublicKey(public)
	require.ErrorContains(t, err, "that is no private key")
	_, stranger, err := journal.NewKey("ferries.example/journal")
	require.NoError(t, err)
	_, three := record(3)
	checkpoint, err := journal.Checkpoint([]journal.Head{three}, private)
	require.NoError(t, err)
	five := func(change func(entries []journal.Entry) []journal.Entry) ([]journal.Entry, journal.Head) {
		entries, head := record(5)
		return change(entries), head
	}
	// rewritten is a record that somebody made up, with a head that is right for it.
	rewritten := func([]journal.Entry) ([]journal.Entry, journal.Head) {
		entries, _ := record(5)
		entries[1] = journal.Make(journal.Decision, "1", at, "gateway", "liv", "answer", []byte(`{"n":"another"}`))
		head := journal.Head{Log: "door"}
		head.Append(entries)
		return entries, head
	}
	made, madeHead := rewritten(nil)
	for name, c := range map[string]struct {
		change     func([]journal.Entry) []journal.Entry
		made       bool
		noHead     bool
		checkpoint []byte
		public     string
		want       string
	}{
		"sound":                     {},
		"sound, against checkpoint": {checkpoint: checkpoint, public: public},
		"emptied by nobody": {change: func(e []journal.Entry) []journal.Entry { e[1].Prune(); return e },
			checkpoint: checkpoint, public: public, want: "entry 1 was emptied, and no entry of the journal says so"},
		"emptied, and said to be another's": {change: func(e []journal.Entry) []journal.Entry { e[1].Prune(); e[1].Account = "oskar"; return e },
			want: `is found all the same as one of "oskar"`},
		"numbered below": {change: func(e []journal.Entry) []journal.Entry {
			return append([]journal.Entry{{Log: "door", Number: -1, ID: "x", Leaf: e[0].Leaf, Hash: e[0].Hash}}, e...)
		}, want: "entry 0 is missing"},
		"edited": {change: func(e []journal.Entry) []journal.Entry { e[1].Leaf[20] ^= 1; return e },
			want: "entry 1 (1) is not as it was recorded"},
		"edited with its hash": {change: func(e []journal.Entry) []journal.Entry { e[4].Hash[0] ^= 1; e[4].Prune(); return e },
			want: "are not those that its head is of"},
		"dropped": {change: func(e []journal.Entry) []journal.Entry { return slices.Delete(e, 2, 3) }, want: "entry 2 is missing"},
		"cut off": {change: func(e []journal.Entry) []journal.Entry { return e[:4] },
			want: "the journal has 4 entries and says that it has 5"},
		"said to be empty": {noHead: true, want: "the journal has 5 entries and says that it has 0"},
		"found wrongly": {change: func(e []journal.Entry) []journal.Entry { e[3].Account = "oskar"; return e },
			want: "entry 3 is found as 3 of oskar"},
		"of another kind": {change: func(e []journal.Entry) []journal.Entry { e[3].Kind = journal.Report; return e },
			want: "entry 3 is found as 3 of liv"},
		"all made up": {made: true},
		"all made up, against checkpoint": {made: true, checkpoint: checkpoint, public: public,
			want: "the first 3 entries of the journal are not those that the checkpoint covers"},
		"another's checkpoint": {checkpoint: checkpoint, public: stranger, want: "the checkpoint cannot be trusted"},
		"no checkpoint":        {checkpoint: []byte("none"), public: public, want: "the checkpoint cannot be trusted"},
	} {
		t.Run(name, func(t *testing.T) {
			if c.change == nil {
				c.change = func(e []journal.Entry) []journal.Entry { return e }
			}
			entries, head := five(c.change)
			if c.made {
				entries, head = made, madeHead
			}
			if c.noHead {
				head = journal.Head{Log: "door"}
			}
			found, err := journal.Verify(t.Context(), kept{entries, head}, journal.Verification{Checkpoint: c.checkpoint, PublicKey: c.public})
			if c.want != "" {
				require.ErrorContains(t, err, c.want)
				return
			}
			require.NoError(t, err)
			require.EqualValues(t, 5, found.Size)
			if c.checkpoint != nil {
				require.EqualValues(t, 3, *found.Covered)
			}
		})
	}
	t.Run("shorter than the checkpoint", func(t *testing.T) {
		entries, head := record(2)
		_, err := journal.Verify(t.Context(), kept{entries, head}, journal.Verification{Checkpoint: checkpoint, PublicKey: public})
		require.ErrorContains(t, err, "the checkpoint covers 3 entries of the journal, which has 2: 1 are gone")
	})
}

// TestWhatWasPruned: an entry is emptied by one that names it, and by nothing else.
func TestWhatWasPruned(t *testing.T) {
	for name, c := range map[string]struct{ said, want string }{
		"named":            {`{"before":"2026-11-24T00:00:00Z","by":"ragna","entries":2,"emptied":[[1,2]]}`, ""},
		"in two stretches": {`{"before":"2026-11-24T00:00:00Z","by":"ragna","entries":2,"emptied":[[2,2],[1,1]]}`, ""},
		"one of them":      {`{"before":"2026-11-24T00:00:00Z","entries":2,"emptied":[[1,1]]}`, "entry 2 was emptied, and no entry"},
		"the other":        {`{"before":"2026-11-24T00:00:00Z","entries":2,"emptied":[[2,2]]}`, "entry 1 was emptied, and no entry"},
		"itself":           {`{"before":"2026-11-24T00:00:00Z","entries":2,"emptied":[[1,4]]}`, "entry 4 was emptied, which came after it"},
		"one that came later": {`{"before":"2026-11-24T00:00:00Z","entries":2,"emptied":[[1,9]]}`,
			"entry 9 was emptied, which came after it"},
		"as before there were numbers": {`{"before":"2026-11-24T00:00:00Z","entries":2}`, ""},
		"and too many of them":         {`{"before":"2026-11-24T00:00:00Z","entries":1}`, "entry 2 was emptied, and no entry"},
		"and too late":                 {`{"before":"2026-11-23T00:00:00Z","entries":2}`, "entry 1 was emptied, and no entry"},
	} {
		t.Run(name, func(t *testing.T) {
			entries, _ := record(4)
			entries = append(entries, journal.Make(journal.Pruned, "p", at.Add(time.Hour), "", "", "pruned", []byte(c.said)))
			head := journal.Head{Log: "door"}
			head.Append(entries)
			entries[1].Prune()
			entries[2].Prune()
			found, err := journal.Verify(t.Context(), kept{entries, head}, journal.Verification{})
			if c.want != "" {
				require.ErrorContains(t, err, c.want)
				return
			}
			require.NoError(t, err)
			require.EqualValues(t, 2, found.Pruned)
			require.Len(t, found.Prunings, 1)
		})
	}
}

// logs is a journal of several logs.
type logs []kept

func (l logs) Entries(_ context.Context, f journal.Filter) iter.Seq2[journal.Entry, error] {
	var found []journal.Entry
	for _, k := range l {
		for _, e := range k.entries {
			if f.Matches(&e) {
				found = append(found, e)
			}
		}
	}
	return all(found)
}

func (l logs) Heads(context.Context) (heads []journal.Head, err error) {
	for _, k := range l {
		heads = append(heads, k.head)
	}
	return heads, nil
}

// TestSeveralLogs: one log may say what was emptied of another, and a message names the log.
func TestSeveralLogs(t *testing.T) {
	made := func(said string) logs {
		one, head := record(3)
		one[1].Prune()
		two := []journal.Entry{journal.Make(journal.Pruned, "p", at.Add(time.Hour), "", "", "pruned", []byte(said))}
		other := journal.Head{Log: "other"}
		other.Append(two)
		return logs{{one, head}, {two, other}}
	}
	const said = `{"before":"2026-11-24T00:00:00Z","by":"ragna","entries":1,"log":"door","emptied":[[1,1]]}`
	found, err := journal.Verify(t.Context(), made(said), journal.Verification{})
	require.NoError(t, err)
	require.EqualValues(t, 4, found.Size)
	require.Equal(t, "door", found.Prunings[0].Log)
	_, err = journal.Verify(t.Context(), made(strings.Replace(said, "door", "other", 1)), journal.Verification{})
	require.ErrorContains(t, err, "entry 0 of the log other says that entry 1 was emptied, which came after it")
	_, err = journal.Verify(t.Context(), made(strings.Replace(said, "door", "third", 1)), journal.Verification{})
	require.ErrorContains(t, err, "entry 1 of the log door was emptied, and no entry of the journal says so")
	done := int64(0)
	_, err = journal.Verify(t.Context(), made(said), journal.Verification{Progress: func(n, of int64) {
		done = n
		require.EqualValues(t, 4, of)
	}})
	require.NoError(t, err)
	require.EqualValues(t, 4, done)
}

// TestWitnesses: what the log of another door says of one that is cut, rewritten or gone as a whole is found without a checkpoint.
func TestWitnesses(t *testing.T) {
	one, head := record(3)
	witness := journal.MakeWitness(&head, at.Add(time.Hour))
	for name, c := range map[string]struct {
		door int
		edit func(*journal.Entry)
		want string
	}{
		"as it was":     {door: 3},
		"longer by now": {door: 5},
		"cut":           {door: 2, want: "entry 0 of the log other says that the log door had 3 entries, and it has 2: 1 are gone"},
		"gone":          {door: 0, want: "entry 0 of the log other says that the log door had 3 entries, and it has 0: 3 are gone"},
		"rewritten": {door: 3, edit: func(e *journal.Entry) { *e = journal.Make(journal.Report, e.ID, e.At, "x", "", "report", []byte("{}")) },
			want: "the first 3 entries of the log door are not those that entry 0 of the log other is of"},
	} {
		t.Run(name, func(t *testing.T) {
			entries, _ := record(c.door)
			if c.edit != nil {
				c.edit(&entries[1])
			}
			began := journal.MakeWitness(&journal.Head{Log: "door"}, at)
			door, other, told := journal.Head{Log: "door"}, journal.Head{Log: "other"}, []journal.Entry{witness, began}
			door.Append(entries)
			other.Append(told)
			l := logs{{told, other}}
			if c.door > 0 {
				l = append(l, kept{entries, door})
			}
			found, err := journal.Verify(t.Context(), l, journal.Verification{})
			if c.want != "" {
				require.ErrorContains(t, err, c.want)
				return
			}
			require.NoError(t, err)
			require.EqualValues(t, c.door+2, found.Size)
		})
	}
	t.Run("says nothing", func(t *testing.T) {
		told, other := []journal.Entry{journal.Make(journal.Witness, "w", at, "", "", "witness", []byte(`{"log":"door","size":3}`))},
			journal.Head{Log: "other"}
		other.Append(told)
		_, err := journal.Verify(t.Context(), logs{{one, head}, {told, other}}, journal.Verification{})
		require.ErrorContains(t, err, "entry 0 of the log other cannot be read: it says nothing of another log")
	})
}

// TestCheckpointsThatAreNone are signed by the right key and say something else than a checkpoint says.
func TestCheckpointsThatAreNone(t *testing.T) {
	private, public, err := journal.NewKey("ferries.example/journal")
	require.NoError(t, err)
	signer, err := note.NewSigner(private)
	require.NoError(t, err)
	const root = "47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU="
	line := "log door 3 " + root + "\n"
	for name, c := range map[string]struct{ text, want string }{
		"another's":       {"other.example/journal\n" + line, `it is of the journal "other.example/journal"`},
		"a size of octal": {"ferries.example/journal\nlog door 03 " + root + "\n", `"03" is not how many entries`},
		"below nothing":   {"ferries.example/journal\nlog door -3 " + root + "\n", `"-3" is not how many entries`},
		"twice":           {"ferries.example/journal\n" + line + line, "it speaks twice of the log door"},
		"no root":         {"ferries.example/journal\nlog door 3 AAAA\n", `"AAAA" is not the root`},
		"no log":          {"ferries.example/journal\nlog two words 3 " + root + "\n", "says nothing of a log"},
		"of before":       {"ferries.example/journal\n3\n" + root + "\n", "the checkpoint covers 3 entries of the log before, which has 0"},
	} {
		t.Run(name, func(t *testing.T) {
			signed, err := note.Sign(&note.Note{Text: c.text}, signer)
			require.NoError(t, err)
			_, err = journal.Verify(t.Context(), logs{{head: journal.Head{Log: "before"}}, {head: journal.Head{Log: "door"}}},
				journal.Verification{Checkpoint: signed, PublicKey: public})
			require.ErrorContains(t, err, c.want)
		})
	}
}

func TestHeadsThatAreNone(t *testing.T) {
	_, five := record(5)
	sound, err := five.MarshalBinary()
	require.NoError(t, err)
	spoilt := func(at int, to byte) []byte {
		text := slices.Clone(sound)
		text[at] = to
		return text
	}
	for name, text := range map[string][]byte{"nothing": nil, "too short": sound[1:], "a tree that its size has not": spoilt(3, 1),
		"below 0": spoilt(len(sound)-8, 0x80), "more than there can be": spoilt(len(sound)-7, 1)} {
		t.Run(name, func(t *testing.T) {
			head := journal.Head{Size: 7}
			require.Error(t, head.UnmarshalBinary(text))
			require.EqualValues(t, 7, head.Size, "what cannot be read changes nothing")
		})
	}
	for _, text := range []string{"", "x", "-1", "1", "2 AAAA", "0 47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU=",
		"3 47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU="} {
		t.Run("of before: "+text, func(t *testing.T) {
			_, err := journal.ParseHeadBefore(text)
			require.Error(t, err)
		})
	}
}

func TestContent(t *testing.T) {
	e := journal.Make(journal.Report, "r", at, "agent \"7\"", "", "report", []byte(`{"device":"till-04"}`))
	c, err := e.Content()
	require.NoError(t, err)
	require.Equal(t, journal.Content{Kind: journal.Report, ID: "r", At: at.Truncate(time.Microsecond), Caller: "agent \"7\"",
		Report: []byte(`{"device":"till-04"}`)}, *c)
	e.Leaf = nil
	_, err = e.Content()
	require.ErrorContains(t, err, "was pruned")
	require.Less(t, journal.NewID(), journal.NewID(), "names made later sort behind")
}

// kept is a record in memory.
type kept struct {
	entries []journal.Entry
	head    journal.Head
}

func (k kept) Entries(_ context.Context, f journal.Filter) iter.Seq2[journal.Entry, error] {
	return all(slices.DeleteFunc(slices.Clone(k.entries), func(e journal.Entry) bool { return f.After > 0 && e.Number < f.After }))
}

func (k kept) Heads(context.Context) ([]journal.Head, error) { return []journal.Head{k.head}, nil }

func TestFilter(t *testing.T) {
	e := journal.Entry{Log: "door", Number: 3, At: at, Kind: journal.Report, Account: "liv"}
	for name, c := range map[string]struct {
		f    journal.Filter
		want bool
	}{
		"nothing":        {journal.Filter{}, true},
		"from its time":  {journal.Filter{From: at}, true},
		"from later":     {journal.Filter{From: at.Add(1)}, false},
		"to its time":    {journal.Filter{To: at}, false},
		"to later":       {journal.Filter{To: at.Add(1)}, true},
		"its number":     {journal.Filter{Log: "door", After: 3}, true},
		"a later number": {journal.Filter{Log: "door", After: 4}, false},
		"another log":    {journal.Filter{Log: "other"}, false},
		"another kind":   {journal.Filter{Kind: journal.Event}, false},
		"another person": {journal.Filter{Account: "oskar"}, false},
		"no match":       {journal.Filter{Match: func(*journal.Entry) bool { return false }}, false},
	} {
		t.Run(name, func(t *testing.T) { require.Equal(t, c.want, c.f.Matches(&e)) })
	}
}

// TestBriefsThatAreAlike keep what is each one's own.
func TestBriefsThatAreAlike(t *testing.T) {
	var briefs journal.Briefs
	for i, ip := range []string{"192.0.2.1", "2001:db8::1", "192.0.2.2"} {
		want := journal.Brief{Score: i, IP: netip.MustParseAddr(ip), App: "mail", Proved: []string{"password"}}
		text, err := want.AppendBinary(nil)
		require.NoError(t, err)
		var got, whole journal.Brief
		require.NoError(t, briefs.Read(text, &got))
		require.Equal(t, want, got)
		require.NoError(t, whole.UnmarshalBinary(text))
		require.Equal(t, want, whole)
		require.Error(t, briefs.Read(text[:len(text)-1], &got))
	}
}
