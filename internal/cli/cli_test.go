package cli

import (
	"bytes"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/standin"
	"orenda/internal/trust"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

// line is a command line with a person's folder and a harbour of its own.
type line struct {
	t   *testing.T
	dir string
	h   *standin.Harbour
}

func at(t *testing.T) *line {
	t.Helper()
	h, err := standin.Start(standin.Options{})
	require.NoError(t, err)
	t.Cleanup(h.Close)
	dir := t.TempDir()
	t.Setenv("ORENDA_HOME", filepath.Join(dir, "home"))
	return &line{t, dir, h}
}

func (l *line) run(args ...string) (code int, out, errOut string) {
	l.t.Helper()
	var o, e bytes.Buffer
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	code = Run(ctx, args, &o, &e)
	return code, o.String(), e.String()
}

// json runs a command with --json and reads what it prints.
func (l *line) json(code int, v any, args ...string) {
	l.t.Helper()
	got, out, errOut := l.run(append(args, "--json")...)
	require.Equal(l.t, code, got, "%v\n%s%s", args, out, errOut)
	require.NoError(l.t, json.Unmarshal([]byte(out), v), out)
}

func (l *line) file(name, content string) string {
	p := filepath.Join(l.dir, name)
	require.NoError(l.t, os.WriteFile(p, []byte(content), 0o600))
	return p
}

func (l *line) callsigns() string { return "http://" + l.h.Plain + "/callsigns?wsdl" }

func (l *line) berths() string { return "http://" + l.h.Plain + "/berths?wsdl" }

func TestDescribeHasItsDocumentedShape(t *testing.T) {
	l := at(t)
	var d map[string]any
	l.json(0, &d, "describe", l.berths())
	assert.Equal(t, "urn:skerry:berths", d["targetNamespace"])
	assert.Equal(
		t,
		map[string]any{
			"services":   1.0,
			"ports":      3.0,
			"portTypes":  1.0,
			"operations": 3.0,
			"elements":   6.0,
			"types":      8.0,
		},
		d["counts"],
	)
	assert.Equal(t, []any{}, d["unread"])
	ports := d["services"].([]any)[0].(map[string]any)["ports"].([]any)
	p := ports[1].(map[string]any)
	assert.Equal(t, "1.2", p["soapVersion"])
	assert.Equal(t, "http://schemas.xmlsoap.org/soap/http", p["transport"])
	op := p["operations"].([]any)[1].(map[string]any)
	assert.Equal(t, "ReserveBerth", op["name"])
	assert.Equal(t, "document literal false", fmt.Sprint(op["style"], " ", op["use"], " ", op["oneWay"]))
	assert.Equal(t, []any{"BerthTaken(berth: BerthCode, until: date)"}, op["faults"])
	assert.Equal(t, "reservation: token, until: date", op["output"])
	l.json(0, &d, "describe", "http://"+l.h.Plain+"/pilots?wsdl")
	demand := d["demands"].([]any)[0].(map[string]any)
	assert.Equal(t, "a user name token with a digest password", demand["text"])
	assert.Contains(t, demand["assertion"], "}UsernameToken")
	assert.Equal(t, "binding PilotOrders", demand["at"])
	_, out, _ := l.run("describe", l.berths())
	for _, want := range []string{"service BerthDeskService", "port BerthDesk12  (SOAP 1.2, document)",
		"the same operations as BerthDesk11", "action urn:skerry:berths:FindBerths", "fault BerthTaken"} {
		assert.Contains(t, out, want)
	}
}

func TestSamplesAreWellFormedAndOfTheRightVersion(t *testing.T) {
	l := at(t)
	code, out, _ := l.run("sample", l.berths(), "ReserveBerth", "--port", "BerthDesk12", "--all", "--comments")
	require.Zero(t, code)
	assert.Contains(t, out, "http://www.w3.org/2003/05/soap-envelope")
	assert.Contains(t, out, "<nights><?fill Nights?></nights> <!-- integer ‹1–60› -->")
	assert.Contains(t, out, "<!-- or: cash -->")
	_, reply, _ := l.run("sample", l.berths(), "ReserveBerth", "--reply")
	assert.Contains(t, reply, "<ReserveBerthResponse")
	if lint, err := exec.LookPath("xmllint"); err == nil {
		for _, s := range []string{out, reply} {
			require.NoError(t, exec.Command(lint, "--noout", l.file("s.xml", s)).Run(), s)
		}
	}
	code, _, errOut := l.run("sample", l.berths(), "reserveBerth")
	assert.Equal(t, 12, code)
	assert.Contains(t, errOut, "ReserveBerth is")
	code, _, errOut = l.run("sample", l.berths(), "LogSighting", "--reply")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "one-way")
	code, _, errOut = l.run("sample", l.berths(), "FindBerths", "--port", "Nope")
	assert.Equal(t, 12, code)
	assert.Contains(t, errOut, "there are BerthDesk11, BerthDesk12, BerthDeskTLS")
}

