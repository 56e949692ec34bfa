package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/handover/code"
	"orenda/internal/standin"
	"orenda/internal/trust"
	"orenda/internal/workspace"
)

// spoken are the languages that are tried: those that ORENDA_LANGUAGES names, or all of them (make
// outside installs them), else those that every machine with the tools of make test has.
func spoken() []string {
	switch set := os.Getenv("ORENDA_LANGUAGES"); set {
	case "":
	case "all":
		return code.Names()
	default:
		return strings.Fields(set)
	}
	return []string{"go", "python", "shell"}
}

// recorder passes calls on to the stand-ins, and keeps the last request as an HTTP message.
type recorder struct {
	mu   sync.Mutex
	last []byte
	*httptest.Server
}

func record(t *testing.T, to string) *recorder {
	t.Helper()
	r := &recorder{}
	proxy := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: "http", Host: to})
	r.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body)
		var b bytes.Buffer
		fmt.Fprintf(&b, "%s %s HTTP/1.1\r\n", q.Method, q.URL.Path)
		_ = q.Header.Write(&b)
		fmt.Fprintf(&b, "\r\n%s", body)
		r.mu.Lock()
		r.last = b.Bytes()
		r.mu.Unlock()
		q.Body = io.NopCloser(bytes.NewReader(body))
		q.Host = to
		proxy.ServeHTTP(w, q)
	}))
	t.Cleanup(r.Close)
	return r
}

// made is a program as --json tells of it.
type made struct {
	Files, Conflicts, Missing []string
	Removed, Left             []string
	Build                     [][]string
	Run                       []string
	Address                   string
	dir                       string
}

func (m *made) built(t *testing.T) {
	t.Helper()
	for _, c := range m.Build {
		cmd := exec.Command(c[0], c[1:]...)
		cmd.Dir = m.dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%v: %s", c, out)
	}
}

func (m *made) runs(t *testing.T, env ...string) (status int, out, errOut string) {
	t.Helper()
	cmd := exec.Command(m.Run[0], m.Run[1:]...)
	cmd.Dir, cmd.Env = m.dir, append(os.Environ(), env...)
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil {
		require.ErrorAs(t, err, &exit, "%v: %s", m.Run, e.String())
		status = exit.ExitCode()
	}
	return status, o.String(), e.String()
}

// handing is a workspace with drafts of each kind of message that the stand-ins take.
func (l *line) handing() string {
	ws := filepath.Join(l.t.TempDir(), "w")
	for _, s := range []string{"berths", "tides", "callsigns", "dues", "pilots", "papers"} {
		require.Zero(l.t, first(l.run("-w", ws, "add", "http://"+l.h.Plain+"/"+s+"?wsdl")), s)
	}
	w, err := workspace.Open(ws, person(l.t))
	require.NoError(l.t, err)
	write := func(op, body, header string) {
		ref, err := w.FindDraft(op)
		require.NoError(l.t, err)
		ref.Name = "worked"
		require.NoError(l.t, w.WriteDraft(ref, []byte(body)))
		if header != "" {
			require.NoError(l.t, w.WriteHeader(ref, []byte("<headers>"+header+"</headers>")))
		}
	}
	write("FindBerths", `<FindBerths xmlns="urn:skerry:berths"><length>12.50</length></FindBerths>`, "")
	write("ReserveBerth", `<ReserveBerth xmlns="urn:skerry:berths"><berth>N02</berth><vessel><name>Alder &amp; Sons "A"</name>`+
		`<callSign>SKAL4</callSign></vessel><nights>3</nights><account>A-1</account><need>water</need><need>power</need></ReserveBerth>`, "")
	write("LogSighting", `<LogSighting xmlns="urn:skerry:berths"><vessel><name>Alder</name><callSign>SKAL4</callSign></vessel>`+
		`<at>2027-03-01T04:12:00Z</at></LogSighting>`, "")
	write("LookUp", `<c:LookUp xmlns:c="urn:skerry:callsigns"><sign>SKAL4</sign><exact>true</exact></c:LookUp>`, "")
	write("CloseLedger", `<CloseLedger xmlns="urn:skerry:dues"><day>2027-03-01</day></CloseLedger>`,
		`<Clerk xmlns="urn:skerry:dues"><name>Ines</name></Clerk>`)
	write("FilePaper", `<FilePaper xmlns="urn:skerry:papers"><vessel>Alder</vessel><kind>chart</kind><paper>AAECAwT/</paper></FilePaper>`, "")
	write("OrderPilot", `<OrderPilot xmlns="urn:skerry:pilots"><callSign>SKAL4</callSign><boarding>outer ground</boarding>`+
		`<at>2027-03-01T04:12:00Z</at></OrderPilot>`, "")
	write("DayTable", `<DayTable xmlns="urn:skerry:tides"><station>Skerry Sound</station><day>2027-03-01</day></DayTable>`, "")
	return ws
}

