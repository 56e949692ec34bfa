package e2e

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// largeDescription writes a description of many operations and types, spread
// over a few schemas, and gives the files, the description itself first.
func largeDescription(tb testing.TB, dir string, types, operations int) []string {
	tb.Helper()
	const schemas = 6
	files := []string{filepath.Join(dir, "large.wsdl")}
	for s := range schemas {
		var b strings.Builder
		fmt.Fprintf(
			&b,
			"<xs:schema xmlns:xs=\"http://www.w3.org/2001/XMLSchema\" xmlns:t=\"urn:skerry:large:%d\" "+
				"targetNamespace=\"urn:skerry:large:%d\" elementFormDefault=\"qualified\">\n",
			s,
			s,
		)
		for i := range types / schemas {
			fmt.Fprintf(
				&b,
				"  <xs:complexType name=\"Record%d\"><xs:annotation><xs:documentation>What is kept of the berth "+
					"numbered %d, as the desk has it since the quay was "+
					"built.</xs:documentation></xs:annotation><xs:sequence>\n    <xs:element name=\"code\" "+
					"type=\"xs:token\"/><xs:element name=\"length\" type=\"xs:decimal\" minOccurs=\"0\"/><xs:element "+
					"name=\"since\" type=\"xs:date\" minOccurs=\"0\"/>\n",
				i,
				i,
			)
			if i > 0 {
				fmt.Fprintf(
					&b,
					"    <xs:element name=\"before\" type=\"t:Record%d\" minOccurs=\"0\" maxOccurs=\"unbounded\"/>\n",
					i/2,
				)
			}
			b.WriteString("  </xs:sequence></xs:complexType>\n")
		}
		for i := range operations / schemas {
			fmt.Fprintf(
				&b,
				"  <xs:element name=\"Ask%d\" type=\"t:Record%d\"/><xs:element name=\"Answer%d\" "+
					"type=\"t:Record%d\"/>\n",
				i,
				i%(types/schemas),
				i,
				(i+1)%(types/schemas),
			)
		}
		b.WriteString("</xs:schema>\n")
		name := filepath.Join(dir, fmt.Sprintf("part-%d.xsd", s))
		require.NoError(tb, os.WriteFile(name, []byte(b.String()), 0o600))
		files = append(files, name)
	}
	var b, port, binding strings.Builder
	b.WriteString(
		"<definitions xmlns=\"http://schemas.xmlsoap.org/wsdl/\" " +
			"xmlns:soap=\"http://schemas.xmlsoap.org/wsdl/soap/\" xmlns:xs=\"http://www.w3.org/2001/XMLSchema\" " +
			"xmlns:w=\"urn:skerry:large\" targetNamespace=\"urn:skerry:large\"",
	)
	for s := range schemas {
		fmt.Fprintf(&b, " xmlns:t%d=\"urn:skerry:large:%d\"", s, s)
	}
	b.WriteString(">\n<types><xs:schema>")
	for s := range schemas {
		fmt.Fprintf(&b, "<xs:import namespace=\"urn:skerry:large:%d\" schemaLocation=\"part-%d.xsd\"/>", s, s)
	}
	b.WriteString("</xs:schema></types>\n")
	for i := range operations / schemas * schemas {
		s, n := i%schemas, i/schemas
		fmt.Fprintf(
			&b,
			"<message name=\"In%d\"><part name=\"p\" element=\"t%d:Ask%d\"/></message><message name=\"Out%d\"><part "+
				"name=\"p\" element=\"t%d:Answer%d\"/></message>\n",
			i,
			s,
			n,
			i,
			s,
			n,
		)
		fmt.Fprintf(
			&port,
			"<operation name=\"Ask%04d\"><input message=\"w:In%d\"/><output message=\"w:Out%d\"/></operation>\n",
			i,
			i,
			i,
		)
		fmt.Fprintf(
			&binding,
			"<operation name=\"Ask%04d\"><soap:operation soapAction=\"\"/><input><soap:body "+
				"use=\"literal\"/></input><output><soap:body use=\"literal\"/></output></operation>\n",
			i,
		)
	}
	b.WriteString(
		"<portType name=\"P\">" + port.String() + "</portType>\n<binding name=\"B\" type=\"w:P\"><soap:binding " +
			"transport=\"http://schemas.xmlsoap.org/soap/http\"/>" + binding.String() + "</binding>\n",
	)
	b.WriteString(
		"<service name=\"LargeService\"><port name=\"Large\" binding=\"w:B\"><soap:address " +
			"location=\"http://127.0.0.1:9/large\"/></port></service>\n</definitions>\n",
	)
	require.NoError(tb, os.WriteFile(files[0], []byte(b.String()), 0o600))
	return files
}

// BenchmarkDescribe is the whole process, on 3 000 types in seven files.
func BenchmarkDescribe(b *testing.B) {
	files := largeDescription(b, b.TempDir(), 3000, 60)
	size := int64(0)
	for _, f := range files {
		i, err := os.Stat(f)
		require.NoError(b, err)
		size += i.Size()
	}
	b.SetBytes(size)
	env := home(b)
	for b.Loop() {
		require.Zero(b, orenda(b, env, "describe", files[0]).code)
	}
}

// BenchmarkXmllintFiles is the yardstick: the same files, for well-formedness.
func BenchmarkXmllintFiles(b *testing.B) {
	lint, err := exec.LookPath("xmllint")
	if err != nil {
		b.Skip("xmllint is not installed")
	}
	files := largeDescription(b, b.TempDir(), 3000, 60)
	for b.Loop() {
		require.NoError(b, exec.Command(lint, append([]string{"--noout"}, files...)...).Run())
	}
}