func TestValidateTellsWhereAndWhichRule(t *testing.T) {
	l := at(t)
	good := l.file("good.xml", `<FindBerths xmlns="urn:skerry:berths"><length>12.5</length></FindBerths>`)
	bad := l.file(
		"bad.xml",
		"<s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\"><s:Body>\n <FindBerths "+
			"xmlns=\"urn:skerry:berths\"><length>0</length><beam>2</beam></FindBerths></s:Body></s:Envelope>",
	)
	broken := l.file("broken.xml", "<a>\n<b></a>")
	code, out, _ := l.run("validate", l.berths(), good, bad, broken)
	assert.Equal(t, 1, code)
	assert.Equal(t, good+": valid\n"+
		bad+":2:48: cvc-minExclusive-valid: length: \"0\" must be more than 0\n"+
		bad+":2:58: cvc-complex-type.2.4: the element beam cannot stand here; expected: draught, window\n"+
		broken+":2:4: well-formed: the end tag a does not belong to the open element b (line 2)\n", out)
	var v []map[string]any
	l.json(1, &v, "validate", l.berths(), good, bad)
	assert.Equal(t, true, v[0]["valid"])
	e := v[1]["errors"].([]any)[1].(map[string]any)
	assert.Equal(t, "Envelope/Body/FindBerths/beam", e["path"])
	assert.Equal(t, []any{"draught", "window"}, e["expected"])
	assert.Equal(t, 2.0, e["line"])
	xsd := l.file(
		"x.xsd",
		`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:element name="n" type="xs:int"/></xs:schema>`,
	)
	code, out, _ = l.run("validate", xsd, l.file("n.xml", "<n>7</n>"), l.file("m.xml", "<m/>"))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, "n.xml: valid")
	assert.Contains(t, out, "m.xml:1:1: cvc-elt.1: the element m is not declared; n is")
	code, _, _ = l.run("validate", xsd, filepath.Join(l.dir, "none.xml"))
	assert.Equal(t, 3, code)
}

// A fault is valid whatever its detail holds, unless that is declared and breaks its schema.
func TestAFaultIsValidated(t *testing.T) {
	l := at(t)
	fault := func(detail string) string {
		return l.file("fault.xml", `<s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/"><s:Body><s:Fault>`+
			`<faultcode>s:Server</faultcode><faultstring>full</faultstring>`+detail+`</s:Fault></s:Body></s:Envelope>`)
	}
	for detail, code := range map[string]int{
		"":                                      0,
		"<detail><odd xmlns='urn:x'/></detail>": 0,
		"<detail><FindBerths xmlns='urn:skerry:berths'><length>9</length></FindBerths></detail>":  0,
		"<detail><FindBerths xmlns='urn:skerry:berths'><length>no</length></FindBerths></detail>": 1,
	} {
		got, out, err := l.run("validate", l.berths(), fault(detail))
		assert.Equal(t, code, got, detail+out+err)
	}
}

