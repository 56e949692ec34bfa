package message

import (
	"bytes"
	"context"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/contract"
	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// Examples for large real descriptions are valid by another judge: each message of each
// operation, and each type of the largest schemas. ORENDA_DESCRIPTIONS is the folder that
// they lie in; `make outside` fetches them.
func TestExamplesOfLargeDescriptionsAreValid(t *testing.T) {
	dir := os.Getenv("ORENDA_DESCRIPTIONS")
	if dir == "" {
		t.Skip("make outside fetches large descriptions")
	}
	lint, err := exec.LookPath("xmllint")
	require.NoError(t, err)
	descriptions, messages, valid := 0, 0, 0
	require.NoError(t, filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".wsdl") {
			return err
		}
		src, err := os.ReadFile(path)
		require.NoError(t, err)
		c, err := contract.Load(t.Context(), path, src, func(_ context.Context, p string) ([]byte, error) { return contract.ReadLocal(p) })
		if err != nil || len(c.Ports()) == 0 {
			return nil // a part of another
		}
		descriptions++
		n, ok := judged(t, lint, path, src, c)
		t.Logf("%s: %d messages, %d valid", strings.TrimPrefix(path, dir), n, ok)
		messages, valid = messages+n, valid+ok
		return nil
	}))
	t.Logf("%d descriptions, %d messages, %d valid", descriptions, messages, valid)
	require.Positive(t, messages)
	assert.GreaterOrEqual(t, float64(valid)/float64(messages), 0.98)
}

// judged makes an example of each element and each type of a contract that xmllint can
// read the schemas of, and counts those that it finds valid.
func judged(t *testing.T, lint, path string, src []byte, c *contract.Contract) (n, valid int) {
	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS(filepath.Dir(path))))
	spaces := inlined(t, dir, src)
	if len(spaces) == 0 { // they stand in the descriptions that this one imports
		more, err := filepath.Glob(filepath.Join(dir, "*.wsdl"))
		require.NoError(t, err)
		for _, f := range more {
			b, err := os.ReadFile(f)
			require.NoError(t, err)
			for space, file := range inlined(t, dir, b) {
				spaces[space] = file
			}
		}
	}
	if len(spaces) == 0 {
		return 0, 0
	}
	// The driver declares an element for each type, so that types are judged as messages are.
	var driver bytes.Buffer
	fmt.Fprint(&driver, `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:driver" elementFormDefault="qualified">`)
	imported := map[string]bool{}
	order := slices.SortedFunc(maps.Keys(spaces), func(a, b string) int {
		return int(size(dir, spaces[b]) - size(dir, spaces[a])) // xmllint takes one file for a namespace
	})
	for _, space := range order {
		file := spaces[space]
		imported[space] = true
		fmt.Fprintf(&driver, `<xs:import namespace=%q schemaLocation=%q/>`, space, file)
	}
	var elements []*schema.Element
	for _, name := range c.Schemas.Elements() {
		if e := c.Schemas.Element(name); imported[name.Space] && !e.Abstract {
			elements = append(elements, e)
		}
	}
	for i, name := range c.Schemas.Types() {
		typ := c.Schemas.Type(name)
		if ct, ok := typ.(*schema.Complex); !ok || ct.Abstract || !reachable(spaces, name.Space) {
			continue
		}
		e := &schema.Element{Name: schema.QName{Space: "urn:driver", Local: fmt.Sprintf("t%d", i)}, Type: typ, Global: true}
		elements = append(elements, e)
		fmt.Fprintf(&driver, `<xs:element name=%q type="p:%s" xmlns:p=%q/>`, e.Name.Local, name.Local, name.Space)
	}
	fmt.Fprint(&driver, `</xs:schema>`)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "driver.xsd"), driver.Bytes(), 0o600))
	args := []string{"--noout", "--nonet", "--schema", filepath.Join(dir, "driver.xsd")}
	for i, e := range elements {
		b := Sample(c.Schemas, e, Want{All: i%2 == 0, Example: &schema.Examples{Day: time.Date(2027, 3, 1, 0, 0, 0, 0, time.UTC), Seed: i}})
		file := filepath.Join(dir, fmt.Sprintf("message%d.xml", i))
		require.NoError(t, os.WriteFile(file, b, 0o600))
		args = append(args, file)
	}
	out, _ := exec.CommandContext(t.Context(), lint, args...).CombinedOutput()
	for line := range strings.Lines(string(out)) {
		switch {
		case strings.HasSuffix(line, " validates\n"):
			valid++
		case strings.Contains(line, "error") && !strings.Contains(line, "fails to validate"):
			t.Log(strings.TrimSpace(strings.TrimPrefix(line, dir)))
		}
	}
	return len(elements), valid
}

// reachable tells whether the driver can name a type of a namespace.
func reachable(spaces map[string]string, space string) bool { _, ok := spaces[space]; return ok }

func size(dir, file string) int64 {
	info, err := os.Stat(filepath.Join(dir, file))
	if file == "" || err != nil {
		return 0
	}
	return info.Size()
}

// inlined writes the schemas that stand in a description to files of their own, and gives
// these by their namespaces. What they import can be named as well.
func inlined(t *testing.T, dir string, description []byte) map[string]string {
	d, err := xmltree.Parse(description, xmltree.Limits{})
	require.NoError(t, err)
	out := map[string]string{}
	for i := range d.Len() {
		n := d.NodeAt(i + 1)
		if n.Kind() != xmltree.StartElement || !n.Is(schema.XSD, "schema") {
			continue
		}
		space, _ := n.Attr("", "targetNamespace")
		file := fmt.Sprintf("inline%d-%d.xsd", len(description), i)
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(Alone(n)), 0o600))
		out[space] = file
		for c := range n.Children() {
			ns, _ := c.Attr("", "namespace")
			at, ok := c.Attr("", "schemaLocation")
			if c.Is(schema.XSD, "import") && ok && size(dir, at) > size(dir, out[ns]) {
				out[ns] = at
			}
		}
	}
	return out
}
