package contract

import (
	"context"
	"errors"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/schema"
	"orenda/internal/soap"
)

func fromDisk(_ context.Context, location string) ([]byte, error) { return os.ReadFile(location) }

func load(t testing.TB, path string) *Contract {
	t.Helper()
	src, err := os.ReadFile(path)
	require.NoError(t, err)
	c, err := Load(context.Background(), path, src, fromDisk)
	require.NoError(t, err)
	return c
}

const dir = "../standin/contracts/"

func TestTheBerthDesk(t *testing.T) {
	c := load(t, dir+"berths.wsdl")
	assert.Empty(t, c.Unread)
	assert.Equal(t, []string{"FindBerths", "ReserveBerth", "LogSighting"}, c.OperationNames())
	require.Len(t, c.Ports(), 3)
	assert.Equal(t, soap.V12, c.Port("BerthDesk12").Version)
	find := c.Port("BerthDesk11").Operation("FindBerths")
	assert.Equal(t, "FindBerths(length: Metres, draught?: Metres, window?: Window) → berth*: Berth", find.Signature())
	assert.Equal(t, "urn:skerry:berths:FindBerths", find.Action)
	assert.Contains(t, find.Documentation, "long and deep enough")
	reserve := c.Port("BerthDesk11").Operation("ReserveBerth")
	assert.Equal(
		t,
		"ReserveBerth(berth: BerthCode, vessel: Vessel, nights: Nights, (account: token | cash: boolean), need*: "+
			"Need, remark?: string) → reservation: token, until: date",
		reserve.Signature(),
	)
	require.Len(t, reserve.Faults, 1)
	assert.Equal(t, "BerthTaken", reserve.Faults[0].Element.Name.Local)
	assert.True(t, c.Port("BerthDesk11").Operation("LogSighting").OneWay())
	assert.Len(t, c.PortsWith("FindBerths"), 3)
	assert.Len(t, c.Files, 3, "the description, its schema, and what that includes")
}

func TestImportsAndPolicies(t *testing.T) {
	c := load(t, dir+"tides.wsdl")
	assert.Empty(t, c.Unread)
	assert.Equal(
		t,
		"YearTable(station: Station, year: Year, datum: Datum, (heights: Measure | depths: Measure), remark?: "+
			"string) → station: Station, tide*: Tide",
		c.Port("TideTables").Operation("YearTable").Signature(),
	)
	assert.Equal(t, "", c.DemandsOf(nil, nil).Token())
	p := load(t, dir+"pilots.wsdl")
	require.Len(t, p.Demands, 2)
	assert.Equal(t, "a user name token with a digest password", p.Demands[0].Text)
	assert.Equal(t, "digest", p.DemandsOf(nil, nil).Token())
	assert.True(t, p.DemandsOf(nil, nil).Timestamp())
}

const rpc = `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:http="http://schemas.xmlsoap.org/wsdl/http/" xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" xmlns:v="urn:vendor" targetNamespace="urn:t">
<import namespace="urn:gone" location="gone.wsdl"/><v:needed xmlns:w="http://schemas.xmlsoap.org/wsdl/" w:required="true"/><v:ignored/>
<message name="In"><part name="sign" type="xs:string"/><part name="exact" type="xs:boolean"/></message><message name="Out"><part name="vessel" type="t:Missing"/></message>
<portType name="P"><operation name="Look"><input message="t:In"/><output message="t:Out"/></operation></portType>
<binding name="B" type="t:P"><soap:binding style="rpc" transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Look"><soap:operation soapAction=""/><input><soap:body use="encoded" namespace="urn:look"/></input><output><soap:body use="encoded" namespace="urn:look"/></output></operation></binding>
<binding name="H" type="t:P"><http:binding verb="GET"/></binding>
<service name="S"><port name="A" binding="t:B"><soap:address location=" http://x.test/ "/></port><port name="G" binding="t:H"><http:address location="http://x.test/"/></port><port name="N" binding="t:Nope"/></service></definitions>`

