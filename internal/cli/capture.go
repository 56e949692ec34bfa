package cli

import (
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"time"

	"orenda/internal/call"
	"orenda/internal/capture"
	"orenda/internal/exchange"
	"orenda/internal/safe"
)

// readCapture reads a file of packets, and says what of it could not be read.
func (t *commandLine) readCapture(file, keys string) (*capture.Read, error) {
	var log []byte
	var err error
	if keys != "" {
		if log, err = os.ReadFile(keys); err != nil {
			return nil, err
		}
	}
	src, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	r, err := capture.File(io.Reader(src), log)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return r, nil
}

// carriesXML tells whether an exchange is one to be explained.
func carriesXML(w *call.Imported) bool { return w.Envelope() != nil || w.ReplyEnvelope() != nil }

// captured are the exchanges of a capture that carry envelopes, each of which is kept.
func (t *commandLine) captured(f *explaining) (out []call.Entry, err error) {
	r, err := t.readCapture(f.capture, f.keys)
	if err != nil {
		return nil, err
	}
	others := 0
	for i, x := range r.Exchanges {
		if !carriesXML(x.Imported) {
			others++
			continue
		}
		if f.entry == 0 || f.entry == i+1 {
			out = append(out, call.Entry{Number: i + 1, Imported: x.Imported, Keep: func(y *exchange.Exchange) error {
				return t.keepCaptured(&x, y)
			}})
		}
	}
	t.tellCapture(r, others)
	if len(out) == 0 {
		return nil, fmt.Errorf("%s: no exchange in it carries an envelope", f.capture)
	}
	return out, nil
}

// tellCapture says what a capture held, and what of it could not be read.
func (t *commandLine) tellCapture(r *capture.Read, others int) {
	fmt.Fprintf(t.aside(), "%d packets, %d connections, %d exchanges of HTTP, %d of them without an "+
		"envelope\n", r.Packets, r.Streams,
		len(r.Exchanges), others)
	for _, why := range slices.Sorted(maps.Keys(r.Unread)) {
		fmt.Fprintf(t.aside(), "not read: %d × %s\n", r.Unread[why], safe.Line(why))
	}
}

// keepCaptured keeps an exchange as of the time when it passed.
func (t *commandLine) keepCaptured(x *capture.Exchange, y *exchange.Exchange) error {
	y.Kind, y.Started = "captured", x.Began.UTC()
	y.ID, y.TotalNs = exchange.NewID(time.Now()), x.Took.Nanoseconds()
	if w, err := t.workspace(); err == nil {
		y.Workspace = w.ID()
	}
	st := y.Stage(exchange.Connect)
	st.Facts.Set("captured", x.Client.String()+" → "+x.Server.String())
	if x.TLS != "" {
		y.Stage(exchange.TLS).Facts.Set("opened", x.TLS)
	}
	j, err := t.journal()
	if err != nil {
		return err
	}
	return j.Add(y)
}