func TestCallJSONHasItsDocumentedShape(t *testing.T) {
	l := at(t)
	var x map[string]any
	l.json(0, &x, "call", "FindBerths", "length=20", "--contract", l.berths(), "--port", "BerthDesk12")
	assert.Equal(t, "passed", x["outcome"])
	stages := x["stages"].([]any)
	require.Len(t, stages, 11)
	for i, name := range []string{"address", "binding", "message", "security", "connect", "tls", "send", "wait",
		"receive", "read", "verify"} {
		assert.Equal(t, name, stages[i].(map[string]any)["stage"])
	}
	assert.Equal(t, "skipped", stages[5].(map[string]any)["state"])
	request, response := x["request"].(map[string]any), x["response"].(map[string]any)
	assert.Equal(t, "POST", request["method"])
	assert.Contains(
		t,
		request["head"],
		`Content-Type: application/soap+xml; charset=utf-8; action="urn:skerry:berths:FindBerths"`,
	)
	assert.Contains(t, request["body"], "<length>20</length>")
	assert.Equal(t, 200.0, response["status"])
	assert.Contains(t, response["body"], "FindBerthsResponse")
	assert.Equal(t, []any{}, x["findings"])

	l.json(13, &x, "call", "FindBerths", "length=x", "--contract", l.berths(), "--port", "BerthDesk11")
	assert.Equal(t, "stop", x["findings"].([]any)[0].(map[string]any)["severity"])
	var would []map[string]any
	l.json(1, &would, "check", "FindBerths", "--contract", l.berths(), "--port", "BerthDesk11")
	require.Len(t, would, 1)
	assert.Equal(t, "message.placeholder-left", would[0]["id"])
	assert.Equal(t, "stop", would[0]["severity"])
	l.json(0, &would, "check", "FindBerths", "length=20", "--contract", l.berths(), "--port", "BerthDesk11")
	l.json(20, &x, "call", "FindBerths", "length=x", "--contract", l.berths(), "--port", "BerthDesk11", "--as-it-is")
	assert.Equal(t, "read", x["stoppedAt"])
	findings := x["findings"].([]any)
	first, second := findings[0].(map[string]any), findings[1].(map[string]any)
	assert.Equal(t, "message.invalid", first["id"])
	assert.Equal(t, "warn", first["severity"])
	assert.Equal(t, "message.invalid", second["because"])
	ev := first["evidence"].([]any)[0].(map[string]any)
	assert.Equal(t, "draft", ev["in"])
	for _, key := range []string{"offset", "length", "line", "column", "excerpt"} {
		assert.Contains(t, ev, key)
	}
}

func TestRepliesInEveryForm(t *testing.T) {
	l := at(t)
	call := []string{"call", "FindBerths", "length=60", "--contract", l.berths(), "--port", "BerthDesk11", "--reply"}
	for how, want := range map[string]string{
		"fields": "FindBerthsResponse\n  berth @free=true\n    code  E03\n",
		"rows":   "@free,code,length,depth,quay\ntrue,E03,65,7,East mole\ntrue,E07,120,9.5,East mole\n",
		"json":   `"code": "E03"`,
		"exact":  "<FindBerthsResponse xmlns=",
		"none":   "",
	} {
		code, out, _ := l.run(append(call, how)...)
		assert.Zero(t, code)
		assert.Contains(t, out, want, how)
	}
	code, _, errOut := l.run(append(call, "xml")...)
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "--reply is fields")

	code, out, _ := l.run(append(call, "json", "--select", "berth/code")...)
	assert.Zero(t, code)
	assert.JSONEq(t, `{"berth": [{"code": "E03"}, {"code": "E07"}]}`, out)
	_, out, _ = l.run(append(call, "rows", "--table", "lines")...)
	assert.Contains(t, out, `{"@free": "true", "code": "E03", "length": 65, "depth": 7, "quay": "East mole"}`)
	code, _, errOut = l.run(append(call, "rows", "--rows", "code")...)
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "what does: berth")
	var tables []map[string]any
	l.json(0, &tables, "reply", "tables", "last")
	require.Len(t, tables, 1)
	assert.Equal(t, "berth", tables[0]["path"])
	assert.InDelta(t, 2, tables[0]["rows"], 0)
}

// What is expected is held against the answer, a refusal too.
func TestWhatIsExpectedOfAnAnswer(t *testing.T) {
	l := at(t)
	find := []string{
		"call",
		"FindBerths",
		"length=12",
		"--contract",
		l.berths(),
		"--port",
		"BerthDesk11",
		"--reply",
		"none",
	}
	look := []string{
		"call",
		"LookUp",
		"sign=XXXX",
		"exact=true",
		"--contract",
		l.callsigns(),
		"--port",
		"CallSigns",
		"--reply",
		"none",
	}
	for _, c := range []struct {
		args []string
		want string
		code int
	}{
		{find, "count(berth)>=1", 0},
		{find, "valid", 0},
		{find, "count(berth)=99", 21},
		{find, "fault", 21},
		{look, "fault", 0},
		{look, "fault*=no vessel", 0},
		{look, "finding=read.fault-client", 0},
		{look, "fault=Server", 20},
		{look, "finding=tls.expired", 20},
		{find, "nonsense", 12},
	} {
		code, _, errOut := l.run(append(slices.Clone(c.args), "--expect", c.want)...)
		assert.Equal(t, c.code, code, "%s\n%s", c.want, errOut)
	}
	var x explained
	l.json(0, &x, append(slices.Clone(look), "--expect", "fault")...)
	for _, f := range x.Findings {
		assert.Equal(t, "note", f.Severity, "what was expected is no failure")
	}
}

