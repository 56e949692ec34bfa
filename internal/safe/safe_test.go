package safe

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestControlsAreShownNeverObeyed(t *testing.T) {
	for in, want := range map[string]string{
		"plain":                            "plain",
		"\x1b[2Jgone\x07":                  "␛[2Jgone␇",
		"a\r\nb\tc":                        "a␍␊b␉c",
		"c1 \u009b31m":                     "c1 �31m",
		"bidi \u202eevil":                  "bidi ·evil",
		"z\u200bw":                         "z·w",
		"é 日本 ✓":                           "é 日本 ✓",
		"\xff":                             "�",
		"a" + strings.Repeat("\u0301", 50): "a" + strings.Repeat("\u0301", 4),
	} {
		assert.Equal(t, want, Line(in))
	}
	assert.Equal(t, "a␍\nb    c␛", Block("a\r\nb\tc\x1b"))
}

func TestJSONIsPrintableAndStillTheSame(t *testing.T) {
	in := "\x1b \u009b \u202e \U000e0041 é <&>"
	b, err := JSON(map[string]string{"k": in})
	require.NoError(t, err)
	for _, bad := range []string{"\x1b", "\u009b", "\u202e", "\U000e0041"} {
		assert.NotContains(t, string(b), bad)
	}
	var out map[string]string
	require.NoError(t, json.Unmarshal(b, &out))
	assert.Equal(t, in, out["k"])
}

func FuzzLine(f *testing.F) {
	f.Add("\x1b]0;x\x07")
	f.Fuzz(func(t *testing.T, s string) {
		for _, r := range Line(s) {
			if r < ' ' || r >= 0x7f && r < 0xa0 {
				t.Fatalf("%q gives %q", s, Line(s))
			}
		}
	})
}

func TestFileNamesFromOutsideStayInTheirFolder(t *testing.T) {
	for in, want := range map[string]string{
		"../../etc/passwd":       "_.._etc_passwd",
		"":                       "unnamed",
		"...":                    "unnamed",
		"a/b\x1b[2J":             "a_b__2J",
		`C:\pier\berths.wsdl`:    "C__pier_berths.wsdl",
		"Skerry 2027":            "Skerry 2027",
		".hidden":                "hidden",
		strings.Repeat("x", 300): strings.Repeat("x", 81),
	} {
		assert.Equal(t, want, FileName(in))
	}
}

func TestWhiteSpaceIsVisibleWhereItMatters(t *testing.T) {
	for s, want := range map[string]string{
		"the": "the", "the ": "the·", " the": "·the", "slack water": "slack water", "slack  water": "slack··water",
		"": `""`, "a\tb": "a→b", "a\nb": "a↵b", "a\u00a0b": "a°b", "  ": "··", "a b  c ": "a b··c·",
	} {
		assert.Equal(t, want, Visible(s), "%q", s)
	}
}
