package tables_test

import (
	"bytes"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/briskwarden/briskwarden/internal/tables"
)

// read reads a table to its end: the cells of each record, or its error, and its text.
func read(t require.TestingT, text string) (header []string, records [][]string, texts []string) {
	r, err := tables.Open(iotest.OneByteReader(strings.NewReader(text)), 1000)
	require.NoError(t, err)
	for {
		one, err := r.Next()
		if err == io.EOF {
			return r.Header, records, texts
		}
		require.NoError(t, err)
		if one.Err != nil {
			one.Cells = []string{one.Err.Error()}
		}
		records, texts = append(records, one.Cells), append(texts, string(r.Text()))
	}
}

func TestTables(t *testing.T) {
	for name, c := range map[string]struct {
		text    string
		header  []string
		records [][]string
		texts   []string
	}{
		"commas": {"a,b\n1,2\n", []string{"a", "b"}, [][]string{{"1", "2"}}, []string{"1,2"}},
		"semicolons and a byte order mark": {"\ufeffName;E-Mail\r\n\"Liv; Hansen\";liv\r\n", []string{"Name", "E-Mail"},
			[][]string{{"Liv; Hansen", "liv"}}, []string{`"Liv; Hansen";liv`}},
		"tabs":                     {"a\tb\n1, 2\t3", []string{"a", "b"}, [][]string{{"1, 2", "3"}}, []string{"1, 2\t3"}},
		"bars":                     {"a|b\n1|2\n", []string{"a", "b"}, [][]string{{"1", "2"}}, []string{"1|2"}},
		"a comma in a quoted name": {"\"a,b,c\";d\n1;2\n", []string{"a,b,c", "d"}, [][]string{{"1", "2"}}, []string{"1;2"}},
		"a cell over lines": {"a,b\n\"1\n1\",2\n3,4\n", []string{"a", "b"}, [][]string{{"1\n1", "2"}, {"3", "4"}},
			[]string{"\"1\n1\",2", "3,4"}},
		"too few cells": {"a,b\n1\n2,3\n", []string{"a", "b"}, [][]string{{"the line has 1 field, the header 2"}, {"2", "3"}},
			[]string{"1", "2,3"}},
		"a quote where none may stand": {"a,b\n1,x\"y\n2,3\n", []string{"a", "b"}, [][]string{{"not CSV: a quote stands in a cell that " +
			"does not begin with one; quote the cell, and double the quote"}, {"2", "3"}}, []string{`1,x"y`, "2,3"}},
		"empty lines between": {"a,b\n\n1,2\n\n\n3,4\n\n", []string{"a", "b"}, [][]string{{"1", "2"}, {"3", "4"}}, []string{"1,2",
			"3,4"}},
		"one column":                    {"name\nliv\n", []string{"name"}, [][]string{{"liv"}}, []string{"liv"}},
		"spaces around names and cells": {" a , b\n 1, \"2\"\n", []string{"a", "b"}, [][]string{{"1", "2"}}, []string{` 1, "2"`}},
	} {
		t.Run(name, func(t *testing.T) {
			header, records, texts := read(t, c.text)
			require.Equal(t, c.header, header)
			require.Equal(t, c.records, records)
			require.Equal(t, c.texts, texts)
		})
	}
}

func TestTablesThatCannotBeRead(t *testing.T) {
	for text, want := range map[string]string{
		"":             "EOF",
		"\ufeff":       "EOF",
		"a,\"b\n":      "column 6: not CSV: a quote is not closed, or text follows it; a quote within a cell is doubled",
		"a,b,A\n1,2,3": `the header has the column "A" twice; only one of them can count`,
	} {
		t.Run(text, func(t *testing.T) {
			_, err := tables.Open(strings.NewReader(text), 1000)
			require.ErrorContains(t, err, want)
		})
	}
	r, err := tables.Open(strings.NewReader("a,b\n\""+strings.Repeat("x", 200_000)), 1000)
	require.NoError(t, err)
	_, err = r.Next()
	require.ErrorContains(t, err, "a record is longer than 1000 bytes; perhaps a quote is not closed")
}

func TestDaysAndTimes(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	for cell, want := range map[string]string{"01.02.2020": "2020-02-01", "1.2.2020": "2020-02-01", "29.2.2024": "2024-02-29"} {
		day, ok := tables.DayFirst(cell)
		require.True(t, ok)
		require.Equal(t, want, day.Format(time.DateOnly))
	}
	for _, cell := range []string{"01/02/2020", "2020-02-01", "32.1.2020", "29.2.2026", "1.13.2020", "soon", ""} {
		_, ok := tables.DayFirst(cell)
		require.False(t, ok, cell)
	}
	for cell, want := range map[string]string{
		"2026-11-23T21:14:00Z": "2026-11-23T21:14:00Z", "2026-11-23 21:14": "2026-11-23T20:14:00Z", "23.11.2026 21:14:05": "2026-11-23T20:14:05Z",
	} {
		at, err := tables.Time(cell, oslo)
		require.NoError(t, err)
		require.Equal(t, want, at.UTC().Format(time.RFC3339))
	}
}

// FuzzTables: whatever comes, the texts of the records stand in the table in their order.
func FuzzTables(f *testing.F) {
	f.Add("a,b\n1,2\n\"3\n\",4")
	f.Add("a;b\r\n\r\nx\"y;2\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		r, err := tables.Open(strings.NewReader(text), 1000)
		if err != nil {
			return
		}
		rest := []byte(text)
		for {
			one, err := r.Next()
			if err != nil {
				return
			}
			_, after, found := bytes.Cut(rest, r.Text())
			require.True(t, found, "%q", r.Text())
			rest = after
			require.True(t, one.Err != nil || len(one.Cells) == len(r.Header))
		}
	})
}
