package replay

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/zstd"

	"github.com/briskwarden/briskwarden/attempt"
	"github.com/briskwarden/briskwarden/internal/tables"
)

const (
	// longestLine is how long a line may be, in bytes.
	longestLine = attempt.MaxSize
	// mostWindow is how much memory a packed file may ask for, in bytes.
	mostWindow = 128 << 20
)

// reader cuts sources into batches.
type reader struct {
	to chan<- *batch
	// number counts the batches, and total the lines before the next one.
	number, total int64
	// keepText says that the very bytes of records are wanted.
	keepText bool
}

// readAll cuts the sources into batches of lines, or of records of tables. It returns an
// error for each source that could not be read to its end.
func readAll(ctx context.Context, sources []Source, o Options, to chan<- *batch) (failed []error) {
	r := &reader{to: to, keepText: o.Aside != nil}
	for _, s := range sources {
		if err := r.read(ctx, s, o.Columns); err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", s.Name, err))
		}
	}
	return failed
}

func (r *reader) read(ctx context.Context, s Source, columns Columns) error {
	file, err := s.Open()
	if err != nil {
		return err
	}
	defer file.Close()
	in, unpacked, err := unpack(file)
	if err != nil {
		return err
	}
	defer unpacked.Close()
	if columns != nil {
		return r.readTable(ctx, s.Name, in, columns)
	}
	return r.readLines(ctx, s.Name, in)
}

// begin returns a batch for what comes next of a source.
func (r *reader) begin(source string, line int64) *batch {
	return newBatch(r.number, source, r.total, line)
}

// send hands a batch on, unless it is empty.
func (r *reader) send(b *batch) {
	if b.lines() == 0 {
		b.free()
		return
	}
	r.number++
	r.total += int64(b.lines())
	r.to <- b
}

func (r *reader) readLines(ctx context.Context, source string, in *bufio.Reader) error {
	line := int64(1)
	b := r.begin(source, line)
	for ctx.Err() == nil {
		text, err := in.ReadSlice('\n')
		overlong := errors.Is(err, bufio.ErrBufferFull)
		if overlong {
			b.overlong = append(b.overlong, len(b.ends))
			for errors.Is(err, bufio.ErrBufferFull) {
				_, err = in.ReadSlice('\n')
			}
			text = nil
		}
		if len(text) > 0 || overlong || err == nil {
			b.text = append(b.text, text...)
			b.ends = append(b.ends, len(b.text))
			line++
		}
		if err != nil {
			r.send(b)
			if errors.Is(err, io.EOF) {
				return nil
			}
			return err
		}
		if len(b.ends) == batchLines {
			r.send(b)
			b = r.begin(source, line)
		}
	}
	r.send(b)
	return nil
}

// readTable reads the records of a table behind its header.
func (r *reader) readTable(ctx context.Context, source string, in io.Reader, columns Columns) error {
	table, err := tables.Open(in, longestLine)
	if errors.Is(err, io.EOF) {
		return nil
	}
	if err != nil {
		return err
	}
	h, err := columns.header(table.Header)
	if err != nil {
		return err
	}
	h.text, h.decimalComma = table.HeaderText(), table.Separator != ','
	b := r.begin(source, 0)
	b.header = h
	for ctx.Err() == nil {
		record, err := table.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			r.send(b)
			return err
		}
		one := row{line: int64(record.Line), fields: record.Cells, err: record.Err}
		if r.keepText || record.Err != nil {
			one.text = bytes.Clone(table.Text())
		}
		b.rows = append(b.rows, one)
		if len(b.rows) == batchLines {
			r.send(b)
			b = r.begin(source, 0)
			b.header = h
		}
	}
	r.send(b)
	return nil
}

// unpack reads a file that is plain, or packed with gzip (RFC 1952 §2.3.1) or
// Zstandard (RFC 8878 §3.1.1), which its first bytes tell.
func unpack(file io.Reader) (*bufio.Reader, io.Closer, error) {
	in := bufio.NewReaderSize(file, longestLine)
	var unpacked io.ReadCloser
	magic, _ := in.Peek(4)
	switch {
	case bytes.HasPrefix(magic, []byte{0x1f, 0x8b}):
		packed, err := gzip.NewReader(in)
		if err != nil {
			return nil, nil, err
		}
		unpacked = packed
	case bytes.Equal(magic, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		packed, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(mostWindow))
		if err != nil {
			return nil, nil, err
		}
		unpacked = packed.IOReadCloser()
	default:
		return in, io.NopCloser(in), nil
	}
	return bufio.NewReaderSize(unpacked, longestLine), unpacked, nil
}
