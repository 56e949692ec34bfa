package trust

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des" // what is read is not chosen here
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	stdhash "hash"

	"golang.org/x/crypto/scrypt"
)

// errWrongPassword means that what was decrypted is no key.
var errWrongPassword = errors.New("the password does not open the key")

// The object identifiers of PBES2 (RFC 8018 §A, RFC 7914 §7).
func oid(last ...int) asn1.ObjectIdentifier {
	return append(asn1.ObjectIdentifier{1, 2, 840, 113549}, last...)
}

// encryptedKey is EncryptedPrivateKeyInfo (RFC 5958 §3).
type encryptedKey struct {
	Algorithm pkix.AlgorithmIdentifier
	Data      []byte
}

// pbes2 are its parameters (RFC 8018 §A.4).
type pbes2 struct {
	Derivation, Encryption pkix.AlgorithmIdentifier
}

// pbkdf2Parameters are those of RFC 8018 §A.2.
type pbkdf2Parameters struct {
	Salt   []byte
	Rounds int
	Length int                      `asn1:"optional"`
	PRF    pkix.AlgorithmIdentifier `asn1:"optional"`
}

// scryptParameters are those of RFC 7914 §7.
type scryptParameters struct {
	Salt           []byte
	Cost           int
	BlockSize      int
	Parallelism    int
	LengthOptional int `asn1:"optional"`
}

// openPKCS8 decrypts a private key that is encrypted under PBES2. Its rounds were
// bounded before. The error is errWrongPassword, or says what is not supported.
func openPKCS8(der []byte, password string) (crypto.PrivateKey, error) {
	var info encryptedKey
	if rest, err := asn1.Unmarshal(der, &info); err != nil || len(rest) > 0 {
		return nil, errors.New("the private key cannot be read")
	}
	if !info.Algorithm.Algorithm.Equal(oid(1, 5, 13)) {
		return nil, fmt.Errorf("its encryption %s is not supported; PBES2 is", info.Algorithm.Algorithm)
	}
	var p pbes2
	if _, err := asn1.Unmarshal(info.Algorithm.Parameters.FullBytes, &p); err != nil {
		return nil, err
	}
	var iv []byte
	if _, err := asn1.Unmarshal(p.Encryption.Parameters.FullBytes, &iv); err != nil {
		return nil, err
	}
	size, block, err := cipherOf(p.Encryption.Algorithm)
	if err != nil {
		return nil, err
	}
	key, err := deriveKey(p.Derivation, password, size)
	if err != nil {
		return nil, err
	}
	b, err := block(key)
	if err != nil {
		return nil, err
	}
	if len(iv) != b.BlockSize() || len(info.Data) == 0 || len(info.Data)%b.BlockSize() != 0 {
		return nil, errors.New("the private key is damaged")
	}
	plain := make([]byte, len(info.Data))
	cipher.NewCBCDecrypter(b, iv).CryptBlocks(plain, info.Data)
	pad := int(plain[len(plain)-1])
	if pad == 0 || pad > b.BlockSize() {
		return nil, errWrongPassword
	}
	k, err := x509.ParsePKCS8PrivateKey(plain[:len(plain)-pad])
	if err != nil {
		return nil, errWrongPassword
	}
	return k, nil
}

// cipherOf is the block cipher of an identifier, with the size of its key in bytes.
func cipherOf(id asn1.ObjectIdentifier) (size int, block func([]byte) (cipher.Block, error), err error) {
	aesCBC := asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1}
	for _, c := range []struct {
		id   asn1.ObjectIdentifier
		size int
	}{{append(aesCBC[:8:8], 2), 16}, {append(aesCBC[:8:8], 22), 24}, {append(aesCBC[:8:8], 42), 32}} {
		if id.Equal(c.id) {
			return c.size, aes.NewCipher, nil
		}
	}
	if id.Equal(oid(3, 7)) {
		return 24, des.NewTripleDESCipher, nil
	}
	return 0, nil, fmt.Errorf("its cipher %s is not supported", id)
}

// deriveKey makes the key of a password.
func deriveKey(how pkix.AlgorithmIdentifier, password string, size int) ([]byte, error) {
	if how.Algorithm.Equal(asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11591, 4, 11}) {
		var p scryptParameters
		if _, err := asn1.Unmarshal(how.Parameters.FullBytes, &p); err != nil {
			return nil, err
		}
		const maxMemory = 256 << 20
		if p.Cost <= 0 || p.BlockSize <= 0 || p.Cost > maxMemory/128/p.BlockSize {
			return nil, fmt.Errorf("its key derivation wants more than %d bytes of memory, too many", maxMemory)
		}
		return scrypt.Key([]byte(password), p.Salt, p.Cost, p.BlockSize, p.Parallelism, size)
	}
	if !how.Algorithm.Equal(oid(1, 5, 12)) {
		return nil, fmt.Errorf("its key derivation %s is not supported", how.Algorithm)
	}
	var p pbkdf2Parameters
	if _, err := asn1.Unmarshal(how.Parameters.FullBytes, &p); err != nil {
		return nil, err
	}
	for _, h := range []struct {
		id  asn1.ObjectIdentifier
		new func() stdhash.Hash
	}{
		{nil, sha1.New}, // what is meant where nothing is said
		{oid(2, 7), sha1.New}, {oid(2, 8), sha256.New224}, {oid(2, 9), sha256.New},
		{oid(2, 10), sha512.New384}, {oid(2, 11), sha512.New},
	} {
		if p.PRF.Algorithm.Equal(h.id) {
			return pbkdf2.Key(h.new, password, p.Salt, p.Rounds, size)
		}
	}
	return nil, fmt.Errorf("its digest %s is not supported", p.PRF.Algorithm)
}

// rounds is how often PBKDF2 hashes for a key that is written here (OWASP's advice for
// SHA-256).
const rounds = 600_000

// sealPKCS8 encrypts a private key: PBES2 with PBKDF2, SHA-256 and AES-256-CBC.
func sealPKCS8(key crypto.Signer, password string) ([]byte, error) {
	plain, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	salt, iv := make([]byte, 16), make([]byte, aes.BlockSize)
	_, _ = rand.Read(salt)
	_, _ = rand.Read(iv)
	k, err := pbkdf2.Key(sha256.New, password, salt, rounds, 32)
	if err != nil {
		return nil, err
	}
	b, err := aes.NewCipher(k)
	if err != nil {
		return nil, err
	}
	pad := aes.BlockSize - len(plain)%aes.BlockSize
	plain = append(plain, bytes.Repeat([]byte{byte(pad)}, pad)...)
	cipher.NewCBCEncrypter(b, iv).CryptBlocks(plain, plain)
	raw := func(v any) asn1.RawValue {
		der, merr := asn1.Marshal(v)
		err = errors.Join(err, merr)
		return asn1.RawValue{FullBytes: der}
	}
	derivation := pkix.AlgorithmIdentifier{Algorithm: oid(1, 5, 12), Parameters: raw(struct {
		Salt   []byte
		Rounds int
		PRF    pkix.AlgorithmIdentifier
	}{salt, rounds, pkix.AlgorithmIdentifier{Algorithm: oid(2, 9), Parameters: asn1.NullRawValue}})}
	aes256 := asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}
	all := pkix.AlgorithmIdentifier{
		Algorithm:  oid(1, 5, 13),
		Parameters: raw(pbes2{derivation, pkix.AlgorithmIdentifier{Algorithm: aes256, Parameters: raw(iv)}}),
	}
	if err != nil {
		return nil, err
	}
	return asn1.Marshal(encryptedKey{all, plain})
}
