package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOperationsAreGivenAsJSON(t *testing.T) {
	l := at(t)
	ctx, cancel := context.WithCancel(t.Context())
	out, in := io.Pipe()
	done := make(chan int, 1)
	var errOut bytes.Buffer
	drawn := filepath.Join(l.dir, "saved.svg")
	go func() {
		done <- Run(ctx, []string{"facade", "--contract", l.berths(), "--port", "BerthDesk11", "--saved", drawn}, in, &errOut)
		in.Close()
	}()
	var first struct {
		Listening []string
		OpenAPI   string
	}
	require.NoError(t, json.NewDecoder(out).Decode(&first))
	require.Len(t, first.Listening, 1)
	tr := &http.Transport{DisableKeepAlives: true}
	defer tr.CloseIdleConnections()
	client := &http.Client{Transport: tr, Timeout: 10 * time.Second}
	resp, err := client.Post(first.Listening[0]+"/FindBerths", "application/json", strings.NewReader(`{"length": 60}`))
	require.NoError(t, err)
	b, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	require.NoError(t, err)
	assert.Contains(t, string(b), `"code":"E03"`)
	resp, err = client.Get(first.OpenAPI)
	require.NoError(t, err)
	resp.Body.Close()
	assert.Equal(t, 200, resp.StatusCode)
	cancel()
	assert.Zero(t, <-done, errOut.String())
	assert.Regexp(t, `1 calls: \d+ B of JSON in the place of \d+ B of SOAP`, errOut.String())
	svg, err := os.ReadFile(drawn)
	require.NoError(t, err)
	assert.Contains(t, string(svg), "SOAP, both ways")
	code, shown, _ := l.run("journal", "list")
	assert.Zero(t, code)
	assert.Contains(t, shown, "FindBerths")
	code, _, _ = l.run("facade", "--contract", l.berths(), "--listen", "0.0.0.0:0")
	assert.Equal(t, 3, code)
}

// A façade calls as call does: by files that stand anywhere, once they are named on the
// command line.
func TestAFacadeTakesFilesFromAnywhere(t *testing.T) {
	l := at(t)
	pem := filepath.Join(t.TempDir(), "c.pem")
	code, _, errOut := l.run("trust", "fetch", "https://"+l.h.TLS+"/", "--out", pem)
	require.Zero(t, code, errOut)
	ctx, cancel := context.WithCancel(t.Context())
	out, in := io.Pipe()
	done := make(chan int, 1)
	var said bytes.Buffer
	go func() {
		done <- Run(ctx, []string{"facade", "--contract", l.berths(), "--port", "BerthDesk11", "--trust", pem,
			"--address", "https://" + l.h.TLS + "/berths"}, in, &said)
		in.Close()
	}()
	var first struct{ Listening []string }
	require.NoError(t, json.NewDecoder(out).Decode(&first))
	tr := &http.Transport{DisableKeepAlives: true}
	defer tr.CloseIdleConnections()
	client := &http.Client{Transport: tr, Timeout: 10 * time.Second}
	resp, err := client.Post(first.Listening[0]+"/FindBerths", "application/json", strings.NewReader(`{"length": 60}`))
	require.NoError(t, err)
	b, err := io.ReadAll(resp.Body)
	resp.Body.Close()
	require.NoError(t, err)
	assert.Contains(t, string(b), `"code":"E03"`)
	cancel()
	assert.Zero(t, <-done, said.String())
}

// serving runs a façade in the background, and gives where it answers.
func serving(t *testing.T, start func(out *io.PipeWriter, ended chan<- error)) (address string, ended <-chan error) {
	t.Helper()
	out, in := io.Pipe()
	done := make(chan error, 1)
	start(in, done)
	var first struct{ Listening []string }
	require.NoError(t, json.NewDecoder(out).Decode(&first))
	require.Len(t, first.Listening, 1)
	go func() { _, _ = io.Copy(io.Discard, out) }()
	return first.Listening[0], done
}