// written writes a program, which has to be told of as files.
func (l *line) written(ws, draft, endpoint, language string) *made {
	l.t.Helper()
	m := &made{dir: l.t.TempDir()}
	l.json(0, m, "-w", ws, "handover", "code", draft, "--endpoint", endpoint, "--in", language, "--out", m.dir)
	for _, f := range m.Files {
		assert.FileExists(l.t, filepath.Join(m.dir, f))
	}
	assert.Empty(l.t, m.Conflicts)
	return m
}

// differs are the differences between a call of Orenda's own and a request that was recorded, in
// what was sent.
func (l *line) differs(ws, id string, request []byte) (out []string) {
	l.t.Helper()
	file := filepath.Join(l.t.TempDir(), "request.http")
	require.NoError(l.t, os.WriteFile(file, request, 0o600))
	_, text, errOut := l.run("-w", ws, "compare", id, file, "--json")
	var r struct {
		Differences []struct{ Kind, Where, Path string }
	}
	require.NoError(l.t, json.Unmarshal([]byte(text), &r), errOut)
	for _, d := range r.Differences {
		if d.Where == "request-body" || d.Where == "request-head" && slices.Contains([]string{"content-type", "soapaction"},
			strings.ToLower(d.Path)) {
			out = append(out, d.Kind+" "+d.Where+" "+d.Path)
		}
	}
	return out
}

// Each program makes the call that Orenda made: the same but for what any two calls differ in.
func TestAProgramCallsAsOrendaDoes(t *testing.T) {
	l := at(t)
	ws := l.handing()
	r := record(t, l.h.Plain)
	for _, trial := range []struct{ draft, endpoint, path, prints string }{
		{"FindBerths/worked", "BerthDesk11", "/berths", "3.2"},
		{"FindBerths/worked", "BerthDesk12", "/berths12", "9.5"},
		{"ReserveBerth/worked", "BerthDesk11", "/berths", "2027"},
		{"LogSighting/worked", "BerthDesk11", "/berths", "accepted"},
		{"LookUp/worked", "CallSigns", "/callsigns", "Alder"},
		{"CloseLedger/worked", "HarbourDues", "/dues", "accepted"},
		{"FilePaper/worked", "Papers", "/papers", "P-"},
	} {
		var x struct{ ID string }
		_, out, _ := l.run("-w", ws, "call", trial.draft, "--endpoint", trial.endpoint, "--json", "--again")
		require.NoError(t, json.Unmarshal([]byte(out), &x), out)
		for _, language := range spoken() {
			t.Run(language+" "+trial.draft+" "+trial.endpoint, func(t *testing.T) {
				m := l.written(ws, trial.draft, trial.endpoint, language)
				m.built(t)
				status, out, errOut := m.runs(t, m.Address+"="+r.URL+trial.path)
				if trial.draft == "ReserveBerth/worked" { // it is held already, and the refusal is a declared fault
					assert.Equal(t, 1, status, errOut)
					assert.Contains(t, errOut, "N02")
				} else {
					assert.Zero(t, status, errOut)
					assert.Contains(t, out, trial.prints)
				}
				assert.Empty(t, l.differs(ws, x.ID, r.last), string(r.last))
			})
		}
	}
}

