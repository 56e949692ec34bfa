package standin_test

import (
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/soap"
	"orenda/internal/standin"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

func start(t *testing.T, o standin.Options) *standin.Harbour {
	h, err := standin.Start(o)
	require.NoError(t, err)
	t.Cleanup(h.Close)
	return h
}

// send posts a body in an envelope and gives status and envelope.
func send(
	t *testing.T,
	client *http.Client,
	url string,
	v soap.Version,
	action, body string,
	headers ...[]byte,
) (int, *soap.Envelope, string) {
	t.Helper()
	env, _ := soap.Build(v, headers, []byte(body))
	req, err := http.NewRequest(http.MethodPost, url, bytes.NewReader(env))
	require.NoError(t, err)
	for _, f := range soap.HTTPHeaders(v, "utf-8", action, true) {
		req.Header.Set(f[0], f[1])
	}
	resp, err := client.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	d, err := xmltree.Parse(b, xmltree.Limits{})
	if err != nil {
		return resp.StatusCode, nil, string(b)
	}
	return resp.StatusCode, soap.Read(d), string(b)
}

func TestServicesAnswerAsTheirContractsSay(t *testing.T) {
	h := start(t, standin.Options{})
	plain := "http://" + h.Plain
	day := `<DayTable xmlns="urn:skerry:tides"><station>Sound</station><day>2027-03-01</day></DayTable>`
	for _, c := range []struct {
		path, action, body string
		v                  soap.Version
		status             int
		want               string
	}{
		{"/berths", "urn:skerry:berths:FindBerths",
			`<FindBerths xmlns="urn:skerry:berths"><length>60</length></FindBerths>`, soap.V11, 200, "E07"},
		{"/berths12", "urn:skerry:berths:FindBerths",
			`<FindBerths xmlns="urn:skerry:berths"><length>60</length></FindBerths>`, soap.V12, 200, "E07"},
		{"/berths", "urn:skerry:berths:LogSighting",
			`<LogSighting xmlns="urn:skerry:berths"><vessel><name>A</name><callSign>AAA</callSign></vessel><at>2027-03-01T00:00:00</at></LogSighting>`, soap.V11, 202, ""},
		{"/berths", "urn:skerry:berths:ReserveBerth",
			`<ReserveBerth xmlns="urn:skerry:berths"><berth>N02</berth><vessel><name>A</name><callSign>AAA</callSign></vessel><nights>1</nights><cash>1</cash></ReserveBerth>`, soap.V11, 500, "BerthTaken"},
		{"/berths", "urn:skerry:berths:ReserveBerth",
			`<ReserveBerth xmlns="urn:skerry:berths"><berth>Z99</berth><vessel><name>A</name><callSign>AAA</callSign></vessel><nights>1</nights><cash>1</cash></ReserveBerth>`, soap.V11, 500, "no berth Z99"},
		{"/berths", "urn:wrong", `<FindBerths xmlns="urn:skerry:berths"><length>60</length></FindBerths>`, soap.V11,
			500, "is not that of FindBerths"},
		{"/berths", "", `<Nope/>`, soap.V11, 500, "no such operation: Nope"},
		{"/berths", "urn:skerry:berths:FindBerths", `<FindBerths xmlns="urn:skerry:berths"/>`, soap.V11, 500,
			"breaks its schema"},
		{"/berths12", "urn:skerry:berths:FindBerths", `<FindBerths xmlns="urn:skerry:berths"/>`, soap.V12, 400,
			"soap:Sender"},
		{"/berths", "x", `<FindBerths xmlns="urn:skerry:berths"/>`, soap.V12, 415, "media type"},
		{"/tides", "urn:skerry:tides:DayTable", day, soap.V11, 200, "high water"},
		{"/callsigns", "", `<c:LookUp xmlns:c="urn:skerry:callsigns"><sign>skal</sign><exact>false</exact></c:LookUp>`,
			soap.V11, 200, "<vessel>Alder</vessel>"},
		{"/callsigns", "", `<c:LookUp xmlns:c="urn:skerry:callsigns"><sign>ska</sign><exact>false</exact></c:LookUp>`,
			soap.V11, 500, "at least four letters"},
		{"/callsigns", "",
			`<c:LookUp xmlns:c="urn:skerry:callsigns" xmlns:i="http://www.w3.org/2001/XMLSchema-instance" xmlns:x="http://www.w3.org/2001/XMLSchema" xmlns:e="http://schemas.xmlsoap.org/soap/envelope/" e:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"><sign i:type="x:string">SKAL4-B</sign><exact i:type="x:boolean">true</exact></c:LookUp>`, soap.V11, 200, "tender"},
		{"/pilots", "urn:skerry:pilots:OrderPilot", `<OrderPilot xmlns="urn:skerry:pilots"/>`, soap.V12, 400,
			"no security header found"},
	} {
		status, _, body := send(t, http.DefaultClient, plain+c.path, c.v, c.action, c.body)
		assert.Equal(t, c.status, status, "%s %s", c.path, c.body)
		assert.Contains(t, body, c.want, c.path)
	}
}

func TestDuesAreAssessedAndPaidToTheOre(t *testing.T) {
	h := start(t, standin.Options{})
	clerk := []byte(`<Clerk xmlns="urn:skerry:dues"><name>Ines Hallam</name></Clerk>`)
	ask := func(op, body string, headers ...[]byte) (int, string) {
		status, e, text := send(
			t,
			http.DefaultClient,
			"http://"+h.Plain+"/dues",
			soap.V11,
			"urn:skerry:dues/"+op,
			body,
			headers...)
		if e != nil && !e.Payload.IsZero() {
			text = string(e.Payload.Bytes())
		}
		return status, text
	}
	assess := `<Assess xmlns="urn:skerry:dues" xmlns:d="urn:skerry:dues" xmlns:i="http://www.w3.org/2001/XMLSchema-instance"><vessel><name>Alder</name><callSign>%s</callSign><grossTonnage>1200</grossTonnage></vessel>%s<cargo i:type="d:Bulk"><goods>salt</goods><tonnes>10.5</tonnes></cargo><cargo i:type="d:Containers"><goods>nets</goods><count>2</count><length>20 ft</length></cargo><rebate>home fleet</rebate><remark i:nil="true"/></Assess>`
	nights := `<nights>3</nights>`
	status, text := ask("Assess", fmt.Sprintf(assess, "SKAL4", nights))
	assert.Equal(t, 500, status)
	assert.Contains(t, text, "the header block Clerk is due")
	status, text = ask("Assess", fmt.Sprintf(assess, "SKZZ9", nights), clerk)
	assert.Equal(t, 500, status)
	assert.Contains(t, text, "<UnknownVessel")
	status, text = ask(
		"Assess",
		fmt.Sprintf(assess, "SKAL4", "<arrival>2027-03-01</arrival><departure>2027-03-04</departure>"),
		clerk,
	)
	assert.Equal(t, 200, status, text)
	assert.Contains(t, text, "<invoice>D-1000</invoice>")
	assert.Contains(t, text, "<total>216.13</total>") // 126.00 + 13.13 + 77.00
	pay := `<Pay xmlns="urn:skerry:dues"><invoice>D-1000</invoice><amount>%s</amount><cash>true</cash></Pay>`
	_, text = ask("Pay", fmt.Sprintf(pay, "216.12"), clerk)
	assert.Contains(t, text, "<due>216.13</due><paid>216.12</paid>")
	status, text = ask("Pay", fmt.Sprintf(pay, "216.13"), clerk)
	assert.Equal(t, 200, status, text)
	_, text = ask("Pay", fmt.Sprintf(pay, "216.13"), clerk)
	assert.Contains(t, text, "paid already")
	status, _ = ask("CloseLedger", `<CloseLedger xmlns="urn:skerry:dues"><day>2027-03-01</day></CloseLedger>`, clerk)
	assert.Equal(t, 202, status)
}

func TestTheTideTablesOverTLSAskWhoCalls(t *testing.T) {
	h := start(t, standin.Options{})
	pool := x509.NewCertPool()
	pool.AddCert(h.Cert.Cert)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: pool}}}
	defer client.CloseIdleConnections()
	url := "https://" + h.TLS + "/tides"
	day := `<DayTable xmlns="urn:skerry:tides"><station>Sound</station><day>2027-03-01</day></DayTable>`
	status, e, _ := send(t, client, url, soap.V11, "urn:skerry:tides:DayTable", day)
	assert.Equal(t, 500, status)
	assert.Equal(t, wssec.WSSE, e.Fault.Code.Space)
	header := wssec.Build(wssec.NewToken(standin.User, standin.Password, wssec.Digest, time.Now()), nil).XML
	status, _, body := send(t, client, url, soap.V11, "urn:skerry:tides:DayTable", day, header)
	assert.Equal(t, 200, status, body)
	status, _, body = send(t, client, url, soap.V11, "urn:skerry:tides:DayTable", day, header)
	assert.Equal(t, 500, status)
	assert.Contains(t, body, "replay")
}

