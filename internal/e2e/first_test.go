package e2e

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/standin"
)

// quays is the description of a service that needs nothing to be filled in.
const quays = `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/"
 xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:q="urn:skerry:quays" targetNamespace="urn:skerry:quays" name="Quays">
<message name="ask"/><message name="tell"><part name="quays" type="xs:int"/></message>
<portType name="Quays"><operation name="CountQuays"><input message="q:ask"/><output message="q:tell"/></operation></portType>
<binding name="Quays" type="q:Quays"><soap:binding style="rpc" transport="http://schemas.xmlsoap.org/soap/http"/>
<operation name="CountQuays"><soap:operation soapAction="urn:skerry:quays#CountQuays"/>
<input><soap:body use="literal" namespace="urn:skerry:quays"/></input>
<output><soap:body use="literal" namespace="urn:skerry:quays"/></output></operation></binding>
<service name="Quays"><port name="Quays" binding="q:Quays"><soap:address location="http://ADDRESS/quays"/></port></service>
</definitions>`

const quaysPHP = `<?php
$path = parse_url($_SERVER['REQUEST_URI'], PHP_URL_PATH);
if (isset($_GET['wsdl'])) { header('Content-Type: text/xml'); readfile(__DIR__.'/quays.wsdl'); return; }
class Quays { function CountQuays() { return 7; } }
$server = new SoapServer(__DIR__.'/quays.wsdl', ['cache_wsdl' => WSDL_CACHE_NONE]);
$server->setClass('Quays');
$server->handle();
`

const quaysPerl = `use strict; use HTTP::Daemon; use SOAP::Transport::HTTP; use HTTP::Daemon;
package Quays; sub CountQuays { return SOAP::Data->name(quays => 7)->type('') }
package Desk; our @ISA = ('SOAP::Transport::HTTP::Daemon');
package main;
my ($port, $file) = @ARGV;
my $desk = HTTP::Daemon->new(LocalAddr => '127.0.0.1', LocalPort => $port, ReuseAddr => 1) or die $!;
my $soap = SOAP::Transport::HTTP::Server->new->dispatch_with({'urn:skerry:quays' => 'Quays'});
while (my $c = $desk->accept) {
  while (my $r = $c->get_request) {
    if ($r->method eq 'GET') { $c->send_file_response($file); next }
    $soap->request($r); $soap->handle; $c->send_response($soap->response);
  }
  $c->close;
}
`

// made starts a service of a make, and gives its address.
func made(t *testing.T, program string, args func(dir, port string) []string) string {
	t.Helper()
	path, err := exec.LookPath(program)
	require.NoError(t, err, "make test installs it")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	l.Close()
	dir := t.TempDir()
	for name, text := range map[string]string{"quays.wsdl": quays, "quays.php": quaysPHP, "quays.pl": quaysPerl} {
		text = strings.ReplaceAll(text, "ADDRESS", address)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	_, port, _ := net.SplitHostPort(address)
	cmd := exec.Command(path, args(dir, port)...)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			c.Close()
		}
		return err == nil
	}, patience(), 20*time.Millisecond, program)
	return address
}

// From a pasted address to the first answer in four keys, over services of three makes.
func TestFourKeysFromAnAddressToAnAnswer(t *testing.T) {
	h := harbour(t)
	const value = "a value is filled in: Enter, 60, Enter" // it counts for itself, not as keys
	for _, service := range []struct {
		make, address, asks, answer string
		keys                        []string // after the address
	}{
		{"PHP", made(t, "php", func(dir, port string) []string {
			return []string{"-S", "127.0.0.1:" + port, dir + "/quays.php"}
		}) + "/quays", "CountQuays", "quays 7", []string{"Enter", "g"}},
		{"Perl", made(t, "perl", func(dir, port string) []string {
			return []string{dir + "/quays.pl", port, dir + "/quays.wsdl"}
		}) + "/quays?wsdl", "CountQuays", "quays 7", []string{"Enter", "g"}},
		{"Go", h.Plain + "/berths", "FindBerths", "2 × berth", []string{"Enter", "d", value, "g"}},
	} {
		t.Run(service.make, func(t *testing.T) {
			s := open(t, 120, 36, append([]string{"-C", t.TempDir()}, home(t)...))
			s.sees("Which service do you want to call?")
			s.tmux("set-buffer", "http://"+service.address)
			s.tmux("paste-buffer", "-p")
			assert.LessOrEqual(t, len(service.keys), 4)
			for i, k := range service.keys {
				if k == value {
					s.keys("Enter", "60", "Enter")
					continue
				}
				if s.keys(k); i == 0 {
					s.sees(service.asks)
				}
			}
			s.sees(service.answer)
		})
	}
}

// Who sends a call that a stand-in answers wrongly sees the reason with the same key, and its
// repair with the next.
func TestTenMisbehavioursAreExplainedAtOnce(t *testing.T) {
	for _, trial := range []struct{ id, says, repair string }{
		{"receive.unauthorized", "the server asks for HTTP authentication", "authenticate with HTTP basic"},
		{"receive.redirected", "sends the call to where it was made", ""},
		{"receive.media-type-refused", "media type", ""},
		{"receive.truncated", "the reply ended too early", ""},
		{"receive.bad-compression", "the reply cannot be decompressed", ""},
		{"read.fault-action", "action", ""},
		{"read.fault-version", "does not take this SOAP version", "use SOAP 1.2"},
		{"read.fault-security-missing", "found no security header", "send a user name token"},
		{"wait.closed", "closed the connection without an answer", ""},
		{"verify.invalid", "the reply breaks its own schema", ""},
	} {
		t.Run(trial.id, func(t *testing.T) {
			h, err := standin.Start(standin.Options{Misbehave: trial.id})
			require.NoError(t, err)
			defer h.Close()
			s := open(t, 120, 36, append([]string{"-C", t.TempDir()}, home(t)...))
			s.sees("Which service do you want to call?")
			s.tmux("set-buffer", "http://"+h.Plain+"/berths?wsdl")
			s.tmux("paste-buffer", "-p")
			s.keys("Enter")
			s.sees("FindBerths")
			s.keys("d", "Enter", "60", "Enter", "g") // five, and a value
			s.sees("attempt 1 · ", " after ", "in your program", trial.says, trial.repair)
		})
	}
}