// A token, a timestamp, a trusted certificate; and what goes wrong is named by the program.
func TestAProgramIsSecuredAsTheCallWas(t *testing.T) {
	l := at(t)
	ws := l.handing()
	require.Zero(t, first(l.run("-w", ws, "trust", "add", "TideTablesTLS", "https://"+l.h.TLS+"/", "--fingerprint",
		trust.Fingerprint(l.h.Cert.Cert))))
	require.Zero(t, first(l.run("identity", "set", "desk", "user="+standin.User, "secret=env:DESK_WORD")))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "TideTablesTLS", "token=text", "identity=desk")))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "PilotOrders", "token=digest", "identity=desk", "timestamp=300s")))
	for _, language := range spoken() {
		t.Run(language, func(t *testing.T) {
			tides := l.written(ws, "DayTable/worked", "TideTablesTLS", language)
			tides.built(t)
			secret := "TIDE_TABLES_TLS_SECRET=" + standin.Password
			status, out, errOut := tides.runs(t, secret)
			assert.Zero(t, status, errOut)
			assert.Contains(t, out, "high water")
			status, _, errOut = tides.runs(t, "TIDE_TABLES_TLS_SECRET=ebb")
			assert.Equal(t, 1, status)
			assert.NotEmpty(t, errOut, "the fault is said")
			status, _, errOut = tides.runs(t)
			assert.NotZero(t, status)
			assert.Contains(t, errOut, "TIDE_TABLES_TLS_SECRET")
			other, err := trust.Issue(trust.Wish{Name: "another"})
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(tides.dir, "other.pem"), trust.PEM(other.Cert), 0o600))
			status, _, errOut = tides.runs(t, secret, "TIDE_TABLES_TLS_TRUST=other.pem")
			assert.NotZero(t, status)
			assert.Regexp(t, `(?i)certif|ssl|tls|curl 60`, errOut, "a certificate that is not trusted is named")

			pilots := l.written(ws, "OrderPilot/worked", "PilotOrders", language)
			pilots.built(t)
			status, out, errOut = pilots.runs(t, "PILOT_ORDERS_SECRET="+standin.Password)
			assert.Zero(t, status, errOut)
			assert.Contains(t, out, "P-")
			for _, f := range slices.Concat(tides.Files, pilots.Files) {
				for _, dir := range []string{tides.dir, pilots.dir} {
					if b, err := os.ReadFile(filepath.Join(dir, f)); err == nil {
						assert.NotContains(t, string(b), standin.Password, "no secret stands in a program")
					}
				}
			}

			require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "BerthDesk11", "receive-limit=400")))
			small := l.written(ws, "FindBerths/worked", "BerthDesk11", language)
			require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "BerthDesk11", "receive-limit=1 MiB")))
			small.built(t)
			status, _, errOut = small.runs(t)
			assert.NotZero(t, status)
			assert.Contains(t, errOut, "larger than 400 bytes")
		})
	}
}

