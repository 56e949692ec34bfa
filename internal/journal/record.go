package journal

import (
	"bytes"
	"compress/flate"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"slices"
	"strings"
	"sync"
	"unicode"

	"github.com/klauspost/compress/zstd"

	"orenda/internal/exchange"
)

// What is longer is kept beside the record, each once: bodies, and other runs of bytes.
const (
	apartBodies = 4 << 10
	Apart       = 64 << 10
)

// Record is an exchange as it is kept: secrets are cut out, and what is too large is taken apart.
type Record struct {
	Of       *exchange.Exchange // that was brought
	Head     []byte             // the record without its bytes, JSON
	Body     []byte             // the rest of it but what is apart (exchange.Pack)
	Long     []Long             // that is kept beside it
	Settings *Settings          // nil: they stand in the head
	Words    string             // that it is looked for by; "" where NewRecord was not asked for them
}

// Exchange is what the record says, without the bytes that are apart.
func (r *Record) Exchange() (*exchange.Exchange, error) {
	x := &exchange.Exchange{}
	err := x.Unpack(exchange.Whole(r.Head, r.Body))
	if r.Settings != nil {
		x.Settings = r.Settings.List
	}
	return x, err
}

// Long is a run of bytes that is kept once for all that hold it.
type Long struct {
	Hash  string        // SHA-256, hex
	Bytes exchange.Body // the run itself
}

// NewRecord makes the record of an exchange, of which nothing is changed. key is that of the
// hashes that stand for secrets; withWords tells whether its words are wanted too, and apart takes
// the settings apart where it is not nil.
func NewRecord(x *exchange.Exchange, key []byte, withWords bool, apart *Lists) (r Record, err error) {
	r.Of = x
	c := x.Redact(key)
	for _, l := range c.Legs {
		l.Beginning()
	}
	if withWords {
		r.Words = Words(c)
	}
	err = c.TakeApart(apartBodies, Apart, func(b exchange.Body) (string, error) {
		hash, err := hashOf(b)
		r.Long = append(r.Long, Long{hash, b})
		return hash, err
	})
	if err != nil {
		return r, err
	}
	if apart != nil {
		if r.Settings, err = apart.Of(c.Settings); err != nil {
			return r, err
		}
		c.Settings = nil
	}
	r.Head, r.Body, err = c.Pack()
	return r, err
}

func hashOf(b exchange.Body) (string, error) {
	if !b.Stored() {
		sum := sha256.Sum256(b.Bytes())
		return hex.EncodeToString(sum[:]), nil
	}
	sum := sha256.New()
	_, err := b.WriteTo(sum)
	return hex.EncodeToString(sum.Sum(nil)), err
}

// SameRecord tells whether two records say the same, also where an earlier version wrote one. Bytes
// that are apart are told by their hashes; both records are given up.
func SameRecord(a, b *exchange.Exchange) bool {
	var texts [2][]byte
	for i, x := range []*exchange.Exchange{a, b} {
		byHash := func(hash string, _ int64) ([]byte, error) { return []byte(hash), nil }
		if x.PutTogether(byHash) != nil {
			return false
		}
		x.From = nil // who brings it again is not what it says
		texts[i], _ = x.Marshal()
	}
	return bytes.Equal(texts[0], texts[1])
}

// Press compresses records (zstd, RFC 8878). It may be used from several goroutines.
type Press struct {
	in   *zstd.Encoder
	out  *zstd.Decoder
	room sync.Pool // of *[]byte, to compress into: what comes out is a tenth of it
}

// NewPress makes one.
func NewPress() (p *Press, err error) {
	p = &Press{}
	p.in, err = zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest), zstd.WithWindowSize(1<<20))
	if err == nil {
		p.out, err = zstd.NewReader(nil)
	}
	return p, err
}

// maxRoom is how much room to compress into is kept for the next.
const maxRoom = 1 << 20

// Press compresses.
func (p *Press) Press(b []byte) []byte {
	room, is := p.room.Get().(*[]byte)
	if !is {
		room = new([]byte)
	}
	*room = p.in.EncodeAll(b, (*room)[:0])
	out := bytes.Clone(*room)
	if cap(*room) <= maxRoom {
		p.room.Put(room)
	}
	return out
}

// Unpress undoes Press. What an older version deflated is read too.
func (p *Press) Unpress(kept []byte) ([]byte, error) {
	if bytes.HasPrefix(kept, []byte("\x28\xb5\x2f\xfd")) { // RFC 8878 §3.1.1
		return p.out.DecodeAll(kept, nil)
	}
	return io.ReadAll(flate.NewReader(bytes.NewReader(kept)))
}

// Words is what words of an exchange are looked for in: what lists show, and the messages.
func Words(x *exchange.Exchange) string {
	parts := []string{x.ID, x.Operation, x.Draft, x.Endpoint, x.Environment, x.Result}
	for _, f := range x.Findings {
		parts = append(parts, f.ID, f.Title)
	}
	for _, l := range x.Legs {
		body := l.Readable()
		for _, b := range [][]byte{l.RequestBody, body} {
			parts = append(parts, string(b[:min(len(b), wordsOf)]))
		}
		for _, h := range []*exchange.Head{&l.Request, &l.Response} {
			parts = append(parts, h.Line)
			for _, f := range h.Fields {
				parts = append(parts, f.Name, f.Value)
			}
		}
	}
	return strings.Join(parts, "\n")
}

// Tokens are the words of a text: letters and digits in a row, in small letters.
func Tokens(text string) []string {
	return strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
		return !unicode.IsLetter(r) && !unicode.IsNumber(r)
	})
}

// Holds tells whether an exchange with its bytes holds all words of a text, or words that
// begin so, as the index of a journal tells it. What is several words in one, such as a name
// with a hyphen, is held where they stand one after the other.
func Holds(x *exchange.Exchange, text string) bool {
	all, some := Tokens(Words(x)), false
	for _, w := range strings.Fields(text) {
		row := Tokens(w)
		if len(row) == 0 {
			continue
		}
		if some = inARow(all, row); !some {
			return false
		}
	}
	return some
}

// inARow tells whether words stand one after the other; of the last its beginning is enough.
func inARow(all, row []string) bool {
	last := len(row) - 1
	for i := range max(len(all)-last, 0) {
		if slices.Equal(all[i:i+last], row[:last]) && strings.HasPrefix(all[i+last], row[last]) {
			return true
		}
	}
	return false
}

// wordsOf is how many bytes of each message have their words looked for.
const wordsOf = 64 << 10
