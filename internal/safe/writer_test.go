package safe

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAWriterPutsCharactersTogether(t *testing.T) {
	text := "<a>\x1b]0;quay\x07 Möwe\u202e \u00ad\u3164 ⚓\n</a>"
	for size := 1; size < 7; size++ {
		var b bytes.Buffer
		w := &Writer{To: &b}
		for rest := []byte(text); len(rest) > 0; {
			n := min(size, len(rest))
			_, err := w.Write(rest[:n])
			require.NoError(t, err)
			rest = rest[n:]
		}
		assert.Equal(t, Block(text), b.String(), "%d bytes at a time", size)
		assert.NotContains(t, b.String(), "\x1b")
	}
}

func TestInvisibleCharactersAreShown(t *testing.T) {
	for _, r := range []rune{0xad, 0x34f, 0x115f, 0x1160, 0x17b4, 0x180e, 0x200b, 0x2060, 0x3164, 0xfeff, 0xffa0, 0xe0041} {
		assert.Equal(t, "a·b", Line("a"+string(r)+"b"), "U+%04X", r)
	}
}