func TestCallTakesBodiesAndEnvelopesAsTheyAre(t *testing.T) {
	l := at(t)
	body := l.file("b.xml", `<b:FindBerths xmlns:b="urn:skerry:berths"><b:length>60</b:length></b:FindBerths>`)
	env := l.file(
		"e.xml",
		`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><b:FindBerths xmlns:b="urn:skerry:berths"><b:length>60</b:length></b:FindBerths></e:Body></e:Envelope>`,
	)
	for _, f := range []string{body, env} {
		code, out, errOut := l.run("call", "FindBerths", "--body", f, "--contract", l.berths(), "--port", "BerthDesk11")
		assert.Zero(t, code, errOut)
		assert.Contains(t, out, "E03")
	}
	code, out, errOut := l.run(
		"call",
		"FindBerths",
		"length=110",
		"--body",
		body,
		"--contract",
		l.berths(),
		"--port",
		"BerthDesk11",
		"--header",
		"X-Berth-Clerk: yes",
		"--header",
		"User-Agent: clerk/1",
	)
	assert.Zero(t, code, errOut)
	assert.Contains(t, out, "E07")
	_, shown, _ := l.run("journal", "show", "last", "--bytes")
	assert.Contains(t, shown, "X-Berth-Clerk: yes")
	assert.Contains(t, shown, "User-Agent: clerk/1")
	assert.NotContains(t, shown, "User-Agent: Orenda")
}

func TestExpectations(t *testing.T) {
	l := at(t)
	call := []string{"call", "FindBerths", "length=60", "--contract", l.berths(), "--port", "BerthDesk11", "--expect"}
	code, _, _ := l.run(append(call, "berth[2]/code=E07")...)
	assert.Zero(t, code)
	code, _, errOut := l.run(append(call, "berth[2]/code=E08")...)
	assert.Equal(t, 21, code)
	assert.Contains(t, errOut, `expected "E08", received "E07"`)
}

// ws makes a workspace in a folder from a description.
func (l *line) ws(settings string) string {
	dir := filepath.Join(l.dir, "ws")
	code, _, errOut := l.run(
		"call",
		"FindBerths",
		"--contract",
		l.berths(),
		"--until",
		"address",
		"--port",
		"BerthDesk11",
	)
	require.Zero(l.t, code, errOut)
	require.NoError(l.t, os.MkdirAll(dir, 0o700))
	demo := filepath.Join(l.dir, "demo")
	code, _, errOut = l.run("demo", "--headless", "--dir", demo)
	require.Zero(l.t, code, errOut)
	require.NoError(l.t, os.RemoveAll(dir))
	require.NoError(l.t, os.Rename(filepath.Join(demo, "workspace"), dir))
	path := filepath.Join(dir, "orenda.toml")
	b, err := os.ReadFile(path)
	require.NoError(l.t, err)
	require.NoError(l.t, os.WriteFile(path, append(b, settings...), 0o600))
	return dir
}

