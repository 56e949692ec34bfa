package wssec

import (
	"crypto/hmac"
	"crypto/sha1"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"orenda/internal/xmltree"
)

// Trust is the namespace of WS-Trust 1.3; 1.4 keeps it (WS-Trust 1.4 §1.4).
const Trust = "http://docs.oasis-open.org/ws-sx/ws-trust/200512"

// What is said of keys to a token service, after its namespace (WS-Trust 1.3 §4.2, §4.4.4, §3.3).
const (
	KeyBearer    = "/Bearer"       // whoever holds the token is who it is about
	KeyPublic    = "/PublicKey"    // who also has the key of a certificate
	KeySymmetric = "/SymmetricKey" // who also has a key that both agree on
	keyComputed  = "/CK/PSHA1"     // it is made of what both gave
)

// ProofBits is the size of the symmetric keys that are asked for.
const ProofBits = 256

// ProofKey is the symmetric key that a token service's answer says (WS-Trust 1.3 §4.4.4): the one in it,
// or the one that comes of what both sides gave. nil: it says none. entropy is what was given with the
// question.
func ProofKey(answer xmltree.Node, entropy []byte) ([]byte, error) {
	proof := answer.Find(Trust, "RequestedProofToken")
	if proof.IsZero() {
		return nil, nil
	}
	if b := proof.Child(Trust, "BinarySecret"); !b.IsZero() {
		key, err := decodeBase64(b.Text())
		if err == nil && len(key) == 0 {
			err = errors.New("the proof key is empty")
		}
		return key, err
	}
	computed := proof.Child(Trust, "ComputedKey")
	if computed.IsZero() {
		for n := range proof.Children() {
			return nil, fmt.Errorf("the proof key comes as %s, which is not read here", n.Name().Local)
		}
		return nil, errors.New("the proof token is empty")
	}
	if how := strings.TrimSpace(computed.Text()); how != Trust+keyComputed {
		return nil, fmt.Errorf("the proof key is to be computed by %s, which is not known here", how)
	}
	theirs, err := decodeBase64(answer.Find(Trust, "Entropy").Child(Trust, "BinarySecret").Text())
	if err != nil || len(theirs) == 0 {
		return nil, errors.New("the proof key is to be computed, and the answer gives no entropy for it")
	}
	bits := ProofBits
	if said := strings.TrimSpace(answer.Find(Trust, "KeySize").Text()); said != "" {
		if _, err := fmt.Sscanf(said, "%d", &bits); err != nil || bits < 64 || bits > 4096 || bits%8 != 0 {
			return nil, fmt.Errorf("a proof key of %q bits is not made here", said)
		}
	}
	return PSHA1(entropy, theirs, bits/8), nil
}

// PSHA1 makes n bytes of a secret and a seed (P_SHA-1 of RFC 2246 §5, as WS-Trust 1.3 §4.4.4 has it).
func PSHA1(secret, seed []byte, n int) []byte {
	mac := func(parts ...[]byte) []byte {
		m := hmac.New(sha1.New, secret)
		for _, p := range parts {
			m.Write(p)
		}
		return m.Sum(nil)
	}
	var out []byte
	for a := mac(seed); len(out) < n; a = mac(a) {
		out = append(out, mac(a, seed)...)
	}
	return out[:n]
}

// Entropy is what a side gives to a key that is computed, as an element.
func Entropy(b []byte) string {
	return `<t:Entropy xmlns:t="` + Trust + `"><t:BinarySecret Type="` + Trust + `/Nonce">` +
		base64.StdEncoding.EncodeToString(b) + `</t:BinarySecret></t:Entropy>`
}

// Computed says that a key is computed of what both gave.
func Computed() string {
	return `<t:RequestedProofToken xmlns:t="` + Trust + `"><t:ComputedKey>` + Trust + keyComputed +
		`</t:ComputedKey></t:RequestedProofToken>`
}
