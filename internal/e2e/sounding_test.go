package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

// A field is sounded from the draft; what is found is kept at the field, and its two sides become
// cases of a muster, which then comes back as expected.
func TestAFieldIsSoundedInTheApplication(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/callsigns?wsdl")
	draft, err := filepath.Glob(filepath.Join(dir, "drafts", "*", "*", "LookUp", "first.xml"))
	require.NoError(t, err)
	require.Len(t, draft, 1)
	require.NoError(t, os.WriteFile(draft[0], []byte(
		`<c:LookUp xmlns:c="urn:skerry:callsigns"><sign>SKAL4</sign><exact>false</exact></c:LookUp>`), 0o600))
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("LookUp")
	s.keys("~")
	s.sees("nothing is sounded yet")
	s.keys("d")
	s.sees("SKAL4")
	s.keys("~")
	s.sees("sign   by length", "It sends this draft up to 40 times", "! begins")
	s.keys("!")
	s.sees("at least 4 characters; 3 is refused with", "at least four letters of the call sign", "accepted")
	s.keys("#")
	s.sees("kept in notes.toml")
	s.keys("+")
	s.sees("put a case for each side into the muster")
	s.keys("Enter")
	s.sees("edges has")
	s.keys("Home", "Enter")
	s.sees("READ", "stopped at read")
	s.keys("d")
	s.sees("learned", "at least 4 characters")
	s.keys("@") // the two calls that showed it
	s.sees("differences", "SKAL", "SKA")
	s.keys("d")
	s.sees("learned")
	s.keys("C")
	s.sees("edges", "is refused")
	s.keys("!")
	s.sees("4 as expected")
	s.keys("~") // a way that is of the whole call is noted at no field
	for range 10 {
		s.keys("Tab")
	}
	s.sees("the message   by sending", "in other ways: in chunks")
	s.keys("!")
	s.sees("the sounding of the message has ended", "taken: with its length")
	notes := filepath.Join(dir, "notes.toml")
	before, err := os.ReadFile(notes)
	require.NoError(t, err)
	s.keys("#", "Down")
	s.sees("the message   by sending")
	after, err := os.ReadFile(notes)
	require.NoError(t, err)
	require.Equal(t, string(before), string(after))
}