// The façade that is written as a program answers as the one that Orenda serves.
func TestAFacadeAsAProgram(t *testing.T) {
	l := at(t)
	ws := l.handing()
	m := &made{dir: t.TempDir()}
	l.json(0, m, "-w", ws, "handover", "code", "FindBerths/worked", "--endpoint", "BerthDesk11", "--in", "go", "--as", "facade",
		"--out", m.dir)
	m.built(t)
	cmd := exec.Command(m.Run[0], "-allow-origin", "https://quay.skerry.test")
	cmd.Dir, cmd.Env = m.dir, append(os.Environ(), m.Address+"=http://"+l.h.Plain+"/berths")
	written, ended := serving(t, func(out *io.PipeWriter, ended chan<- error) {
		cmd.Stdout = out
		require.NoError(t, cmd.Start())
		go func() { ended <- cmd.Wait(); out.Close() }()
	})
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	served, over := serving(t, func(out *io.PipeWriter, ended chan<- error) {
		go func() {
			Run(ctx, []string{"facade", "-w", ws, "BerthDesk11"}, out, io.Discard)
			ended <- out.Close()
		}()
	})
	tr := &http.Transport{}
	client := &http.Client{Transport: tr, Timeout: 10 * time.Second}
	ask := func(at, path, body string, more ...string) (int, string, http.Header) {
		method, kind := http.MethodPost, "application/json"
		if body == "" {
			method = http.MethodGet
		}
		q, err := http.NewRequest(method, at+path, strings.NewReader(body))
		require.NoError(t, err)
		q.Header.Set("Content-Type", kind)
		for i := 0; i+1 < len(more); i += 2 {
			q.Header.Set(more[i], more[i+1])
		}
		a, err := client.Do(q)
		require.NoError(t, err)
		defer a.Body.Close()
		b, err := io.ReadAll(a.Body)
		require.NoError(t, err)
		return a.StatusCode, string(b), a.Header
	}
	for _, row := range []struct {
		path, body string
		status     int
	}{
		{"/FindBerths", `{"length": 12.50, "window": {"from": "2027-03-01", "until": "2027-03-04"}}`, 200},
		{"/berth-desk/FindBerths", `{"length": "3", "draught": 2}`, 200},
		{"/FindBerths?fields=berth/code,berth/@free", `{"length": 12}`, 200},
		{"/FindBerths?fields=berth", `{"length": 12}`, 200},
		{"/FindBerths?fields=nothing", `{"length": 12}`, 200},
		{"/FindBerths", `{"length": "long"}`, 400},
		{"/FindBerths", `{"lenght": 3}`, 400},
		{"/FindBerths", `{}`, 400},
		{"/FindBerths", `[`, 400},
		{"/Nothing", `{}`, 404},
		{"/FindBerths", "", 405},
		{"/LogSighting", `{"vessel": {"name": "Alder", "callSign": "SKAL4"}, "at": "2027-03-01T04:12:00Z"}`, 204},
		{"/ReserveBerth", `{"berth": "N02", "vessel": {"name": "A", "callSign": "SKAL4"}, "nights": 3, "account": "A-1", "need": ["water"]}`, 502},
		{"/ReserveBerth", `{"berth": "N02", "vessel": {"name": "A"}, "nights": 3, "account": "A-1"}`, 400},
		{"/openapi.json", "", 200},
	} {
		status, mine, head := ask(written, row.path, row.body)
		other, theirs, _ := ask(served, row.path, row.body)
		assert.Equal(t, row.status, status, "%s %s: %s", row.path, row.body, mine)
		assert.Equal(t, other, status, "%s %s: %s", row.path, row.body, theirs)
		if status == 200 {
			assert.JSONEq(t, theirs, mine, row.path)
			status, _, _ = ask(written, row.path, row.body, "If-None-Match", head.Get("ETag"))
			assert.Equal(t, http.StatusNotModified, status, row.path)
		}
		if status >= 400 {
			assert.Equal(t, "application/problem+json", head.Get("Content-Type"), row.path)
		}
	}
	_, _, head := ask(written, "/FindBerths", `{"length": 12}`, "Origin", "https://quay.skerry.test")
	assert.Equal(t, "https://quay.skerry.test", head.Get("Access-Control-Allow-Origin"))
	_, page, head := ask(written, "/", "")
	assert.Contains(t, page, "FindBerths")
	assert.Contains(t, head.Get("Content-Security-Policy"), "default-src 'self'")
	status, _, _ := ask(written, "/FindBerths", `{"length": 12}`, "Content-Type", "text/plain")
	assert.Equal(t, http.StatusUnsupportedMediaType, status)

	tr.CloseIdleConnections()
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	assert.NoError(t, <-ended, "it ends by itself")
	cancel()
	<-over
	open := exec.Command(m.Run[0], "-listen", "0.0.0.0:0")
	open.Dir = m.dir
	said, err := open.CombinedOutput()
	assert.Error(t, err)
	assert.Contains(t, string(said), "access token")
}

