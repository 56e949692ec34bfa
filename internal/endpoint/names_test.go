package endpoint

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// A setting has one name: on screens and in sentences it is that of the file and the flag.
func TestASettingHasOneName(t *testing.T) {
	seen := map[string]string{}
	for i := range Keys {
		k := &Keys[i]
		label := k.Label()
		assert.Empty(t, seen[label], "%s and %s are both called %s", seen[label], k.Name, label)
		seen[label] = k.Name
		for _, word := range strings.Split(k.Name, "-") {
			assert.Contains(t, strings.ToLower(label), word)
		}
	}
}

func TestSizesAreSpelledOneWay(t *testing.T) {
	k := KeyOf("receive-limit")
	for in, want := range map[string]string{"65536": "65 536 B · 64 KiB", "64 KiB": "65 536 B · 64 KiB",
		"1000": "1 000 B", "2MB": "2 000 000 B", "${limit}": "${limit}"} {
		assert.Equal(t, want, k.Spell(in), in)
	}
	assert.Equal(t, "30s", KeyOf("answer-time").Spell("30s"))
}
