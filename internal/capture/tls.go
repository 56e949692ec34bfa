package capture

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hkdf"
	"crypto/hmac"
	_ "crypto/sha256" // for the hashes of cipher suites
	_ "crypto/sha512" // the same
	"crypto/tls"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/chacha20poly1305"
)

// keyLog are the secrets of a log of TLS keys, by label and the client's random.
type keyLog map[string][]byte

// parseKeys reads a log as programs write it where SSLKEYLOGFILE names a file: a label, the
// client's random and the secret, in hexadecimal, in a line.
func parseKeys(b []byte) keyLog {
	out := keyLog{}
	for line := range strings.Lines(string(b)) {
		f := strings.Fields(line)
		if len(f) != 3 || strings.HasPrefix(f[0], "#") {
			continue
		}
		secret, err := hex.DecodeString(f[2])
		if err == nil {
			out[f[0]+" "+strings.ToLower(f[1])] = secret
		}
	}
	return out
}

func (k keyLog) of(label string, random []byte) []byte {
	return k[label+" "+hex.EncodeToString(random)]
}

// The types of records and messages (RFC 8446 §5.1, §4).
const (
	recordAlert       = 21
	recordHandshake   = 22
	recordApplication = 23
	recordChange      = 20
	helloClient       = 1
	helloServer       = 2
	messageFinished   = 20
	messageKeyUpdate  = 24
	closeNotify       = 0 // an alert
)

func looksLikeTLS(b []byte) bool {
	return len(b) >= 6 && b[0] == recordHandshake && b[1] == 3 && (b[5] == helloClient || b[5] == helloServer)
}

// suite is a cipher suite.
type suite struct {
	hash     crypto.Hash
	key, mac int // bytes
	mode     mode
	fixed    int // bytes of the nonce that keys give
	explicit int // bytes of the nonce that records bring
	onlyIn13 bool
}

type mode uint8

const (
	gcm mode = iota
	chacha
	cbc
)

//
//revive:disable-next-line:cyclomatic a table of the suites
func suiteOf(id uint16) (s suite, ok bool) {
	name := tls.CipherSuiteName(id)
	s = suite{hash: crypto.SHA256, key: 16, fixed: 4, explicit: 8}
	switch {
	case id == tls.TLS_AES_128_GCM_SHA256:
		return suite{hash: crypto.SHA256, key: 16, fixed: 12, onlyIn13: true}, true
	case id == tls.TLS_AES_256_GCM_SHA384:
		return suite{hash: crypto.SHA384, key: 32, fixed: 12, onlyIn13: true}, true
	case id == tls.TLS_CHACHA20_POLY1305_SHA256:
		return suite{hash: crypto.SHA256, key: 32, mode: chacha, fixed: 12, onlyIn13: true}, true
	case id == 0x009e: // DHE_RSA, which crypto/tls does not name
		return s, true
	case id == 0x009f:
		s.key, s.hash = 32, crypto.SHA384
		return s, true
	case id == 0x0033, id == 0x0039, id == 0x0067, id == 0x006b, id == 0x003d:
		s.mode = cbc
		s.mac = 20
		if id != 0x0033 && id != 0x0039 {
			s.mac = 32
		}
		if id == 0x0039 || id == 0x006b || id == 0x003d {
			s.key = 32
		}
		return s, true
	case id == 0xccaa, strings.Contains(name, "CHACHA20"):
		s.mode, s.key, s.fixed, s.explicit = chacha, 32, 12, 0
		return s, true
	case id == 0xc024 || id == 0xc028:
		return suite{hash: crypto.SHA384, key: 32, mac: 48, mode: cbc}, true
	case strings.Contains(name, "_GCM_"):
		if strings.Contains(name, "AES_256") {
			s.key, s.hash = 32, crypto.SHA384
		}
		return s, true
	case strings.Contains(name, "AES") && strings.Contains(name, "_CBC_"):
		s.mode, s.mac = cbc, 20
		if strings.HasSuffix(name, "SHA256") {
			s.mac = 32
		}
		if strings.Contains(name, "AES_256") {
			s.key = 32
		}
		return s, true
	}
	return s, false
}

// hello is what matters of the beginning of a session.
type hello struct {
	random  []byte
	suite   uint16
	version uint16
	etm     bool // encrypt-then-MAC (RFC 7366)
	ok      bool
}