// Written again, edits stay; where both changed the same lines nothing is written over.
func TestAProgramIsNeverWrittenOverEdits(t *testing.T) {
	l := at(t)
	ws := l.handing()
	m := l.written(ws, "FindBerths/worked", "BerthDesk11", "python")
	file := func(name string) string { return filepath.Join(m.dir, name) }
	read := func(name string) string {
		b, err := os.ReadFile(file(name))
		require.NoError(t, err)
		return string(b)
	}
	again := func(want int, more ...string) (out string) {
		t.Helper()
		code, out, errOut := l.run(append([]string{"-w", ws, "handover", "code", "FindBerths/worked", "--endpoint", "BerthDesk11",
			"--in", "python", "--out", m.dir}, more...)...)
		assert.Equal(t, want, code, out+errOut)
		return out
	}
	client := read("berth_desk11.py")
	require.NoError(t, os.WriteFile(file("berth_desk11.py"), []byte(client+"\n# ours\n"), 0o600))
	require.NoError(t, os.WriteFile(file("notes.txt"), []byte("mine"), 0o600))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "BerthDesk11", "answer-time=7s")))
	shown := again(0, "--show")
	assert.Contains(t, shown, "+ANSWER_TIME = 7")
	assert.NotContains(t, read("berth_desk11.py"), "ANSWER_TIME = 7", "it was only shown")
	again(0)
	assert.Contains(t, read("berth_desk11.py"), "ANSWER_TIME = 7")
	assert.Contains(t, read("berth_desk11.py"), "# ours")
	assert.Equal(t, "mine", read("notes.txt"))

	edited := strings.Replace(read("berth_desk11.py"), "ANSWER_TIME = 7", "ANSWER_TIME = 99", 1)
	require.NoError(t, os.WriteFile(file("berth_desk11.py"), []byte(edited), 0o600))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "BerthDesk11", "answer-time=8s")))
	again(1)
	assert.Equal(t, edited, read("berth_desk11.py"))
	assert.Contains(t, read("berth_desk11.py.new"), "ANSWER_TIME = 8")

	again(1)
	assert.Equal(t, edited, read("berth_desk11.py"), "the same again, as long as the new text lies there")
	require.NoError(t, os.Remove(file("berth_desk11.py.new")))
	again(0)
	assert.Equal(t, edited, read("berth_desk11.py"), "the person has dealt with it, and kept their own line")

	fresh := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(fresh, "example.py"), []byte("theirs"), 0o600))
	code, _, _ := l.run("-w", ws, "handover", "code", "FindBerths/worked", "--endpoint", "BerthDesk11", "--in", "python", "--out", fresh)
	assert.Equal(t, 1, code, "a file that was not generated is not touched")
	b, err := os.ReadFile(filepath.Join(fresh, "example.py"))
	require.NoError(t, err)
	assert.Equal(t, "theirs", string(b))
	code, _, errOut := l.run("-w", ws, "handover", "code", "FindBerths/worked", "--in", "cobol", "--out", fresh)
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "python")
}

// evil is a description whose words try to be code.
const evil = `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/"
 xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:q="NAMESPACE" targetNamespace="NAMESPACE" name="Quays">
<types><xs:schema targetNamespace="NAMESPACE" elementFormDefault="qualified">
<xs:simpleType name="Kind"><xs:annotation><xs:documentation>EVIL</xs:documentation></xs:annotation><xs:restriction base="xs:string">
<xs:enumeration value="a-b"/><xs:enumeration value="a b"/><xs:enumeration value="'; $(touch pwned) &quot; + x"/><xs:enumeration value="*/"/><xs:enumeration value="класс"/><xs:enumeration value="class"/></xs:restriction></xs:simpleType>
<xs:element name="Ask"><xs:complexType><xs:sequence><xs:element name="class" type="q:Kind" maxOccurs="9"><xs:annotation><xs:documentation>EVIL</xs:documentation></xs:annotation></xs:element>
<xs:element name="FIELD" type="xs:string" minOccurs="0"/><xs:element name="Ask" type="xs:int" minOccurs="0"/><xs:element name="object" type="xs:decimal" minOccurs="0"/><xs:element name="self" type="xs:boolean" minOccurs="0"/></xs:sequence><xs:attribute name="Ask" type="xs:string"/></xs:complexType></xs:element>
<xs:element name="Tell"><xs:complexType/></xs:element></xs:schema></types>
<message name="ask"><part name="p" element="q:Ask"/></message><message name="tell"><part name="p" element="q:Tell"/></message>
<portType name="Quays"><operation name="Ask"><documentation>EVIL</documentation><input message="q:ask"/><output message="q:tell"/></operation></portType>
<binding name="Quays" type="q:Quays"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="Ask"><soap:operation soapAction="it's &quot;$(touch pwned)&quot; \ %s"/>
<input><soap:body use="literal"/></input><output><soap:body use="literal"/></output></operation></binding>
<service name="Quays"><documentation>EVIL</documentation><port name="Quays" binding="q:Quays"><soap:address location="http://ADDRESS/x'$(touch%20pwned)"/></port></service></definitions>`

