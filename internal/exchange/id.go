package exchange

import (
	"crypto/rand"
	"strings"
	"time"

	"github.com/oklog/ulid/v2"
)

// MinIDPart is how many characters of an id a person must type at least.
const MinIDPart = 4

// NewID is a fresh identifier of 26 characters: ten of the time in milliseconds,
// sixteen of chance, 80 bits. So ids sort by time, and a million a second on many
// machines do not meet.
func NewID(now time.Time) string {
	return strings.ToLower(ulid.MustNew(ulid.Timestamp(now), rand.Reader).String())
}
