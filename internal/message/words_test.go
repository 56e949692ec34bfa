package message

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestACommandLineIsTakenApartAsAShellDoes(t *testing.T) {
	for line, want := range map[string][]string{
		`a  b	c`:                             {"a", "b", "c"},
		`-H 'SOAPAction: "x"'`:               {"-H", `SOAPAction: "x"`},
		`-d "<a b=\"1\"/>" < f`:              {"-d", `<a b="1"/>`, "<", "f"},
		`a\ b 'it'"'"'s' ""`:                 {"a b", "it's", ""},
		`"a\nb" '\n' \$HOME $X`:              {`a\nb`, `\n`, "$HOME", "$X"},
		"# isn't it\nx -d 'a#b' c#d # don't": {"x", "-d", "a#b", "c#d"},
		``:                                   nil,
	} {
		got, err := words(line)
		assert.NoError(t, err, line)
		assert.Equal(t, want, got, line)
	}
	_, err := words(`-d '<a>`)
	assert.ErrorIs(t, err, errQuote)
}

func FuzzWords(f *testing.F) {
	f.Add(`send -d '<a/>' "http://x"`)
	f.Fuzz(func(_ *testing.T, line string) { _, _ = words(line) })
}