const evilWords = `*/ """ ''' ?&gt; \u002a/ {@code } ` + "`touch pwned`" + ` $(touch pwned) -->  \` + "\n" + `&lt;/summary&gt; end`

// What a description says is text in a program, and never code; names that two values would have are two.
func TestADescriptionWritesNoCode(t *testing.T) {
	l := at(t)
	asked := make(chan string, 64)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		b, _ := io.ReadAll(q.Body)
		asked <- string(b)
		_, _ = io.WriteString(w, `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><Tell xmlns="urn:q%20r"/></e:Body></e:Envelope>`)
	}))
	defer server.Close()
	description := func(namespace, field string) string {
		file := filepath.Join(t.TempDir(), "quays.wsdl")
		text := strings.NewReplacer("EVIL", evilWords, "ADDRESS", strings.TrimPrefix(server.URL, "http://"), "NAMESPACE", namespace,
			"FIELD", field).Replace(evil)
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		return file
	}
	ws := filepath.Join(t.TempDir(), "w")
	code, _, errOut := l.run("-w", ws, "add", description("urn:q%20r", "plain"))
	require.Zero(t, code, errOut)
	w, err := workspace.Open(ws, person(t))
	require.NoError(t, err)
	ref, err := w.FindDraft("Ask")
	require.NoError(t, err)
	require.NoError(t, w.WriteDraft(ref, []byte(`<Ask xmlns="urn:q%20r" Ask="&quot;'\ $(touch pwned)"><class>a b</class><class>*/</class>`+
		`<class>'; $(touch pwned) " + x</class><class>класс</class><plain>`+"`touch pwned` ${x} %s \\n"+` ]]&gt;</plain><Ask>-7</Ask><object>1.50</object>`+
		`<self>true</self></Ask>`)))
	for _, language := range spoken() {
		t.Run(language, func(t *testing.T) {
			m := l.written(ws, "Ask", "Quays", language)
			m.built(t)
			status, out, errOut := m.runs(t)
			assert.Zero(t, status, out+errOut)
			if language != "shell" || assert.NotEmpty(t, asked) {
				sent := <-asked
				for _, want := range []string{"*/", "a b", "1.50", "класс", "$(touch pwned)", "${x} %s \\n", "-7"} {
					assert.Contains(t, sent, want)
				}
			}
			assert.NoFileExists(t, filepath.Join(m.dir, "pwned"))
		})
	}
	for namespace, field := range map[string]string{`urn:q&quot;+x`: "plain", "urn:q'": "plain", "urn:q": "a&quot;b", "urn:qq": "a b"} {
		ws := filepath.Join(t.TempDir(), "w")
		if code, _, _ := l.run("-w", ws, "add", description(namespace, field)); code != 0 {
			continue // it is refused already
		}
		code, _, errOut := l.run("-w", ws, "handover", "code", "Ask", "--endpoint", "Quays", "--in", "go", "--out", t.TempDir())
		assert.NotZero(t, code, "%s %s", namespace, field)
		assert.NotContains(t, errOut, "panic")
	}
}

// judged are the formatters and linters of the languages, each with what it is called with; files are
// put behind it. What a description's names lead to (how many fields, how short a name) is not judged.
var judged = []struct {
	language, tool, ending string
	args                   []string
}{
	{"go", "gofmt", ".go", []string{"-l"}},
	{"python", "black", ".py", []string{"--check", "--quiet", "--diff"}},
	{"python", "pylint", ".py", []string{"--score=n", "--disable=R,C0103"}},
	{"python", "mypy", ".py", []string{"--strict"}},
	{"java", "checkstyle", ".java", []string{"-c", "/google_checks.xml"}},
	{"javascript", "prettier", ".mjs", []string{"--check"}},
	{"php", "phpcs", ".php", []string{"--standard=PSR12", "--exclude=PSR1.Classes.ClassDeclaration,PSR1.Files.SideEffects"}},
	{"shell", "shellcheck", ".sh", []string{"-x"}},
	{"shell", "shfmt", ".sh", []string{"-d"}},
}

