package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAServiceIsSounded(t *testing.T) {
	l := at(t)
	args := []string{"sound", "LookUp", "sign", "sign=SKAL4", "exact=false", "--contract", l.callsigns(), "--port", "CallSigns", "--pause", "0s"}
	var r struct {
		Calls  int
		Steady bool
		Edges  []struct {
			Side, Accepted, Refused, Says string
			Exchanges                     []string
		}
		Characters []struct {
			Of    string
			Taken bool
		}
		Sentence string
	}
	l.json(0, &r, args...)
	require.NotEmpty(t, r.Edges)
	assert.Equal(t, "least", r.Edges[0].Side)
	assert.Equal(t, "4", r.Edges[0].Accepted)
	assert.Equal(t, "3", r.Edges[0].Refused)
	assert.Contains(t, r.Edges[0].Says, "at least four letters")
	assert.Contains(t, r.Sentence, "at least 4 characters")
	for _, id := range r.Edges[0].Exchanges {
		code, _, _ := l.run("journal", "show", id)
		assert.NotEqual(t, 3, code, "both sides were really sent, and are kept")
	}
	l.json(0, &r, append(args, "--by", "characters")...)
	assert.NotEmpty(t, r.Characters)
	code, _, errOut := l.run(append(args, "--budget", "3")...)
	assert.Equal(t, 1, code, errOut)
	code, _, _ = l.run("sound", "LookUp", "nothing", "--contract", l.callsigns(), "--port", "CallSigns")
	assert.Equal(t, 2, code)
}