func TestRPCStyleAndWhatCannotBeUsedIsNamed(t *testing.T) {
	c, err := Load(
		context.Background(),
		"/x/rpc.wsdl",
		[]byte(rpc),
		func(context.Context, string) ([]byte, error) { return nil, errors.New("it is not there") },
	)
	require.NoError(t, err)
	o := c.Port("A").Operation("Look")
	assert.Equal(t, "Look(sign: string, exact: boolean) → vessel: anyType", o.Signature())
	assert.Equal(t, "http://x.test/", c.Port("A").Address)
	assert.Equal(t, schema.QName{Space: "urn:look", Local: "Look"}, o.Input.Element.Name)
	assert.Equal(t, schema.QName{Space: "urn:look", Local: "LookResponse"}, o.Output.Element.Name)
	assert.Equal(t, [2]string{"rpc", "encoded"}, [2]string{o.Style, o.Use})
	var named []string
	for _, u := range c.Unread {
		named = append(named, u.What+": "+u.Why)
	}
	all := strings.Join(named, "\n")
	for _, want := range []string{"gone.wsdl: it is not there", "v:needed: an extension that the description says is " +
		"required", "port G: a plain HTTP binding", "{urn:t}Missing is not defined", "port N: its binding " +
		"{urn:t}Nope"} {
		assert.Contains(t, all, want)
	}
	assert.NotContains(t, all, "ignored")
}

func TestCyclicImportsEnd(t *testing.T) {
	src := `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" targetNamespace="urn:t"><import namespace="urn:t" location="%s"/></definitions>`
	n := 0
	_, err := Load(
		context.Background(),
		"http://h.test/0",
		[]byte(strings.Replace(src, "%s", "1", 1)),
		func(_ context.Context, loc string) ([]byte, error) {
			n++
			return []byte(strings.Replace(src, "%s", loc+"1", 1)), nil
		},
	)
	require.NoError(t, err)
	assert.LessOrEqual(t, n, maxFiles)
}

func TestARemoteDescriptionReadsNoLocalFile(t *testing.T) {
	_, err := Resolve("http://h.test/a?wsdl", "file:///etc/passwd")
	assert.Error(t, err)
	got, err := Resolve("http://h.test/s/a?wsdl", "x.xsd")
	require.NoError(t, err)
	assert.Equal(t, "http://h.test/s/x.xsd", got)
}

func TestWhatIsNoDescriptionIsSaid(t *testing.T) {
	for src, want := range map[string]string{
		"<!DOCTYPE html><html></html>": "HTML",
		"<note/>":                      "root element is note",
		"":                             "no element",
		`<a><b></a>`:                   "does not belong",
		`<!DOCTYPE a [<!ENTITY x "y">]><definitions>&x;</definitions>`: "root element is definitions",
		`<!DOCTYPE a [<!ENTITY x "y">`:                                 "document type declaration",
	} {
		_, err := Load(context.Background(), "x", []byte(src), nil)
		assert.ErrorContains(t, err, want)
	}
}

func TestCandidatesOfAServicePage(t *testing.T) {
	got := Candidates(
		[]byte(`<a href="desk/berths.wsdl?v=1&amp;x=2">description</a> <a href="http://other.test/x.wsdl">no</a>`),
		"http://h.test/berths",
	)
	assert.Equal(
		t,
		[]string{
			"http://h.test/desk/berths.wsdl?v=1&x=2",
			"http://h.test/berths?wsdl",
			"http://h.test/berths?WSDL",
			"http://h.test/berths?singleWsdl",
		},
		got,
	)
}

func FuzzLoad(f *testing.F) {
	f.Add([]byte(rpc))
	for _, name := range []string{"berths.wsdl", "pilots.wsdl", "tides.wsdl", "dues.wsdl", "callsigns.wsdl",
		"berths-2.wsdl"} {
		src, err := os.ReadFile(dir + name)
		require.NoError(f, err)
		f.Add(src)
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		c, err := Load(context.Background(), dir+"x.wsdl", src, fromDisk)
		if err != nil {
			return
		}
		if n := Changes(c, c); len(n) > 0 {
			t.Fatalf("a description differs from itself: %v", n)
		}
		for _, p := range c.Ports() {
			for _, o := range p.Operations {
				_ = o.Signature()
				_ = o.Input.Paths()
			}
		}
	})
}