// retry is the random of a server that asks for another hello (RFC 8446 §4.1.3), in hexadecimal.
const retry = "cf21ad74e59a6111be1d8c021e65b891c2a211167abb8c5e079e09e2c8a8339c"

// record is a TLS record.
type record struct {
	kind byte
	head []byte
	data []byte
	at   int // offset in the stream
}

// records cuts a stream; what is not whole at its end is left.
func records(b []byte) (out []record) {
	for at := 0; at+5 <= len(b); {
		n := int(binary.BigEndian.Uint16(b[at+3:]))
		if at+5+n > len(b) {
			break
		}
		out = append(out, record{b[at], b[at : at+5], b[at+5 : at+5+n], at})
		at += 5 + n
	}
	return out
}

// hellos finds the last hello of its kind that is not encrypted.
func hellos(list []record, kind byte) (h hello) {
	var all []byte
	for _, r := range list {
		if r.kind == recordHandshake {
			all = append(all, r.data...)
		} else if r.kind != recordChange {
			break
		}
	}
	for len(all) >= 4 {
		n := int(all[1])<<16 | int(all[2])<<8 | int(all[3])
		if 4+n > len(all) {
			break
		}
		if all[0] == kind {
			if one := helloOf(all[4:4+n], kind); one.ok && hex.EncodeToString(one.random) != retry {
				h = one
			}
		}
		all = all[4+n:]
	}
	return h
}

func helloOf(b []byte, kind byte) (h hello) {
	if len(b) < 35 {
		return h
	}
	h.version, h.random = binary.BigEndian.Uint16(b), b[2:34]
	if kind == helloClient {
		h.ok = true
		return h
	}
	b = b[34:]
	n := int(b[0])
	if len(b) < 1+n+3 {
		return h
	}
	b = b[1+n:]
	h.suite, h.ok = binary.BigEndian.Uint16(b), true
	b = b[3:]
	if len(b) < 2 {
		return h
	}
	for b = b[2:]; len(b) >= 4; {
		kind, n := binary.BigEndian.Uint16(b), int(binary.BigEndian.Uint16(b[2:]))
		if len(b) < 4+n {
			break
		}
		switch {
		case kind == 43 && n == 2: // supported_versions
			h.version = binary.BigEndian.Uint16(b[4:])
		case kind == 22:
			h.etm = true
		}
		b = b[4+n:]
	}
	return h
}

// openTLS puts what was said within TLS in the place of what crossed.
func openTLS(out, in *bytesOf, keys keyLog) (said string, err error) {
	outs, ins := records(out.data), records(in.data)
	client, server := hellos(outs, helloClient), hellos(ins, helloServer)
	if why := refused(outs, ins, in.data); why != "" {
		return "", errors.New(why)
	}
	if !client.ok || !server.ok {
		return "", errors.New("its beginning is not in the capture")
	}
	s, ok := suiteOf(server.suite)
	if !ok {
		return "", fmt.Errorf("the cipher suite %s is not opened here", tls.CipherSuiteName(server.suite))
	}
	if len(keys) == 0 {
		return "", errors.New("there is no log of its keys")
	}
	var sides [2]opener
	switch server.version {
	case tls.VersionTLS13:
		for i, who := range []string{"CLIENT", "SERVER"} {
			hand, traffic := keys.of(
				who+"_HANDSHAKE_TRAFFIC_SECRET",
				client.random,
			), keys.of(
				who+"_TRAFFIC_SECRET_0",
				client.random,
			)
			if traffic == nil {
				return "", errors.New("the log has no keys of this session")
			}
			sides[i] = &open13{s: s, next: traffic, key: newKeys13(s, hand), hand: hand != nil}
			if hand == nil {
				sides[i] = &open13{s: s, key: newKeys13(s, traffic)}
			}
		}
	case tls.VersionTLS12:
		master := keys.of("CLIENT_RANDOM", client.random)
		if master == nil {
			return "", errors.New("the log has no keys of this session")
		}
		sides = open12(s, master, client.random, server.random, server.etm)
	default:
		return "", fmt.Errorf("%s is not opened here", tls.VersionName(server.version))
	}
	for i, one := range []struct {
		of   *bytesOf
		list []record
	}{{out, outs}, {in, ins}} {
		plain := *one.of
		plain.data, plain.pieces = nil, nil
		for _, r := range one.list {
			b, err := sides[i].open(r)
			if err != nil {
				return "", errors.New("its keys do not open it")
			}
			if len(b) > 0 {
				plain.pieces = append(plain.pieces, piece{len(plain.data), when(one.of.pieces, r.at)})
				plain.data = append(plain.data, b...)
			}
		}
		*one.of = plain
	}
	return tls.VersionName(server.version) + ", " + tls.CipherSuiteName(server.suite), nil
}

