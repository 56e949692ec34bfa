package identity

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"
)

// signerTime bounds a signature: a person may have to touch a key, or type on a pad.
const signerTime = 60 * time.Second

// maxSignature is more than any signature has.
const maxSignature = 16 << 10

// SignWith signs by the signer of the identity. The program is given what a module signs as it
// is on its standard input, and three variables: ORENDA_ALGORITHM (rsa-pkcs1-sha256,
// rsa-pss-sha256, ecdsa-sha256, and so on), ORENDA_DIGEST in hexadecimal, and ORENDA_PIN where
// the identity has a secret. It writes the signature on its standard output, as bytes.
func (id *Identity) SignWith(ctx context.Context, pin string) func(string, []byte, []byte) ([]byte, error) {
	command := strings.TrimPrefix(id.Signer, "command:")
	return func(algorithm string, digest, input []byte) ([]byte, error) {
		ctx, cancel := context.WithTimeout(ctx, signerTime)
		defer cancel()
		cmd := shell(ctx, command)
		cmd.WaitDelay = time.Second
		cmd.Env = append(os.Environ(), "ORENDA_ALGORITHM="+algorithm, "ORENDA_DIGEST="+hex.EncodeToString(digest))
		if pin != "" {
			cmd.Env = append(cmd.Env, "ORENDA_PIN="+pin)
		}
		var out, said bytes.Buffer
		cmd.Stdin, cmd.Stdout, cmd.Stderr = bytes.NewReader(input), &out, &said
		if err := cmd.Run(); err != nil {
			if ctx.Err() != nil {
				return nil, fmt.Errorf("the program did not sign within %s", signerTime)
			}
			const most = 200
			words := strings.Join(strings.Fields(said.String()), " ")
			if pin != "" {
				words = strings.ReplaceAll(words, pin, "…") // what is said is kept
			}
			if words = words[:min(len(words), most)]; words == "" {
				return nil, err
			}
			return nil, fmt.Errorf("%w: %s", err, words)
		}
		if out.Len() == 0 || out.Len() > maxSignature {
			return nil, errors.New("the program writes no signature")
		}
		return out.Bytes(), nil
	}
}