// A program is as the formatter and the linter of its language have it, with no word to say.
func TestAProgramIsAsItsFormatterHasIt(t *testing.T) {
	here := strings.Fields(os.Getenv("ORENDA_FORMATTERS"))
	if len(here) == 0 {
		here = []string{"gofmt"}
	}
	l := at(t)
	ws := l.handing()
	require.Zero(t, first(l.run("identity", "set", "desk", "user="+standin.User, "secret=env:DESK_WORD")))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "PilotOrders", "token=digest", "identity=desk", "timestamp=300s")))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "TideTables", "token=text", "identity=desk")))
	require.Zero(t, first(l.run("-w", ws, "add", "http://"+l.h.Plain+"/manifests?wsdl")))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "Manifests", "sign=body", "sign=timestamp", "timestamp=300s")))
	for _, trial := range []struct{ draft, endpoint string }{
		{"FileManifest/first", "Manifests"},
		{"FindBerths/worked", "BerthDesk11"}, {"DayTable/worked", "TideTables"}, {"OrderPilot/worked", "PilotOrders"},
		{"Assess/first", "HarbourDues"}, {"FilePaper/worked", "Papers"}, {"LookUp/worked", "CallSigns"},
	} {
		programs := map[string]*made{}
		for _, j := range judged {
			if !slices.Contains(here, j.tool) {
				continue
			}
			m := programs[j.language]
			if m == nil {
				m = l.written(ws, trial.draft, trial.endpoint, j.language)
				programs[j.language] = m
				if j.language == "python" {
					batch := &made{dir: m.dir}
					l.json(0, batch, "-w", ws, "handover", "batch", trial.draft, "--endpoint", trial.endpoint, "--out", m.dir)
					one := &made{}
					l.json(0, one, "-w", ws, "handover", "batch", trial.draft, "--endpoint", trial.endpoint, "--out",
						filepath.Join(m.dir, "rows.py"))
					m.Files = slices.Compact(slices.Sorted(slices.Values(slices.Concat(m.Files, batch.Files, one.Files))))
				}
			}
			args := slices.Clone(j.args)
			for _, f := range m.Files {
				if strings.HasSuffix(f, j.ending) {
					args = append(args, f)
				}
			}
			cmd := exec.Command(j.tool, args...)
			cmd.Dir = m.dir
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s %s: %s", j.tool, trial.draft, out)
			switch j.tool {
			case "checkstyle":
				assert.NotContains(t, string(out), "[WARN]", trial.draft)
			case "gofmt", "shfmt", "black":
				assert.Empty(t, string(out), "%s %s", j.tool, trial.draft)
			}
		}
	}
}

// A value that the description does not list has no name in a program that knows a closed list, and
// that is said.
func TestAProgramSaysWhichValueItCannotName(t *testing.T) {
	l := at(t)
	ws := l.handing()
	w, err := workspace.Open(ws, person(t))
	require.NoError(t, err)
	ref, err := w.FindDraft("ReserveBerth")
	require.NoError(t, err)
	ref.Name = "unlisted"
	require.NoError(t, w.WriteDraft(ref, []byte(`<ReserveBerth xmlns="urn:skerry:berths"><berth>N02</berth><vessel><name>Alder</name>`+
		`<callSign>SKAL4</callSign></vessel><nights>3</nights><account>A-1</account><need>anchor</need></ReserveBerth>`)))
	for _, language := range spoken() {
		m := l.written(ws, "ReserveBerth/unlisted", "BerthDesk11", language)
		m.built(t)
		_, _, errOut := m.runs(t)
		switch language {
		case "java", "php":
			require.NotEmpty(t, m.Missing, language)
			assert.Contains(t, m.Missing[0], "anchor", language)
		default:
			assert.Empty(t, m.Missing, language)
		}
		assert.NotContains(t, errOut, "NullPointer", language)
	}
}