func TestDescriptionsLeadToWhereTheServicesAre(t *testing.T) {
	h := start(t, standin.Options{})
	for path, want := range map[string]string{"/berths?wsdl": "http://" + h.Plain + "/berths12",
		"/tides?WSDL": "https://" + h.TLS + "/tides",
		"/berths.xsd": "FindBerthsResponse", "/callsigns": "/callsigns?wsdl"} {
		resp, err := http.Get("http://" + h.Plain + path)
		require.NoError(t, err)
		b, _ := io.ReadAll(resp.Body)
		resp.Body.Close()
		assert.Contains(t, string(b), want, path)
	}
	assert.Len(t, h.Table(), 11)
	dir := t.TempDir()
	require.NoError(t, standin.WriteContracts(dir))
	assert.FileExists(t, filepath.Join(dir, "harbour.xsd"))
	entries, _ := os.ReadDir(dir)
	assert.Len(t, entries, 11)
}

func TestOneMisbehaviourForAll(t *testing.T) {
	h := start(t, standin.Options{Misbehave: "receive.gateway"})
	status, _, body := send(t, http.DefaultClient, "http://"+h.Plain+"/berths", soap.V11, "x", "<a/>")
	assert.Equal(t, 502, status)
	assert.Contains(t, body, "Bad gateway")
	resp, err := http.Get("http://" + h.Plain + "/berths?wsdl")
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode, "descriptions are served all the same")
	seen := map[string]bool{}
	for _, m := range standin.Misbehaviours() {
		assert.False(t, seen[m.ID])
		seen[m.ID] = true
		assert.NotEmpty(t, m.What)
	}
	assert.Greater(t, len(seen), 40)
}