// BenchmarkDraftKey is from a key to the redrawn frame in a message of 5 000
// fields.
func BenchmarkDraftKey(b *testing.B) {
	dir := b.TempDir()
	require.Zero(b, orenda(b, nil, "demo", "--headless", "--dir", dir).code)
	name := func(i int) string { // no cell of the first frame is as in the last one, so that all is written
		return strings.Repeat(string(rune('A'+min(i/2000, 1)*25)), 12)
	}
	var need strings.Builder
	for i := range 2500 {
		fmt.Fprintf(&need, "<vessel><name>%s</name><callSign>SKAL4</callSign></vessel>", name(i))
	}
	wsdl := filepath.Join(dir, "fleet.wsdl")
	require.NoError(
		b,
		os.WriteFile(
			wsdl,
			[]byte(
				`<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:f="urn:skerry:fleet" targetNamespace="urn:skerry:fleet"><types><xs:schema targetNamespace="urn:skerry:fleet" elementFormDefault="qualified"><xs:element name="Enter"><xs:complexType><xs:sequence><xs:element name="vessel" maxOccurs="unbounded"><xs:complexType><xs:sequence><xs:element name="name" type="xs:string"/><xs:element name="callSign" type="xs:string"/></xs:sequence></xs:complexType></xs:element></xs:sequence></xs:complexType></xs:element></xs:schema></types><message name="In"><part name="p" element="f:Enter"/></message><portType name="Fleet"><operation name="Enter"><input message="f:In"/></operation></portType><binding name="B" type="f:Fleet"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Enter"><soap:operation soapAction=""/><input><soap:body use="literal"/></input></operation></binding><service name="FleetService"><port name="Fleet" binding="f:B"><soap:address location="http://127.0.0.1:9/"/></port></service></definitions>`,
			),
			0o600,
		),
	)
	r := orenda(b, []string{"ORENDA_HOME=" + dir}, "add", wsdl, "-w", filepath.Join(dir, "fleet"))
	require.Zero(b, r.code, r.err)
	require.NoError(
		b,
		os.WriteFile(
			filepath.Join(dir, "fleet", "drafts", "fleet", "Fleet", "Enter", "first.xml"),
			[]byte(`<Enter xmlns="urn:skerry:fleet">`+need.String()+`</Enter>`),
			0o600,
		),
	)
	t := start(b, []string{"ORENDA_HOME=" + dir}, "-w", filepath.Join(dir, "fleet"))
	defer t.close()
	t.wait(b, "add a description")
	_, _ = t.tty.WriteString("d")
	t.wait(b, name(3))
	for i := 0; b.Loop(); i++ {
		key, want := "\x1b[F", name(2499) // End
		if i%2 == 1 {
			key, want = "\x1b[H", name(3) // Home
		}
		_, _ = t.tty.WriteString(key)
		t.wait(b, want)
	}
}

// BenchmarkOpenOperation is from a key on the list of 1 000 operations to the
// first frame of the draft.
func BenchmarkOpenOperation(b *testing.B) {
	dir := b.TempDir()
	files := largeDescription(b, dir, 3000, 1000)
	r := orenda(b, []string{"ORENDA_HOME=" + dir}, "add", files[0], "-w", filepath.Join(dir, "ws"))
	require.Zero(b, r.code, r.err)
	t := start(b, []string{"ORENDA_HOME=" + dir}, "-w", filepath.Join(dir, "ws"))
	defer t.close()
	t.wait(b, "add a description")
	for i := 0; b.Loop(); i++ {
		b.StopTimer()
		_, _ = t.tty.WriteString("c")
		t.wait(b, "source text")
		_, _ = t.tty.WriteString("j")
		b.StartTimer()
		_, _ = t.tty.WriteString("\r")
		t.wait(b, "put in, leave out")
	}
}

// A large reply that is taken in whole, in one line and with a fault in every row,
// takes little more than three times its size, however it is sent, and no time for its
// faults.
func TestALargeReplyTakenWholeTakesThreeTimesItsSize(t *testing.T) {
	if raced() {
		t.Skip("memory is measured without the race detector")
	}
	row := `<berth free="true"><name>N04</name><length>12</length></berth>`
	body := `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><FindBerthsResponse xmlns="urn:skerry:berths">` +
		strings.Repeat(
			row,
			100*mebi/len(row),
		) + `</FindBerthsResponse></s:Body></s:Envelope>`
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/xml")
		if r.URL.Path == "/declared" {
			w.Header().Set("Content-Length", strconv.Itoa(len(body)))
		}
		if r.URL.Path == "/small" {
			_, _ = io.WriteString(w, strings.Replace(body, strings.Repeat(row, 100*mebi/len(row)), row, 1))
			return
		}
		_, _ = io.WriteString(w, body)
	}))
	t.Cleanup(server.Close)
	args := func(path string) []string {
		return callArgs(harbour(t).Plain, "--address", server.URL+path, "--reply", "none",
			"--receive-limit", "1GiB", "--buffer-limit", "1GiB", "--repeat-limit", "9000000")
	}
	for _, path := range []string{"/declared", "/chunked"} {
		got, peak := measured(t, home(t), args(path)...)
		require.Equal(t, 0, got.code, got.err)
		assert.Contains(t, got.err, "There are at least 100 such places.")
		_, program := measured(t, home(t), args("/small")...)
		const between = 16 * mebi // what is on its way between memory and disk
		times := float64(peak-program-between) / float64(len(body))
		t.Logf("%d MB are the program", program/mebi)
		t.Logf("%s: %d MB resident at most, %.2f times the reply and the program", path, peak/mebi, times)
		assert.Less(t, times, 3.1, path)
	}
}
