package wire

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"orenda/internal/exchange"
)

// errInflatedLimit ends the decoding where its limit falls.
var errInflatedLimit = errors.New("the limit without the content coding fell")

// decode takes a content coding off the body. Where that cannot be, the body stays
// as it came, or as far as it could be read.
func (t *roundTrip) decode(coding string) error {
	leg := t.leg
	t.rec.Update(func(*exchange.Exchange) { leg.Response.Coding = coding })
	var size int64
	err := leg.ResponseBody.Use(func(packed []byte) error {
		r, err := unpack(coding, packed)
		if err != nil {
			return err
		}
		size, err = t.rec.Rewrite(leg, func(add func([]byte) error) error { return t.inflate(r, add) })
		return err
	})
	switch {
	case err == nil:
		return nil
	case errors.Is(err, errInflatedLimit):
		e := t.fail(exchange.Receive, InflatedOverLimit, nil)
		e.Limit, e.Got, e.Announced = t.cfg.InflatedLimit, size, leg.Response.WireSize
		return e
	}
	if kept, ok := errors.AsType[*notKept](err); ok {
		return t.readError(kept, size, leg.Response.WireSize)
	}
	e := t.fail(exchange.Receive, BadCompression, err)
	e.Got = size
	return e
}

// inflate reads until the end, the limit, or the end of the call.
func (t *roundTrip) inflate(r io.Reader, add func([]byte) error) error {
	buf, size := make([]byte, 256<<10), int64(0)
	for {
		n, err := r.Read(buf)
		over := false
		if limit := t.cfg.InflatedLimit; limit > 0 && size+int64(n) > limit {
			n, over = int(limit-size), true
		}
		size += int64(n)
		if kerr := add(buf[:n]); kerr != nil {
			return &notKept{kerr}
		}
		switch {
		case over:
			return errInflatedLimit
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return err
		case t.ctx.Err() != nil:
			return t.ctx.Err()
		}
	}
}

// Unpacked takes content codings off a body that is there as a whole (RFC 9110 §8.4), the last one first. More
// than most bytes are an error.
func Unpacked(codings string, b []byte, most int64) ([]byte, error) {
	all := strings.Split(codings, ",")
	for _, coding := range slices.Backward(all) {
		coding = strings.ToLower(strings.TrimSpace(coding))
		if coding == "" || coding == "identity" {
			continue
		}
		r, err := unpack(coding, b)
		if err != nil {
			return nil, err
		}
		if b, err = io.ReadAll(io.LimitReader(r, most+1)); err != nil {
			return nil, err
		}
		if int64(len(b)) > most {
			return nil, errInflatedLimit
		}
	}
	return b, nil
}

// unpack takes a content coding off.
func unpack(coding string, in []byte) (io.Reader, error) {
	switch coding {
	case "gzip", "x-gzip":
		return gzip.NewReader(bytes.NewReader(in))
	case "deflate": // zlib by the standard, raw by many
		if r, err := zlib.NewReader(bytes.NewReader(in)); err == nil {
			return r, nil
		}
		return flate.NewReader(bytes.NewReader(in)), nil
	}
	return nil, fmt.Errorf("the content coding %q is not known", coding)
}