// refused says who ended a handshake and why, where that can be read: an alert before anything is sealed
// (RFC 8446 §6), or an answer that is no TLS; "" nobody did.
func refused(outs, ins []record, answer []byte) string {
	if len(ins) == 0 && bytes.HasPrefix(answer, []byte("HTTP/")) {
		return "the server answered in plain HTTP"
	}
	for i, list := range [][]record{outs, ins} {
		for _, r := range list {
			if r.kind == recordAlert && len(r.data) == 2 && r.data[1] != closeNotify {
				return fmt.Sprintf("the %s ended the handshake: %s", []string{"program", "server"}[i],
					strings.TrimPrefix(tls.AlertError(r.data[1]).Error(), "tls: "))
			}
			if r.kind != recordHandshake {
				break
			}
		}
	}
	return ""
}

// opener opens the records of one side, in their order; what it gives is what programs said.
type opener interface {
	open(r record) ([]byte, error)
}

func aead(s suite, key []byte) cipher.AEAD {
	if s.mode == chacha {
		a, err := chacha20poly1305.New(key)
		if err != nil {
			return nil
		}
		return a
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil
	}
	a, err := cipher.NewGCM(block)
	if err != nil {
		return nil
	}
	return a
}

var errNotOpened = errors.New("not opened")

// keys13 are the keys of one side of TLS 1.3 from one secret (RFC 8446 §7.3).
type keys13 struct {
	secret []byte
	a      cipher.AEAD
	iv     []byte
	seq    uint64
}

func expand(h crypto.Hash, secret []byte, label string, n int) []byte {
	info := binary.BigEndian.AppendUint16(nil, uint16(n))
	info = append(append(info, byte(len("tls13 ")+len(label))), "tls13 "+label...)
	b, err := hkdf.Expand(h.New, secret, string(append(info, 0)), n)
	if err != nil {
		return nil
	}
	return b
}

func newKeys13(s suite, secret []byte) *keys13 {
	if secret == nil {
		return nil
	}
	a := aead(s, expand(s.hash, secret, "key", s.key))
	return &keys13{secret: secret, a: a, iv: expand(s.hash, secret, "iv", 12)}
}

func (k *keys13) open(r record) (kind byte, b []byte, err error) {
	if k == nil || k.a == nil {
		return 0, nil, errNotOpened
	}
	nonce := bytes.Clone(k.iv)
	for i := range 8 {
		nonce[len(nonce)-1-i] ^= byte(k.seq >> (8 * i))
	}
	b, err = k.a.Open(nil, nonce, r.data, r.head)
	if err != nil {
		return 0, nil, errNotOpened
	}
	k.seq++
	b = bytes.TrimRight(b, "\x00")
	if len(b) == 0 {
		return 0, nil, errNotOpened
	}
	return b[len(b)-1], b[:len(b)-1], nil
}

// open13 opens one side of TLS 1.3.
type open13 struct {
	s    suite
	key  *keys13
	next []byte // the secret after the handshake; nil: it is in use
	hand bool   // the key is that of the handshake
	rest []byte // of messages of the handshake
}

func (o *open13) open(r record) ([]byte, error) {
	if r.kind != recordApplication {
		return nil, nil // a hello, or a change that says nothing (RFC 8446 §D.4)
	}
	kind, b, err := o.key.open(r)
	if err != nil && o.hand { // the end of the handshake was not seen
		o.turn()
		kind, b, err = o.key.open(r)
	}
	if err != nil {
		return nil, err
	}
	switch kind {
	case recordApplication:
		return b, nil
	case recordHandshake:
		o.messages(b)
	}
	return nil, nil
}

func (o *open13) turn() { o.key, o.hand, o.next = newKeys13(o.s, o.next), false, nil }