func TestCheckTellsWhatWouldStopACall(t *testing.T) {
	l := at(t)
	ws := l.ws(
		"\n[endpoint.spare]\ncontract = \"berth-desk\"\nport = \"BerthDesk11\"\naddress = \"http://${nowhere}/\"\n",
	)
	var findings []map[string]any
	l.json(1, &findings, "-w", ws, "check")
	var ids []string
	for _, f := range findings {
		ids = append(ids, fmt.Sprint(f["id"]))
	}
	assert.Contains(t, ids, "address.variable-unset")
	assert.Contains(t, ids, "security.token-demanded")
	l.json(0, &findings, "-w", ws, "check", "FindBerths/small craft", "--endpoint", "berths-11")
	assert.Empty(t, findings)
	code, out, _ := l.run("-w", ws, "check", "FindBerths", "--endpoint", "berths-12")
	assert.Zero(t, code)
	assert.Contains(t, out, "nothing is wrong with 1 calls")
	code, _, errOut := l.run("-w", ws, "check", "FindBerths", "--env", "Model", "--endpoint", "berths-11")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "there is no environment Model")
	code, _, errOut = l.run("-w", ws, "check", "FindBerths")
	assert.Equal(t, 1, code)
	assert.Contains(t, errOut, "4 endpoints serve FindBerths")
	l.json(0, &findings, "-w", ws, "journal", "list")
	assert.Empty(t, findings, "a check is no call")
}

func TestUnknownKeysAreWarnedOfAndKept(t *testing.T) {
	l := at(t)
	ws := l.ws("\n[endpoint.spare]\ncontract = \"berth-desk\"\nport = \"BerthDesk11\"\nanswer-tiem = \"3s\"\n")
	_, _, errOut := l.run("-w", ws, "check", "FindBerths", "--endpoint", "spare")
	assert.Contains(t, errOut, "the setting answer-tiem is not known; answer-time is meant, perhaps")
}

func TestRepairCountsRemediesAndWritesThem(t *testing.T) {
	l := at(t)
	ws := l.ws("")
	code, _, _ := l.run("-w", ws, "call", "FindBerths")
	require.Equal(t, 12, code)
	code, out, _ := l.run("repair", "last", "--remedy", "2")
	require.Zero(t, code)
	assert.Contains(t, out, "let berths-12 be the default")
	b, _ := os.ReadFile(filepath.Join(ws, "orenda.toml"))
	assert.Regexp(t, `(?s)\[endpoint.berths-12\][^\[]*default = true`, string(b))
	code, _, errOut := l.run("repair", "last", "--remedy", "9")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "there are 3 remedies")
	code, _, _ = l.run("repair", "nope")
	assert.Equal(t, 3, code)
}

func TestTrustShowFetchAdd(t *testing.T) {
	l := at(t)
	ws := l.ws("")
	secure := "https://" + l.h.TLS + "/"
	var shown struct {
		Chain   []map[string]any
		Verdict []map[string]any
	}
	l.json(16, &shown, "trust", "show", secure)
	require.Len(t, shown.Chain, 1)
	assert.Equal(t, trust.Fingerprint(l.h.Cert.Cert), shown.Chain[0]["sha256"])
	assert.Equal(t, "tls.self-signed", shown.Verdict[0]["id"])
	pem := filepath.Join(l.dir, "c.pem")
	code, _, _ := l.run("trust", "fetch", secure, "--out", pem)
	require.Zero(t, code)
	l.json(0, &shown, "trust", "show", pem)
	l.json(0, &shown, "trust", "show", secure, "--trust", pem)
	assert.Empty(t, shown.Verdict)
	if _, err := exec.LookPath("openssl"); err == nil {
		out, err := exec.Command("openssl", "x509", "-in", pem, "-noout", "-subject").Output()
		require.NoError(t, err)
		assert.Contains(t, string(out), "tides.skerry.test")
	}
	code, _, errOut := l.run("-w", ws, "trust", "add", "tides-tls", pem)
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "give --fingerprint")
	code, _, _ = l.run("-w", ws, "trust", "add", "tides-tls", pem, "--fingerprint", "AA:BB")
	assert.Equal(t, 1, code)
	code, out, _ := l.run(
		"-w",
		ws,
		"trust",
		"add",
		"tides-tls",
		pem,
		"--fingerprint",
		trust.Grouped(trust.Fingerprint(l.h.Cert.Cert)),
	)
	assert.Zero(t, code)
	assert.Contains(t, out, "tides-tls trusts CN=tides.skerry.test")
	code, _, errOut = l.run("trust", "show", "http://"+l.h.Plain+"/")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "sends no certificate")
	code, _, _ = l.run("trust", "show", l.file("junk.pem", "junk"))
	assert.Equal(t, 3, code)
}