// Where the standard library of the language can sign, the program does; else it says what must be added.
func TestAProgramSignsWhereItsLanguageCan(t *testing.T) {
	l := at(t)
	ws := l.handing()
	require.Zero(t, first(l.run("-w", ws, "add", "http://"+l.h.Plain+"/manifests?wsdl")))
	pem, err := l.h.Desk.Clerk("Ines Hallam")
	require.NoError(t, err)
	clerk := l.file("clerk.pem", string(pem))
	keys := filepath.Join(l.dir, "clerk.p12")
	out, err := exec.Command("openssl", "pkcs12", "-export", "-in", clerk, "-inkey", clerk, "-out", keys, "-passout",
		"pass:spring tide").CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.Zero(t, first(l.run("identity", "set", "clerk", "certificate="+clerk)))
	require.Zero(t, first(l.run("-w", ws, "endpoint", "set", "Manifests", "sign=body", "sign=timestamp", "timestamp=300s",
		"sign-identity=clerk")))
	w, err := workspace.Open(ws, person(t))
	require.NoError(t, err)
	ref, err := w.FindDraft("FileManifest")
	require.NoError(t, err)
	require.NoError(t, w.WriteDraft(ref, []byte(`<FileManifest xmlns="urn:skerry:manifests"><callSign>SKAL4</callSign><line><goods>salt</goods>`+
		`<tonnes>10.5</tonnes></line></FileManifest>`)))
	for _, language := range spoken() {
		t.Run(language, func(t *testing.T) {
			m := l.written(ws, ref.String(), "Manifests", language)
			m.built(t)
			status, out, errOut := m.runs(t, "MANIFESTS_SIGN_KEYS="+keys, "MANIFESTS_SIGN_SECRET=spring tide")
			if language != "java" && language != "php" {
				require.NotEmpty(t, m.Missing)
				assert.Contains(t, strings.Join(m.Missing, " "), "signs the message (body, timestamp)")
				assert.NotZero(t, status)
				return
			}
			assert.Empty(t, m.Missing)
			assert.Zero(t, status, out+errOut)
			status, _, errOut = m.runs(t, "MANIFESTS_SIGN_KEYS="+keys, "MANIFESTS_SIGN_SECRET=neap tide")
			assert.Equal(t, 1, status)
			assert.Regexp(t, "(?i)key|password", errOut)
		})
	}
}

// The description changes, operations go, files were edited everywhere: what is new comes in beside the
// edits, and what is generated no longer goes only where nobody edited it.
func TestAProgramFollowsItsDescription(t *testing.T) {
	l := at(t)
	at := t.TempDir()
	require.NoError(t, os.CopyFS(at, os.DirFS("../standin/contracts")))
	ws := filepath.Join(t.TempDir(), "w")
	require.Zero(t, first(l.run("-w", ws, "add", filepath.Join(at, "berths.wsdl"))))
	dir := t.TempDir()
	write := func(want int, more ...string) *made {
		t.Helper()
		m := &made{dir: dir}
		l.json(want, m, append([]string{"-w", ws, "handover", "code", "FindBerths", "--endpoint", "BerthDesk11", "--in", "python",
			"--out", dir}, more...)...)
		return m
	}
	file := func(name string) string {
		b, err := os.ReadFile(filepath.Join(dir, name))
		require.NoError(t, err)
		return string(b)
	}
	write(0)
	for _, name := range []string{"berth_desk11.py", "example.py"} {
		edited := strings.Replace(file(name), `"""`, `"""Ours: `, 1) + "\n# ours\n"
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(edited), 0o600))
	}
	schema := filepath.Join(at, "harbour.xsd")
	b, err := os.ReadFile(schema)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(schema, bytes.Replace(b, []byte(`name="quay"`), []byte(`name="basin"`), 1), 0o600))
	require.Zero(t, first(l.run("-w", ws, "refresh", "berth-desk", "--take")))
	write(0)
	client := file("berth_desk11.py")
	assert.Contains(t, client, "basin: str")
	assert.NotContains(t, client, "quay: str")
	assert.Contains(t, client, `"""Ours: `)
	assert.Contains(t, client, "# ours")
	assert.Contains(t, client, "def reserve_berth")

	write(0, "--only", "FindBerths")
	assert.NotContains(t, file("berth_desk11.py"), "def reserve_berth", "an operation that nobody edited goes")
	assert.Contains(t, file("berth_desk11.py"), "# ours")
	write(0)
	edited := strings.Replace(file("berth_desk11.py"), "def reserve_berth(self,", "def reserve_berth(self, *, why: str = '',", 1)
	edited = strings.Replace(edited, `body = request.write("n1:ReserveBerth")`, `body = request.write("n1:ReserveBerth")  # ours`, 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "berth_desk11.py"), []byte(edited), 0o600))
	m := write(1, "--only", "FindBerths")
	assert.Equal(t, []string{"berth_desk11.py"}, m.Conflicts)
	assert.Equal(t, edited, file("berth_desk11.py"), "an operation that somebody edited stays")
	assert.NotContains(t, file("berth_desk11.py.new"), "def reserve_berth")
}