func (o *open13) messages(b []byte) {
	o.rest = append(o.rest, b...)
	for len(o.rest) >= 4 {
		n := int(o.rest[1])<<16 | int(o.rest[2])<<8 | int(o.rest[3])
		if 4+n > len(o.rest) {
			return
		}
		switch kind := o.rest[0]; {
		case kind == messageFinished && o.hand:
			o.turn()
		case kind == messageKeyUpdate && !o.hand:
			o.key = newKeys13(o.s, expand(o.s.hash, o.key.secret, "traffic upd", o.s.hash.Size()))
		}
		o.rest = o.rest[4+n:]
	}
}

// prf is the pseudorandom function of TLS 1.2 (RFC 5246 §5).
func prf(h crypto.Hash, secret []byte, label string, seed []byte, n int) (out []byte) {
	seed = append([]byte(label), seed...)
	sum := func(parts ...[]byte) []byte {
		m := hmac.New(h.New, secret)
		for _, p := range parts {
			m.Write(p)
		}
		return m.Sum(nil)
	}
	for a := sum(seed); len(out) < n; a = sum(a) {
		out = append(out, sum(a, seed)...)
	}
	return out[:n]
}

// side12 opens one side of TLS 1.2.
type side12 struct {
	s       suite
	changed bool
	etm     bool
	key, iv []byte
	seq     uint64
}

func open12(s suite, master, client, server []byte, etm bool) [2]opener {
	if s.mode == cbc {
		s.fixed, s.explicit = 0, aes.BlockSize
	}
	seed := append(bytes.Clone(server), client...)
	b := prf(s.hash, master, "key expansion", seed, 2*(s.mac+s.key+s.fixed))
	take := func(n int) []byte { out := b[:n]; b = b[n:]; return out }
	take(s.mac)
	take(s.mac)
	ck, sk := take(s.key), take(s.key)
	ci, si := take(s.fixed), take(s.fixed)
	return [2]opener{&side12{s: s, key: ck, iv: ci, etm: etm}, &side12{s: s, key: sk, iv: si, etm: etm}}
}

func (o *side12) open(r record) ([]byte, error) {
	if r.kind == recordChange {
		o.changed = true
		return nil, nil
	}
	if !o.changed {
		return nil, nil
	}
	var b []byte
	var err error
	if o.s.mode == cbc {
		b, err = o.block(r)
	} else {
		b, err = o.sealed(r)
	}
	o.seq++
	if err != nil || r.kind != recordApplication {
		return nil, err
	}
	return b, nil
}

// sealed opens a record of an AEAD (RFC 5288, RFC 7905).
func (o *side12) sealed(r record) ([]byte, error) {
	a := aead(o.s, o.key)
	if a == nil || len(r.data) < o.s.explicit+a.Overhead() {
		return nil, errNotOpened
	}
	body := r.data[o.s.explicit:]
	nonce := append(bytes.Clone(o.iv), r.data[:o.s.explicit]...)
	if o.s.mode == chacha {
		for i := range 8 {
			nonce[len(nonce)-1-i] ^= byte(o.seq >> (8 * i))
		}
	}
	more := binary.BigEndian.AppendUint64(nil, o.seq)
	more = append(more, r.head[:3]...)
	more = binary.BigEndian.AppendUint16(more, uint16(len(body)-a.Overhead()))
	b, err := a.Open(nil, nonce, body, more)
	if err != nil {
		return nil, errNotOpened
	}
	return b, nil
}

// block opens a record in CBC (RFC 5246 §6.2.3.2). Its MAC is not looked at: what is read is shown,
// and not trusted.
func (o *side12) block(r record) ([]byte, error) {
	block, err := aes.NewCipher(o.key)
	data := r.data
	if o.etm {
		data = data[:max(len(data)-o.s.mac, 0)]
	}
	if err != nil || len(data) < 2*aes.BlockSize || len(data)%aes.BlockSize != 0 {
		return nil, errNotOpened
	}
	b := make([]byte, len(data)-aes.BlockSize)
	cipher.NewCBCDecrypter(block, data[:aes.BlockSize]).CryptBlocks(b, data[aes.BlockSize:])
	pad := int(b[len(b)-1]) + 1
	if pad > len(b) || len(bytes.Trim(b[len(b)-pad:], string(b[len(b)-1:]))) > 0 {
		return nil, errNotOpened
	}
	b = b[:len(b)-pad]
	if !o.etm {
		if len(b) < o.s.mac {
			return nil, errNotOpened
		}
		b = b[:len(b)-o.s.mac]
	}
	return b, nil
}