func TestJournalExportAndDrawings(t *testing.T) {
	l := at(t)
	code, _, _ := l.run("call", "FindBerths", "length=20", "--contract", l.berths(), "--port", "BerthDesk11")
	require.Zero(t, code)
	f := filepath.Join(l.dir, "x.json")
	code, _, _ = l.run("journal", "export", "last", "--out", f)
	require.Zero(t, code)
	info, err := os.Stat(f)
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077, "what is exported is private")
	var x map[string]any
	b, _ := os.ReadFile(f)
	require.NoError(t, json.Unmarshal(b, &x))
	id := fmt.Sprint(x["id"])
	for _, name := range []string{"p.svg", "p.pdf"} {
		code, _, _ = l.run("draw", "path", id, "--out", filepath.Join(l.dir, name))
		assert.Zero(t, code)
	}
	code, _, errOut := l.run("draw", "path", id, "--out", "p.gif")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, ".svg or .pdf")
	code, out, _ := l.run("journal", "list")
	assert.Zero(t, code)
	assert.Contains(t, out, "■■■■ ■■■ ■■ ■■")
	assert.Equal(t, 1, strings.Count(out, "\n"))
}

func TestXMLCheckAndCanon(t *testing.T) {
	l := at(t)
	good, bad := l.file("g.xml", "<a  b='1'><!--c--></a>"), l.file("b.xml", "<a>\n  <b>\n</a>")
	code, out, _ := l.run("xml", "check", good, bad)
	assert.Equal(t, 1, code)
	assert.Equal(
		t,
		good+": well-formed\n"+bad+":3:1: the end tag a does not belong to the open element b (line 2)\n",
		out,
	)
	_, out, _ = l.run("xml", "canon", good)
	assert.Equal(t, `<a b="1"></a>`, out)
	_, out, _ = l.run("xml", "canon", "--with-comments", good)
	assert.Equal(t, `<a b="1"><!--c--></a>`, out)
	code, _, _ = l.run("xml", "canon", bad)
	assert.Equal(t, 1, code)
	code, _, _ = l.run("xml", "check", "/no/such")
	assert.Equal(t, 3, code)

	rows := strings.Repeat("<row><level>1</level></row>\n", 400_000) // long enough to be read by two
	code, out, _ = l.run("xml", "check", l.file("long.xml", "<a>\n"+rows+"</a>"))
	assert.Zero(t, code, out)
	code, out, _ = l.run("xml", "check", l.file("torn.xml", "<a>\n"+rows+"<row></a>"))
	assert.Equal(t, 1, code)
	assert.Contains(t, out, ":400002:6: the end tag a does not belong to the open element row (line 400002)")
}

func TestStandinListsAndStops(t *testing.T) {
	l := at(t)
	code, out, _ := l.run("standin", "--list")
	assert.Zero(t, code)
	assert.Contains(t, out, "read.doctype-refused")
	ctx, cancel := context.WithCancel(context.Background())
	var o, e slowBuffer
	done := make(chan int, 1)
	go func() { done <- Run(ctx, []string{"standin"}, &o, &e) }()
	require.Eventually(t, func() bool { return strings.Contains(o.String(), "Tide tables") }, 20*time.Second,
		10*time.Millisecond)
	cancel()
	assert.Zero(t, <-done)
	assert.Contains(t, o.String(), "Tide tables")
	code, _, errOut := l.run("standin", "--listen", "0.0.0.0:0")
	assert.Equal(t, 3, code)
	assert.Contains(t, errOut, "loopback only")
}

func TestHelpAndCompletion(t *testing.T) {
	l := at(t)
	code, out, _ := l.run("call", "--help")
	assert.Zero(t, code)
	for _, want := range []string{"--receive-limit", "--until", "--secret-from", "11 address … 21 verify"} {
		assert.Contains(t, out, want)
	}
	code, out, _ = l.run("completion", "bash")
	assert.Zero(t, code)
	assert.Contains(t, out, "orenda")
	_, out, _ = l.run("--version")
	assert.Contains(t, out, "orenda")
}

