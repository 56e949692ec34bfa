package diagnose

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"orenda/internal/exchange"
	"orenda/internal/pattern"
)

// The checks that can decide between hypotheses. Each is cheap, carries no
// message and no secret, and is made only when the person asks for it.
const (
	CheckLookup      = "lookup"      // other names are looked up
	CheckPorts       = "ports"       // other ports of the host are dialled
	CheckNames       = "names"       // the server is asked for other names
	CheckVersions    = "versions"    // the server is asked for each version of TLS
	CheckProtocol    = "protocol"    // the port is asked with TLS, or without
	CheckDescription = "description" // the service's description is fetched
	CheckListener    = "listener"    // the listener for an answer is called from this machine
)

// CheckWords says what a check does.
//
//nolint:gochecknoglobals // a table: it is never written to
var CheckWords = map[string]string{
	CheckLookup: "looks other names up", CheckPorts: "dials other ports of the host", CheckNames: "asks the server " +
		"for other names", CheckVersions: "asks for each version of TLS",
	CheckProtocol: "asks the port the other way, with or without TLS", CheckDescription: "fetches the service's " +
		"description", CheckListener: "calls the listener for the answer from this machine",
}

type hypothesis = exchange.Hypothesis

// couldBe is what may be behind a finding that is seen and not its reason.
func (c *Case) hypothesesOf(id string) []hypothesis {
	all := slices.Clone(hypotheses[id])
	if l := c.leg(); id == "receive.not-soap" && l != nil && logIn.MatchString(quoteTitle(l.ResponseBody.Bytes())) {
		slices.Reverse(all) // its title says so
	}
	if strings.HasPrefix(id, "read.fault-security-") && id != "read.fault-security-missing" {
		all = append(c.ofTheToken(), all...)
	}
	if id == "wait.answer-missing" && (c.Later == nil || len(c.Later.Seen) > 0) { // it was reached
		return nil
	}
	if c.Fetch { // what is asked for is the description itself
		all = slices.DeleteFunc(all, func(p hypothesis) bool { return p.Check == CheckDescription })
	}
	return all
}

// logIn is what the titles of pages say that ask who comes.
var logIn = pattern.New(`(?i)log[- ]?in|log[- ]?on|sign[- ]?in|anmeld|connexion|acceso|inloggen`)

// ofTheToken is what is seen to be odd about a token that was refused.
func (c *Case) ofTheToken() (out []hypothesis) {
	odd := func(id, cause, answer string) {
		out = append(
			out,
			hypothesis{ID: id, Cause: cause, Predicts: answer, Verdict: exchange.Confirmed, Answer: answer},
		)
	}
	if c.SecretHasSpaces {
		odd(
			"white-space",
			"the password has white space that is no part of it",
			"the secret begins or ends with white space, which is sent",
		)
	}
	if nonce := c.Settings.Text("token-nonce"); nonce != "new" && nonce != "none" && nonce != "" {
		if _, err := base64.StdEncoding.DecodeString(nonce); err != nil {
			odd("nonce", "the nonce is not base64", "token-nonce is set to what cannot be decoded")
		}
	}
	if h := c.response(); h != nil {
		if theirs, err := http.ParseTime(h.Get("Date")); err == nil {
			offset, _ := time.ParseDuration(c.Settings.Text("clock-offset"))
			if d := c.X.Started.Add(offset).Sub(theirs).Round(time.Second); d.Abs() > maxApartClocks {
				odd(
					"clock",
					"the clocks differ, and the token's time is outside the service's window",
					fmt.Sprintf(
						"the reply's Date says %s; the token was made %s from that",
						theirs.UTC().Format("15:04:05 UTC"),
						d,
					),
				)
			}
		}
	}
	return out
}

// maxApartClocks is how far a token's time may be from the service's before it is
// suspected.
const maxApartClocks = time.Minute

// LooksLikeLogIn tells whether a page asks who comes.
func LooksLikeLogIn(page []byte) bool { return logIn.MatchString(quoteTitle(page)) }

var (
	//nolint:gochecknoglobals // a table: it is never written to
	serviceDown = hypothesis{
		ID:       "service-down",
		Cause:    "the service does not run now",
		Predicts: "its description cannot be had either",
		Check:    CheckDescription,
	}
	//nolint:gochecknoglobals // a table: it is never written to
	thisMessage = hypothesis{
		ID:       "this-message",
		Cause:    "the service runs, and this message is too much for it",
		Predicts: "its description can be had",
		Check:    CheckDescription,
	}
	//nolint:gochecknoglobals // a table: it is never written to
	changed = hypothesis{
		ID:       "contract-changed",
		Cause:    "the service has another description than the one that is kept here",
		Predicts: "fetched again, it says something else",
		Check:    CheckDescription,
	}
	//nolint:gochecknoglobals // a table: it is never written to
	otherPath = hypothesis{
		ID:       "other-path",
		Cause:    "the service is at another address",
		Predicts: "its description names another",
		Check:    CheckDescription,
	}
	//nolint:gochecknoglobals // a table: it is never written to
	otherPort = hypothesis{
		ID:       "other-port",
		Cause:    "the service listens on another port",
		Predicts: "another port of the host answers",
		Check:    CheckPorts,
	}
	//nolint:gochecknoglobals // a table: it is never written to
	noPort = hypothesis{
		ID:       "host-silent",
		Cause:    "nothing runs on that host",
		Predicts: "no other port answers either",
		Check:    CheckPorts,
	}
	//nolint:gochecknoglobals // a table: it is never written to
	otherName = hypothesis{
		ID:       "other-name",
		Cause:    "the server shows another certificate to those who ask for another name",
		Predicts: "asked for other names, it shows others",
		Check:    CheckNames,
	}
	//nolint:gochecknoglobals // a table: it is never written to
	otherVersion = hypothesis{
		ID:       "other-version",
		Cause:    "the server speaks only TLS versions that are not offered",
		Predicts: "asked for each alone, it speaks one",
		Check:    CheckVersions,
	}
	//nolint:gochecknoglobals // a table: it is never written to
	plainPort = hypothesis{
		ID:       "plain-port",
		Cause:    "the port speaks no TLS",
		Predicts: "plain HTTP is answered there",
		Check:    CheckProtocol,
	}
	//nolint:gochecknoglobals // a table: it is never written to
	tlsPort = hypothesis{
		ID:       "tls-port",
		Cause:    "the port speaks TLS, and was called without",
		Predicts: "a TLS handshake is answered there",
		Check:    CheckProtocol,
	}
	//nolint:gochecknoglobals // a table: it is never written to
	inspected = hypothesis{
		ID:       "inspected",
		Cause:    "something between opens TLS with a certificate of its own",
		Predicts: "other servers show the same issuer",
	}
	//nolint:gochecknoglobals // a table: it is never written to
	dropped = hypothesis{
		ID:       "dropped",
		Cause:    "a firewall between drops what is sent",
		Predicts: "from another network it answers",
	}
)

