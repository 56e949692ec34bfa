package exchange

import (
	"bytes"
	"crypto/rand"
	"time"

	"github.com/oklog/ulid/v2"
)

// MinIDPart is how many characters of an id a person must type at least.
const MinIDPart = 4

// NewID is a fresh identifier of 26 characters: ten of the time in milliseconds,
// sixteen of chance, 80 bits. So ids sort by time, and a million a second on many
// machines do not meet.
func NewID(now time.Time) string {
	var text [ulid.EncodedSize]byte
	if err := ulid.MustNew(ulid.Timestamp(now), rand.Reader).MarshalTextTo(text[:]); err != nil {
		panic(err) // the room is too small: it is not
	}
	return string(bytes.ToLower(text[:]))
}