// A distinctive secret is looked for in all that is printed and written.
func TestSecretsAreNowhere(t *testing.T) {
	l := at(t)
	const word = "Zw1ebelfisch-quay"
	t.Setenv("WORD", word)
	for _, token := range []string{"text", "digest"} {
		for _, path := range []string{"/tides", "/tides/~read.fault-security-refused", "/tides/~terminal"} {
			for _, more := range [][]string{nil, {"--json"}} {
				_, out, errOut := l.run(
					append(
						[]string{
							"call",
							"DayTable",
							"station=x",
							"day=2027-03-01",
							"--contract",
							"http://" + l.h.Plain + "/tides?wsdl",
							"--port",
							"TideTables",
							"--address",
							"http://" + l.h.Plain + path,
							"--user",
							"clerk",
							"--secret-from",
							"env:WORD",
							"--token",
							token,
							"--timestamp",
							"5m",
						},
						more...)...)
				assert.NotContains(t, out+errOut, word)
			}
		}
	}
	// Nor is one that travels in a header field, the peer's or the proxy's, or that
	// a server says again.
	echo := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("X-You-Said", r.Header.Get("Authorization")+" "+r.Header.Get("Cookie"))
		w.Header().Set("Content-Type", "text/plain")
		w.WriteHeader(http.StatusForbidden)
		fmt.Fprint(w, r.Header.Get("Authorization"), " ", r.Header.Get("Cookie"))
	}))
	defer echo.Close()
	basic := base64.StdEncoding.EncodeToString([]byte("clerk:" + word))
	for _, how := range [][]string{
		{"--http-auth", "basic", "--user", "clerk", "--secret-from", "env:WORD"}, {"--http-auth", "bearer", "--user",
			"clerk", "--secret-from", "env:WORD"},
		{"--header", "Authorization: Bearer " + word}, {"--header", "Cookie: quay=7; berth=" + word}, {"--proxy",
			"http://clerk:" + word + "@127.0.0.1:1"},
	} {
		for _, more := range [][]string{nil, {"--json"}, {"--until", "security", "--json"}} {
			code, out, errOut := l.run(
				append(
					append(
						[]string{
							"call",
							"DayTable",
							"station=x",
							"day=2027-03-01",
							"--contract",
							"http://" + l.h.Plain + "/tides?wsdl",
							"--port",
							"TideTables",
							"--address",
							echo.URL + "/tides",
						},
						how...),
					more...)...)
			assert.NotContains(t, out+errOut, word, "%v", how)
			assert.NotContains(t, out+errOut, basic, "%v", how)
			assert.NotEqual(t, 2, code, errOut)
		}
		code, out, errOut := l.run("journal", "show", "last", "--json")
		require.Zero(t, code, errOut)
		assert.NotContains(t, out, word, "%v", how)
	}
	_, out, _ := l.run(
		"call",
		"DayTable",
		"station=x",
		"day=2027-03-01",
		"--contract",
		"http://"+l.h.Plain+"/tides?wsdl",
		"--port",
		"TideTables",
		"--user",
		"clerk",
		"--secret-from",
		"env:WORD",
		"--json",
		"--reveal",
	)
	assert.Contains(t, out, word, "unless it is asked for")
	require.NoError(t, filepath.Walk(l.dir, func(p string, info os.FileInfo, err error) error {
		require.NoError(t, err)
		if info.Mode().IsRegular() {
			b, _ := os.ReadFile(p)
			assert.NotContains(t, string(b), word, p)
			assert.NotContains(t, string(b), basic, p)
		}
		return nil
	}))
}

func TestExplainTellsOneFindingOrAll(t *testing.T) {
	l := at(t)
	var one map[string]any
	l.json(0, &one, "explain", "tls.name-differs", "--json")
	assert.Equal(t, []any{"tls", "stop"}, []any{one["stage"], one["severity"]})
	var all []any
	l.json(0, &all, "explain", "--list", "--json")
	assert.Contains(t, all, any(one))
	_, out, _ := l.run("explain", "tls.name-differs")
	assert.Regexp(t, `(?s)^tls.name-differs  .*recognised by .*what helps .*side `, out)
	code, _, errOut := l.run("explain", "tls.name-difers")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "perhaps tls.name-differs is meant")
}

