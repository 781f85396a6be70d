package exchange

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/andybalholm/brotli"
	"github.com/klauspost/compress/zstd"
)

// mostCodings is how many codings an answer may have one over another; one is usual.
const mostCodings = 3

// zstdWindow is what a decoder has to hold of Zstandard at most (RFC 9659, section 3).
const zstdWindow = 8 << 20

// wire reads what comes over a connection: it counts, and ends with the context.
type wire struct {
	io.Reader
	ctx   context.Context
	count int64
	ended bool // all of it came
}

func (w *wire) Read(p []byte) (int, error) {
	if err := w.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := w.Reader.Read(p)
	w.count += int64(n)
	w.ended = w.ended || errors.Is(err, io.EOF)
	return n, err
}

// readBody undoes the content coding (RFC 9110, 8.4) and reads up to the limit,
// which holds for the decoded bytes: a few kilobytes can unfold to gigabytes.
func (c *Client) readBody(ctx context.Context, record *Record, received *http.Response) error {
	answer := record.Answer
	w := &wire{Reader: received.Body, ctx: ctx}
	var reader io.Reader = w
	codings := strings.Split(strings.ToLower(received.Header.Get("Content-Encoding")), ",")
	if len(codings) > mostCodings {
		return &Failure{
			Kind: BadCoding,
			Message: fmt.Sprintf("the answer says it is coded %d times over; %d are undone at most", len(codings),
				mostCodings),
		}
	}
	for i := len(codings) - 1; i >= 0; i-- {
		decoded, err := decoder(strings.TrimSpace(codings[i]), reader)
		if err != nil {
			if errors.Is(err, io.EOF) && received.ContentLength == 0 || received.Request.Method == "HEAD" {
				return nil
			}
			answer.Partial = true
			return &Failure{
				Kind:    BadCoding,
				Message: fmt.Sprintf("the answer says it is coded as %s, and is not", strings.TrimSpace(codings[i])),
				Cause:   err,
			}
		}
		defer decoded.Close()
		reader = &wire{Reader: decoded, ctx: ctx}
	}
	if s := record.Request.Stream; s != nil {
		stream := newStreamReader(s, reader, received, answer)
		if stream != nil {
			reader = stream
		}
		defer stream.finish(record)
	}
	body, err := readAll(io.LimitReader(reader, c.options.MaxBody+1), received.ContentLength)
	answer.Wire = w.count
	answer.Body = body
	if int64(len(body)) > c.options.MaxBody {
		answer.Body, answer.Partial = body[:c.options.MaxBody], true
		return &Failure{
			Kind: TooLarge,
			Message: fmt.Sprintf("the answer is larger than %d MiB; reading stopped after %d bytes on the wire",
				c.options.MaxBody>>20, w.count),
		}
	}
	if err != nil {
		answer.Partial = true
		switch isCoded := received.Header.Get("Content-Encoding") != ""; {
		case isCoded && w.ended && len(body) == 0:
			return &Failure{
				Kind:    BadCoding,
				Message: fmt.Sprintf("the answer says it is coded as %s, and is not", strings.Join(codings, ",")),
				Cause:   err,
			}
		case isCoded && w.ended, isDamaged(err):
			return &Failure{Kind: BadCoding, Message: "the answer's compressed body is damaged", Cause: err}
		}
	}
	return err
}

// readAll reads to the end; size is how much the other side says that there is, -1 if it does
// not. Room is made for a part of it at a time, for it may not be true.
func readAll(from io.Reader, size int64) ([]byte, error) {
	var into bytes.Buffer
	into.Grow(int(min(max(size, 0), believedSize)) + bytes.MinRead)
	_, err := into.ReadFrom(from)
	return into.Bytes(), err
}

// believedSize is how much room is made for a body before any of it is there.
const believedSize = 64 << 20

// isDamaged says whether an error is one of a compressed body.
func isDamaged(err error) bool {
	var corrupt flate.CorruptInputError
	for _, one := range []error{
		gzip.ErrHeader, gzip.ErrChecksum, zlib.ErrHeader, zlib.ErrChecksum,
		zstd.ErrMagicMismatch, zstd.ErrCRCMismatch, zstd.ErrWindowSizeExceeded, zstd.ErrDecoderSizeExceeded,
		zstd.ErrReservedBlockType,
	} {
		if errors.Is(err, one) {
			return true
		}
	}
	return errors.As(err, &corrupt) || strings.HasPrefix(err.Error(), "brotli: ")
}

// decoder undoes one content coding.
func decoder(coding string, from io.Reader) (io.ReadCloser, error) {
	switch coding {
	case "", "identity":
		return io.NopCloser(from), nil
	case "gzip", "x-gzip":
		return gzip.NewReader(from)
	case "br":
		return io.NopCloser(brotli.NewReader(from)), nil
	case "zstd":
		r, err := zstd.NewReader(from, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(zstdWindow),
			zstd.WithDecoderLowmem(true))
		if err != nil {
			return nil, err
		}
		return r.IOReadCloser(), nil
	case "deflate":
		// RFC 9110, 8.4.1.2 means zlib, but bare deflate is sent as well.
		head := make([]byte, 2)
		n, err := io.ReadFull(from, head)
		if err != nil {
			return nil, err
		}
		from = io.MultiReader(bytes.NewReader(head[:n]), from)
		if head[0]&0x0F == 8 && (int(head[0])<<8+int(head[1]))%31 == 0 {
			return zlib.NewReader(from)
		}
		return flate.NewReader(from), nil
	}
	return nil, fmt.Errorf("the content coding %q is not known", coding)
}
