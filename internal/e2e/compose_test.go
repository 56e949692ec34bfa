package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A message with a header block, a choice, repeats of two types, an
// enumeration and a nil is put together, sent and answered.
func TestComposingAMessage(t *testing.T) {
	h := harbour(t)
	s := open(t, 158, 47, home(t), "http://"+h.Plain+"/dues?wsdl")
	s.sees("Assess", "Pay", "CloseLedger", "HarbourDues")
	s.keys("d")
	s.sees("Clerk", "header block", "to fill in", "arrival+departure ◇ nights")
	fill := func(field, value string) {
		s.keys("/")
		s.types(field)
		s.keys("Enter", "Enter")
		s.types(value)
		s.keys("Enter")
	}
	s.keys("Home", "Space", "Down", "Enter") // the header block
	s.types("Ines Hallam")
	s.keys("Enter")
	fill("vessel/name", "Alder")
	fill("callSign", "SKAL4")
	fill("grossTonnage", "1200")
	s.keys("/")
	s.types("arrival")
	s.keys("Enter", "Right") // the other branch of the choice
	s.sees("nights")
	fill("nights", "3")
	s.keys("/")
	s.types("cargo")
	s.keys("Enter", "Space")
	s.sees("one of 2 types, now Bulk")
	fill("cargo/goods", "salt")
	fill("cargo/tonnes", "10")
	s.keys("/")
	s.types("cargo")
	s.keys("Enter", "+")
	s.sees("cargo [2]")
	s.keys("/")
	s.types("cargo[2]/goods")
	s.keys("Enter", "Up", "Up", "Right")
	s.sees("› Bulk", "Containers")
	s.keys("Down", "Enter")
	s.sees("count", "length")
	fill("cargo[2]/goods", "nets")
	fill("cargo[2]/count", "2")
	s.keys("/")
	s.types("cargo[2]/length")
	s.keys("Enter", "Enter")
	s.sees("20 ft", "40 ft")
	s.keys("Down", "Enter")
	s.keys("/")
	s.types("remark")
	s.keys("Enter", "0")
	s.sees("valid", "nil")
	s.keys("g")
	s.sees("passed after", "invoice D-1000")
	s.keys("s")
	s.sees("<Clerk xmlns=", "Containers", "nil=\"true\"")
}

// A raw envelope that came from elsewhere becomes a draft: pasted, and from a
// file or a command line.
func TestImportingAnEnvelope(t *testing.T) {
	h := harbour(t)
	env := home(t)
	dir := filepath.Join(t.TempDir(), "ws")
	s := open(t, 158, 47, env, "http://"+h.Plain+"/berths?wsdl")
	s.sees("FindBerths")
	s.keys("S")
	s.sees("save the workspace into the folder")
	s.keys("C-u")
	s.types(dir)
	s.keys("Enter")
	s.sees("saved: ")
	raw := `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><!-- from elsewhere --><FindBerths xmlns="urn:skerry:berths"><length>60</length></FindBerths></e:Body></e:Envelope>`
	s.tmux("set-buffer", raw)
	s.tmux("paste-buffer", "-p")
	s.sees("a draft of what was pasted: FindBerths/pasted")
	s.keys("g")
	s.sees("2 × berth · code E03")

	body := filepath.Join(t.TempDir(), "body.xml")
	require.NoError(t, os.WriteFile(body, []byte(raw), 0o600))
	line := filepath.Join(t.TempDir(), "call.sh")
	require.NoError(
		t,
		os.WriteFile(
			line,
			[]byte(
				"# as the service's people sent it\nhttp-client -s \\\n  -H 'SOAPAction: "+
					"\"urn:skerry:berths:FindBerths\"' -H 'X-Quay: north' \\\n  --data-binary @"+filepath.Base(
					body,
				)+" http://"+h.Plain+"/berths\n",
			),
			0o600,
		),
	)
	require.NoError(t, os.Rename(body, filepath.Join(filepath.Dir(line), filepath.Base(body))))
	r := orenda(t, env, "draft", "import", line, "--workspace", dir, "--name", "from the desk")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.out, "FindBerths/from the desk")
	assert.Contains(t, r.out, "SOAPAction", "what is no draft is told")
	own := orenda(t, env, "draft", "header", "FindBerths/from the desk", "--workspace", dir)
	assert.Equal(t, "X-Quay: north\n", own.out, "a field stays with the draft")
	r = orenda(t, env, "call", "FindBerths/from the desk", "--endpoint", "BerthDesk11", "--workspace", dir)
	assert.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.out, "E07")
	r = orenda(t, env, "draft", "list", "--workspace", dir)
	assert.Contains(t, r.out, "FindBerths/pasted")
	r = orenda(t, env, "draft", "differs", "FindBerths/pasted", "FindBerths/first", "--workspace", dir)
	assert.Equal(t, 1, r.code, "they differ")
	assert.Contains(t, r.out, "length")
	s.keys("t")
	s.sees("exchanges", "FindBerths")
	s.keys("D")
	s.sees("a draft of this: FindBerths/")
}

// A description over TLS with a certificate that nobody vouches for: the repair
// is offered as for any call, and holds for its endpoints too.
func TestADescriptionBehindASelfSignedCertificate(t *testing.T) {
	h := harbour(t)
	s := open(t, 158, 47, home(t), "https://"+h.TLS+"/berths?wsdl")
	s.sees("certificate is self-signed", "p shows its path")
	s.keys("p")
	s.sees("fetching https://", "trust this certificate")
	s.keys("Enter")
	s.sees("compare the fingerprint")
	s.keys("Enter")
	s.sees("done: trust this certificate", "trust/tides.skerry.test")
	s.keys("g")
	s.sees("berth-desk: 3 operations")
	s.keys("b", "End", "Right", "Right", "d")
	s.sees("LogSighting")
	fill := func(field, value string) {
		s.keys("/")
		s.types(field)
		s.keys("Enter", "Enter")
		s.types(value)
		s.keys("Enter")
	}
	fill("vessel/name", "Alder")
	fill("callSign", "SKAL4")
	fill("at", "2027-03-01T06:40:00Z")
	s.sees("valid")
	s.keys("g")
	s.sees("BerthDeskTLS", "passed after")
}