// hypotheses are those of each finding, the commonest first.
//
//nolint:gochecknoglobals // a table: it is never written to
var hypotheses = map[string][]hypothesis{
	"connect.name-unknown": {
		{
			ID:       "misspelt",
			Cause:    "the name is misspelt, or is not known in this network",
			Predicts: "other names are found",
			Check:    CheckLookup,
		},
		{
			ID:       "no-lookup",
			Cause:    "this machine can look nothing up now",
			Predicts: "other names are not found either",
			Check:    CheckLookup,
		},
		{ID: "passing", Cause: "it failed this once", Predicts: "the name is found now", Check: CheckLookup},
	},
	"connect.refused":   {otherPort, noPort},
	"connect.timed-out": {dropped, otherPort, noPort},
	"connect.unreachable": {
		{
			ID:       "other-network",
			Cause:    "this machine is not in the network of the service",
			Predicts: "others in that network reach it",
		},
		{ID: "proxy", Cause: "calls must go through a proxy", Predicts: "other programs here use one"},
	},

	"tls.closed":          {otherName, otherVersion, plainPort, dropped},
	"tls.timed-out":       {plainPort, dropped},
	"tls.not-tls":         {plainPort, otherPort},
	"tls.version-refused": {otherVersion, plainPort},
	"tls.cipher-refused": {
		otherVersion,
		{
			ID:       "ciphers",
			Cause:    "the server accepts none of the cipher suites that are offered",
			Predicts: "an older TLS version with its suites is accepted",
			Check:    CheckVersions,
		},
	},
	"tls.alert": {otherVersion, otherName},
	"tls.name-differs": {
		otherName,
		{
			ID:       "other-server",
			Cause:    "the address leads to another server",
			Predicts: "it shows the same certificate whatever it is asked for",
			Check:    CheckNames,
		},
	},
	"tls.self-signed":       {otherName, inspected},
	"tls.authority-unknown": {inspected, otherName},
	"tls.name-unrecognized": {otherName},
	"send.reset":            {thisMessage, tlsPort, serviceDown},
	"wait.closed":           {tlsPort, thisMessage, serviceDown},
	"wait.answer-missing": {
		{
			ID:       "not-reached",
			Cause:    "the service cannot reach the address that the message names",
			Predicts: "called from this machine it leads to nothing, or to another program",
			Check:    CheckListener,
		},
		{
			ID:       "slow-answer",
			Cause:    "the service answers later than is waited for",
			Predicts: "with a longer answer-time it comes",
		},
	},
	"wait.timed-out": {
		{
			ID:       "slow",
			Cause:    "the service takes longer than is allowed",
			Predicts: "its description comes at once",
			Check:    CheckDescription,
		},
		serviceDown,
	},
	"receive.not-http":       {tlsPort, otherPort},
	"receive.not-found":      {otherPath, serviceDown},
	"receive.method-refused": {otherPath},
	"receive.not-soap": {
		otherPath,
		{
			ID:       "log-in",
			Cause:    "a log-in page or a firewall stands before the service",
			Predicts: "the description cannot be had either",
			Check:    CheckDescription,
		},
	},
	"receive.gateway":      {serviceDown, thisMessage},
	"receive.server-error": {thisMessage, serviceDown},
	"receive.stalled":      {thisMessage, dropped},
	"receive.truncated": {
		thisMessage,
		{
			ID:       "cut-between",
			Cause:    "a proxy between has a limit of its own",
			Predicts: "it ends at the same byte each time",
		},
	},
	"read.empty":           {thisMessage, otherPath},
	"read.not-envelope":    {otherPath},
	"read.fault-operation": {changed, otherPath},
	"read.fault-action":    {changed, otherPath},
	"read.fault-client": {
		{
			ID:       "value",
			Cause:    "a value is one that the service does not take",
			Predicts: "with values that are known to be good it passes",
		},
		changed,
	},
	"read.fault-server": {thisMessage, changed},
	"read.fault-security-refused": {
		{
			ID:       "password",
			Cause:    "the user or the password is wrong",
			Predicts: "another program with the same user is refused too",
		},
		{
			ID:       "password-type",
			Cause:    "the service wants the other password type",
			Predicts: "with the other of text and digest it passes",
		},
		{
			ID:       "rights",
			Cause:    "the user may not call this operation",
			Predicts: "the same user may call another operation",
		},
	},
	"verify.reply-differs": {changed},
	"verify.invalid":       {changed},
}
