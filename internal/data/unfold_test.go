package data

import (
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/xmltree"
)

// A value that is an XML document is opened in place, however it is written: its rows,
// fields and JSON are those of any other element.
func TestDocumentsWithinValuesAreOpened(t *testing.T) {
	inner := `<?xml version="1.0"?><manifest><item no="1">salt</item><item no="2">rope &amp; tar</item></manifest>`
	escaped := strings.NewReplacer("&", "&amp;", "<", "&lt;").Replace(inner)
	for name, value := range map[string]string{
		"escaped": escaped, "CDATA": "<![CDATA[" + inner + "]]>", "base64": base64.StdEncoding.EncodeToString([]byte(inner)),
		"letters in base64":    base64.StdEncoding.EncodeToString([]byte(inner[21:])),
		"of another program's": strings.Replace(escaped, `version="1.0"`, `version="1.0" encoding="utf-16"`, 1),
		"twice":                strings.NewReplacer("&", "&amp;", "<", "&lt;").Replace("<box>" + escaped + "</box>"),
	} {
		d, err := xmltree.Parse([]byte(`<r xmlns="urn:s"><id>7</id><doc>`+value+`</doc><note>a &lt; b</note></r>`), xmltree.Limits{})
		require.NoError(t, err)
		out, n := Unfold(d)
		require.Positive(t, n, name)
		root := out.Root()
		json := string(JSON(nil, nil, root))
		assert.Contains(t, json, `"manifest": {`, name)
		assert.Contains(t, json, `"#text": "rope & tar"`, name)
		assert.Contains(t, json, `"note": "a < b"`, name)
		all := Tables(nil, nil, root)
		require.Len(t, all, 1, name)
		assert.Equal(t, 2, all[0].Rows, name)
		assert.Contains(t, all[0].Path, "doc/", name)
		m := root.Find("", "manifest")
		assert.False(t, m.IsZero(), "%s: it stays in no namespace", name)
	}
	for _, plain := range []string{"a &lt; b", "&lt;br>", "&lt;a>", "PD94bWwgdmVyc2lvbj0iMS4wIj8+", "12", "&lt;a/> and more"} {
		d, err := xmltree.Parse([]byte("<r><v>"+plain+"</v></r>"), xmltree.Limits{})
		require.NoError(t, err)
		out, n := Unfold(d)
		assert.Zero(t, n, plain)
		assert.Same(t, d, out)
	}
}

func FuzzUnfold(f *testing.F) {
	f.Add([]byte("<r><v>&lt;a>&lt;b/>&lt;/a></v></r>"))
	f.Add([]byte("<r xmlns='urn:a'><v><![CDATA[<a/>]]></v></r>"))
	f.Add([]byte("<r><v>\n PGEvPg==</v><w>CjxhLz4K</w></r>"))
	f.Fuzz(func(t *testing.T, src []byte) {
		d, err := xmltree.Parse(src, xmltree.Limits{Depth: 200})
		if err != nil {
			return
		}
		out, opened := Unfold(d)
		if opened > 0 && !MayEmbed(d) {
			t.Fatalf("a document in a value of %q is not seen", src)
		}
		_ = JSON(nil, nil, out.Root())
		_ = Tables(nil, nil, out.Root())
	})
}
