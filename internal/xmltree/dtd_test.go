package xmltree

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What an internal subset declares is put in, and what is external stands for nothing: held
// against xmllint, which puts entities in as well.
func TestTheInternalSubsetIsPutIn(t *testing.T) {
	for name, c := range map[string]struct{ doc, want string }{
		"none": {`<a>1</a>`, `<a>1</a>`},
		"public, not fetched": {
			`<!DOCTYPE a PUBLIC "-//SKERRY//DTD A//EN" "http://skerry.invalid/a.dtd"><a>1</a>`, `<a>1</a>`,
		},
		"entities in text and attributes": {
			`<!DOCTYPE a [<!ENTITY sig 'urn:skerry:sig#'><!ENTITY both "&sig;x">]><a b="&sig;"><c>&both;&amp;</c></a>`,
			`<a b="urn:skerry:sig#"><c>urn:skerry:sig#x&amp;</c></a>`,
		},
		"elements in entities":        {`<!DOCTYPE a [<!ENTITY e "<c>1</c>">]><a>&e;</a>`, `<a><c>1</c></a>`},
		"the first declaration holds": {`<!DOCTYPE a [<!ENTITY e "1"><!ENTITY e "2">]><a>&e;</a>`, `<a>1</a>`},
		"defaults": {
			`<!DOCTYPE a [<!ATTLIST a xmlns:s CDATA #FIXED "urn:s" k (x|y) "x" id ID #IMPLIED>]><a k="y"><s:b/></a>`,
			`<a k="y" xmlns:s="urn:s"><s:b/></a>`,
		},
		"parameter entities": {
			`<!DOCTYPE a [<!ENTITY % p "<!ENTITY e '7'>"> %p; <!ENTITY % s ''> %s;]><a>&e;</a>`, `<a>7</a>`,
		},
		"comments and CDATA stay": {
			`<!DOCTYPE a [<!ENTITY e "1">]><a><!-- &e; --><![CDATA[&e;]]><?p &e;?>&e;</a>`,
			`<a><!-- &e; --><![CDATA[&e;]]><?p &e;?>1</a>`,
		},
		"other declarations": {
			`<!DOCTYPE a [<!-- ]> <a> --><!ELEMENT a (#PCDATA)><!NOTATION n SYSTEM "x"><?p ]>?><!ENTITY e "]>">]><a>&e;</a>`,
			`<a>]></a>`,
		},
	} {
		out, err := WithoutDoctype([]byte(c.doc))
		require.NoError(t, err, name)
		assert.Equal(t, c.want, strings.TrimSpace(string(out)), name)
		assert.Equal(t, strings.Count(c.doc, "\n"), strings.Count(string(out), "\n"))
	}
	lint, err := exec.LookPath("xmllint")
	if err != nil {
		t.Skip("xmllint is not installed (make test installs it)")
	}
	doc := `<!DOCTYPE a [<!ENTITY x "1"><!ENTITY y "&x;2"><!ATTLIST b c CDATA "d">]>` + "\n<a z='&y;'>&y;<b/><b c='e'/></a>"
	file := filepath.Join(t.TempDir(), "a.xml")
	require.NoError(t, os.WriteFile(file, []byte(doc), 0o600))
	want, err := exec.Command(lint, "--noent", "--dtdattr", "--c14n", file).Output()
	require.NoError(t, err)
	mine, err := WithoutDoctype([]byte(doc))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, mine, 0o600))
	got, err := exec.Command(lint, "--c14n", file).Output()
	require.NoError(t, err)
	assert.Equal(t, string(want), string(got))
}

// Expansion is bounded in count, depth and size, and messages stay without declarations.
func TestDeclarationsAreBounded(t *testing.T) {
	var laughs strings.Builder
	laughs.WriteString(`<!DOCTYPE a [<!ENTITY e0 "ha ha ha ha ha ">`)
	for i := 1; i < 15; i++ {
		fmt.Fprintf(&laughs, `<!ENTITY e%d "%s">`, i, strings.Repeat(fmt.Sprintf("&e%d;", i-1), 10))
	}
	laughs.WriteString(`]><a>&e14;</a>`)
	var many strings.Builder
	many.WriteString("<!DOCTYPE a [")
	for i := range 3000 {
		fmt.Fprintf(&many, `<!ENTITY n%d "x">`, i)
	}
	many.WriteString("]><a/>")
	for doc, why := range map[string]string{
		laughs.String(): "MiB",
		many.String():   "declares more than",
		`<!DOCTYPE a [<!ENTITY e "&f;"><!ENTITY f "&e;">]><a>&e;</a>`:  "back to themselves",
		`<!DOCTYPE a [<!ENTITY % p "%q;"><!ENTITY % q "%p;">%p;]><a/>`: "too deep",
		`<!DOCTYPE a [<!ENTITY e "1">`:                                 "does not end",
		`<!DOCTYPE a [<!WHAT e "1">]><a/>`:                             "not in order",
	} {
		_, err := WithoutDoctype([]byte(doc))
		assert.ErrorContains(t, err, why)
	}
	_, err := Parse([]byte(`<!DOCTYPE a [<!ENTITY e "1">]><a>&e;</a>`), Limits{})
	assert.Error(t, err)
	_, err = ParseContract([]byte(`<!DOCTYPE a [<!ENTITY e SYSTEM "file:///etc/passwd">]><a>&e;</a>`), Limits{})
	assert.NoError(t, err, "what is external stands for nothing")
}

func FuzzWithoutDoctype(f *testing.F) {
	f.Add(`<!DOCTYPE a [<!ENTITY e "1"><!ATTLIST a b CDATA "c">]><a>&e;</a>`)
	f.Add(`<!DOCTYPE a [<!ENTITY % p "<!ENTITY e '7'>"> %p; ]><a>&e;</a>`)
	f.Fuzz(func(t *testing.T, doc string) {
		out, err := WithoutDoctype([]byte(doc))
		if err == nil && len(out) > maxExpanded+2*len(doc)+64 {
			t.Fatalf("%d bytes of %d", len(out), len(doc))
		}
	})
}
