package message

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCommandLinesAreTaken(t *testing.T) {
	file := func(name string) ([]byte, error) {
		if name != "body.xml" {
			return nil, errors.New("there is no " + name)
		}
		return []byte("<a>from the file</a>"), nil
	}
	for line, want := range map[string]Handed{
		"  <a> <!-- as it is --> </a>\n":    {Body: []byte("<a> <!-- as it is --> </a>")},
		"\uFEFF<?xml version='1.0'?>\n<a/>": {Body: []byte("<?xml version='1.0'?>\n<a/>")},
		`client -X POST -H "SOAPAction: \"urn:x\"" -d '<a>b</a>' http://h.test/s`: {Body: []byte("<a>b</a>"),
			Address: "http://h.test/s", Headers: [][2]string{{"SOAPAction", `"urn:x"`}}},
		"# why\nclient --header='A: b:c' \\\n --data-binary @body.xml https://h.test": {Body: []byte("<a>from the " +
			"file</a>"), Address: "https://h.test", Headers: [][2]string{{"A",
			"b:c"}}},
		"client --post-file=body.xml --user anna:secret http://h.test http://other.test/": {Body: []byte("<a>from the file</a>"), Address: "http://h.test", User: true},
		"client POST http://h.test < body.xml":                                            {Body: []byte("<a>from the file</a>"), Address: "http://h.test"},
		"client http://h.test @body.xml":                                                  {Body: []byte("<a>from the file</a>"), Address: "http://h.test"},
	} {
		h, err := Take(line, file)
		require.NoError(t, err, line)
		assert.Equal(t, want, *h, line)
		assert.NotContains(t, string(h.Body)+h.Address, "secret")
	}
	for line, want := range map[string]string{
		"hello":                       "neither XML nor a command line with a body",
		"client -d '<a":               "neither XML nor a command line",
		"client http://h.test":        "with a body",
		"client -d @gone.xml http://": "there is no gone.xml",
		"<a><b></a>":                  "not well-formed",
		"client -d '<a>' http://h":    "not well-formed",
	} {
		_, err := Take(line, file)
		assert.ErrorContains(t, err, want, line)
	}
	_, err := Take("client -d @/etc/passwd http://h.test", nil)
	assert.ErrorContains(t, err, "not read here")
}

func TestAnHTTPRequestIsTaken(t *testing.T) {
	h, err := Take("POST /berths?x=1 HTTP/1.1\r\nHost: berths.skerry.example:8080\r\nX-Desk: north\r\nSOAPAction: \"a\"\r\n\r\n"+
		"<a><b/></a>\r\n", nil)
	require.NoError(t, err)
	assert.Equal(t, "<a><b/></a>", string(h.Body))
	assert.Equal(t, "http://berths.skerry.example:8080/berths?x=1", h.Address)
	assert.Contains(t, h.Headers, [2]string{"X-Desk", "north"})
	_, err = Take("POST /x HTTP/1.1\nHost: y\n\n<a>", nil)
	assert.ErrorContains(t, err, "not well-formed")
}