// facadeScript holds a façade against what others made: a validator of OpenAPI, a generator of clients,
// and a browser.
const facadeScript = `
import { Validator } from "@seriousme/openapi-schema-validator";
import { execFileSync } from "node:child_process";
import { writeFileSync } from "node:fs";
import puppeteer from "puppeteer-core";
const [at, browser] = process.argv.slice(2);
const doc = await (await fetch(at + "/openapi.json")).json();
const judged = await new Validator().validate(doc);
if (!judged.valid) throw new Error(JSON.stringify(judged.errors));
writeFileSync("package.json", JSON.stringify({ type: "module" }));
writeFileSync("openapi.json", JSON.stringify(doc));
const run = (...c) => execFileSync("npx", c, { stdio: ["ignore", 2, 2] });
run("openapi-typescript", "openapi.json", "-o", "api.d.ts");
writeFileSync("client.ts", ` + "`" + `
import createClient from "openapi-fetch";
import type { paths } from "./api.js";
const client = createClient<paths>({ baseUrl: "${at}" });
const { data, error } = await client.POST("/berth-desk/FindBerths", { body: { length: 60 } });
if (error) throw new Error(error.title);
const code: string = data!.berth![0].code;
const refused = await client.POST("/berth-desk/FindBerths", { body: { length: -1 } });
console.log(code, refused.error!.status, refused.error!.finding);
` + "`" + `);
run("tsc", "--strict", "--target", "es2022", "--module", "nodenext", "--skipLibCheck", "client.ts");
process.stdout.write(execFileSync("node", ["client.js"]));
if (browser) {
  const b = await puppeteer.launch({ executablePath: browser, args: ["--no-sandbox", "--disable-gpu"] });
  const page = await b.newPage();
  const wrong = [];
  page.on("pageerror", (e) => wrong.push(String(e)));
  page.on("request", (r) => { if (!r.url().startsWith(at)) wrong.push(r.url()); });
  await page.goto(at + "/");
  const bare = await page.$$eval("textarea,input,select", (all) => all.filter((e) => e.labels.length === 0).length);
  if (bare) wrong.push(bare + " fields without a label");
  await page.$eval("form textarea", (e) => { e.value = JSON.stringify({ length: 60 }); });
  await page.focus("form textarea");
  await page.keyboard.press("Tab");
  await page.keyboard.press("Enter");
  await page.waitForFunction(() => /E03/.test(document.querySelector("form pre").textContent), { timeout: 20000 });
  console.log("browser", (await page.$eval("form pre", (e) => e.textContent)).split("\\n")[0]);
  if (process.argv[4]) { await page.setViewport({ width: 1280, height: 800 }); await page.screenshot({ path: process.argv[4] }); }
  await b.close();
  if (wrong.length) throw new Error(wrong.join("; "));
}
`

// What others made takes the façade as it is: make outside installs them.
func TestAFacadeIsTakenByOthers(t *testing.T) {
	modules := os.Getenv("ORENDA_NPM")
	if modules == "" {
		t.Skip("a validator, a generator of clients and a browser are asked in make outside")
	}
	l := at(t)
	ctx, cancel := context.WithCancel(t.Context())
	served, over := serving(t, func(out *io.PipeWriter, ended chan<- error) {
		go func() {
			Run(ctx, []string{"facade", "--contract", l.berths(), "--port", "BerthDesk11"}, out, io.Discard)
			ended <- out.Close()
		}()
	})
	dir := filepath.Join(modules, "facade")
	require.NoError(t, os.MkdirAll(dir, 0o700))
	script := filepath.Join(dir, "facade.mjs")
	require.NoError(t, os.WriteFile(script, []byte(facadeScript), 0o600))
	browser, _ := exec.LookPath("chromium")
	cmd := exec.Command("node", script, served, browser, os.Getenv("ORENDA_PICTURE"))
	cmd.Dir = dir
	said, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", said)
	assert.Contains(t, string(said), "E03 400 message.invalid")
	if browser != "" {
		assert.Contains(t, string(said), "browser 200")
	}
	cancel()
	<-over
}