// A warning that the answer follows from is the cause, and not something that may be ignored.
func TestAWarningThatLeadsIsTheCause(t *testing.T) {
	l := at(t)
	sent, came := filepath.Join(t.TempDir(), "sent.http"), filepath.Join(t.TempDir(), "came.http")
	require.NoError(t, os.WriteFile(sent, []byte("POST /berths HTTP/1.1\r\nHost: quay.example\r\nContent-Type: application/json\r\n\r\n"+
		`{"length": 40, "password": "slack-water-word"}`), 0o600))
	require.NoError(t, os.WriteFile(came, []byte("HTTP/1.1 415 Unsupported Media Type\r\nContent-Type: text/plain\r\n\r\nno"), 0o600))
	_, _, told := l.run("explain", "--request", sent, "--response", came)
	assert.Contains(t, told, "why  the request is no XML (message.not-xml, the cause, yours to fix)")
	assert.Contains(t, told, "It answered 415 to application/json; SOAP 1.1 is sent as text/xml.")
	assert.NotContains(t, told, "may be ignored")
	assert.NotContains(t, told, "slack-water-word")
	_, _, told = l.run("explain", "--request", sent)
	assert.Contains(t, told, "message.not-xml, may be ignored", "what became of it is not known")
}

// Several drafts are sent with a pattern; a failure stops none of the others, and what is
// not filled in is not sent.
func TestSeveralDraftsAtOnce(t *testing.T) {
	l := at(t)
	ws := filepath.Join(t.TempDir(), "w")
	code, _, errOut := l.run("-w", ws, "add", l.berths())
	require.Zero(t, code, errOut)
	w, err := workspace.Open(ws, person(t))
	require.NoError(t, err)
	ref, err := w.FindDraft("FindBerths")
	require.NoError(t, err)
	for name, length := range map[string]string{"small": "12", "odd": "many"} {
		ref.Name = name
		require.NoError(
			t,
			w.WriteDraft(ref, []byte(`<FindBerths xmlns="urn:skerry:berths"><length>`+length+`</length></FindBerths>`)),
		)
	}
	ref.Name = "refused"
	require.NoError(
		t,
		w.WriteDraft(ref, []byte(`<FindBerths xmlns="urn:skerry:berths"><length>12</length></FindBerths>`)),
	)
	require.Zero(t, first(l.run("-w", ws, "draft", "expect", "FindBerths/refused", "count(berth)=0")))
	code, out, errOut := l.run("-w", ws, "call", "FindBerths/*", "--endpoint", "BerthDesk11")
	assert.Equal(t, 1, code, errOut)
	assert.Contains(t, out, "1 passed, 1 stopped, 2 not sent")
	assert.Contains(t, out, "the message breaks its schema")
	assert.Contains(t, out, "values were never filled in")
	var all []map[string]any
	l.json(1, &all, "-w", ws, "call", "FindBerths/*", "--endpoint", "BerthDesk11")
	assert.Len(t, all, 4)
	code, _, _ = l.run("-w", ws, "call", "FindBerths/sm*", "--endpoint", "BerthDesk11")
	assert.Zero(t, code)
	code, _, _ = l.run("-w", ws, "call", "Nothing/*")
	assert.Equal(t, 3, code)
}

func first(code int, _, _ string) int { return code }

func person(t *testing.T) *user.Home {
	t.Helper()
	h, err := user.Find()
	require.NoError(t, err)
	return h
}

// Example messages of every operation of the stand-ins are valid, requests and replies,
// whole and with what must be there alone.
func TestExampleMessagesAreValid(t *testing.T) {
	l := at(t)
	for _, path := range []string{"berths", "tides", "callsigns", "dues", "papers", "pilots"} {
		wsdl := "http://" + l.h.Plain + "/" + path + "?wsdl"
		var d struct {
			Services []struct {
				Ports []struct {
					Name, Style string
					Operations  []struct{ Name, Use string }
				}
			}
		}
		l.json(0, &d, "describe", wsdl)
		for _, s := range d.Services {
			for _, p := range s.Ports {
				for _, o := range p.Operations {
					if o.Use == "encoded" {
						continue // its schema says nothing of how arrays are written
					}
					for _, flags := range [][]string{nil, {"--all"}, {"--reply"}, {"--reply", "--all"}} {
						args := append([]string{"sample", wsdl, o.Name, "--port", p.Name, "--example"}, flags...)
						code, out, errOut := l.run(args...)
						if strings.Contains(errOut, "is one-way") {
							continue
						}
						require.Zero(t, code, errOut)
						assert.NotContains(t, out, "<?fill")
						code, said, _ := l.run("validate", wsdl, l.file("example.xml", out))
						assert.Zero(t, code, "%v\n%s\n%s", args, said, out)
					}
				}
			}
		}
	}
}
