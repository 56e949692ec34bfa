package exchange

import "time"

// Seen are facts that no stage and no leg holds and that a record needs to be judged
// again: what was seen of the wire, as values.
type Seen struct {
	Failure   *Failure    `json:"failure,omitempty"`   // of the wire; nil where it did not fail there
	Replaced  [][3]string `json:"replaced,omitempty"`  // header fields that a setting replaced: name, before, sent
	Followed  []string    `json:"followed,omitempty"`  // redirects
	Chosen    string      `json:"chosen,omitempty"`    // identity whose certificate was sent unasked
	OtherName []string    `json:"otherName,omitempty"` // names that the server shows to those who ask for none
	PeerTime  time.Time   `json:"peerTime,omitzero"`   // what time it was at the peer
	Spaced    bool        `json:"spaced,omitempty"`    // the secret began or ended with white space
	Assertion string      `json:"assertion,omitempty"` // why the assertion that was sent did not hold
	Unfit     string      `json:"unfit,omitempty"`     // why the client certificate would hardly do
	Anything  bool        `json:"anything,omitempty"`  // every certificate was accepted
	Described bool        `json:"described,omitempty"` // the operation was known from a description
	Draft     string      `json:"draft,omitempty"`     // the draft, where it never left, or was not filled in
	Header    string      `json:"header,omitempty"`    // its header blocks, under the same conditions
	Declared  int64       `json:"declared,omitempty"`  // bytes that another program declared
	Came      int64       `json:"came,omitempty"`      // bytes that it sent
	Left      *int64      `json:"left,omitempty"`      // bytes of the answer after which it took no more
	Later     *Later      `json:"later,omitempty"`     // the listener for an answer that comes later; nil: none
}

// Later is what was seen at the listener for an answer that comes over a connection of its own.
type Later struct {
	Address string       `json:"address"`         // that the service was told
	Listens string       `json:"listens"`         // host and port of the listener
	Trust   string       `json:"trust,omitempty"` // the file that whoever calls it over TLS has to trust
	Seen    []CalledBack `json:"seen,omitempty"`  // in their order
	Early   bool         `json:"early,omitempty"` // the answer came before the message was acknowledged
}

// CalledBack is one request that came to it.
type CalledBack struct {
	From      string    `json:"from"`                // host and port
	At        time.Time `json:"at"`                  // when
	Path      string    `json:"path,omitempty"`      // that was called
	RelatesTo string    `json:"relatesTo,omitempty"` // the message that it answers
	Wrong     string    `json:"wrong,omitempty"`     // why it is not the answer; "" it is
}

// Failure is why the wire ended a call.
type Failure struct {
	Reason    string             `json:"reason"`              // wire.Reason by its name
	Says      string             `json:"says,omitempty"`      // what the system or a library said
	Alert     string             `json:"alert,omitempty"`     // the peer's, in words
	Whole     bool               `json:"whole,omitempty"`     // the limit on the whole call ran out
	Limit     int64              `json:"limit,omitempty"`     // bytes or nanoseconds
	Got       int64              `json:"got,omitempty"`       // bytes that had come or left
	Announced int64              `json:"announced,omitempty"` // bytes; -1 unknown
	At        int64              `json:"at,omitempty"`        // offset in what came
	Faults    []CertificateFault `json:"faults,omitempty"`    // of the peer's chain
}

// CertificateFault is what is wrong with one certificate of the peer's chain.
type CertificateFault struct {
	Reason int    `json:"reason"`           // trust.Reason
	Index  int    `json:"index"`            // in the chain, the leaf is 0
	Detail string `json:"detail,omitempty"` // in words
}
