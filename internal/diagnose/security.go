package diagnose

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/soap"
	"orenda/internal/trust"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

func securityInDraft(c *Case) []exchange.Finding {
	if c.Imported || c.Draft == nil || c.Draft.Err() != nil {
		return nil
	}
	e := c.Draft.Envelope()
	if e == nil || e.Header.IsZero() {
		return nil
	}
	for h := range e.Header.Children() {
		actor, _ := h.Attr(e.Version.Namespace(), "actor")
		role, _ := h.Attr(e.Version.Namespace(), "role")
		if h.Name().Local != "Security" ||
			actor+role != c.Settings.Text("security-actor") { // one for another receiver stands beside it
			continue
		}
		set := c.Settings.Text("token") != "none"
		p := h.Find(h.Name().Space, "Password")
		password := !p.IsZero() && strings.TrimSpace(p.Text()) != ""
		switch {
		case set:
			return one(exchange.Finding{Title: "the draft carries its own security header, and a token is set as well",
				Why:      "Two security headers for the same receiver are refused by most services.",
				Evidence: []exchange.Evidence{c.inDraft(xmltree.Span{Start: h.Span().Start, End: h.Inner().Start})},
				Remedies: []exchange.Remedy{exchange.NewRemedy("set no token", c.changeHere("token", "none"))}})
		case password:
			return one(
				exchange.Finding{
					Title: "a password stands in the draft",
					Why:   "A draft is kept in clear; an identity is not.",
					Evidence: []exchange.Evidence{
						{
							In:      exchange.InDraft,
							Offset:  int64(h.Span().Start),
							Length:  1,
							Line:    1,
							Column:  1,
							Excerpt: "wsse:Security",
						},
					},
				},
			)
		}
	}
	return nil
}

// demands are what policies ask of this request.
func (c *Case) demands() contract.Demands {
	if c.Contract == nil {
		return nil
	}
	return c.Contract.DemandsOf(c.Port, c.Operation)
}

// Met tells whether the settings, and the address that is called, do what a demand
// asks for; known is false where that cannot be told from them.
func Met(d contract.Demand, s *endpoint.Settings, address string) (met, known bool) {
	switch d.Assertion.Local {
	case "UsernameToken":
		return s.Text("token") != "none", true
	case "IncludeTimestamp":
		return s.Text("timestamp") != "", true
	case "SignedParts":
		return s.Text("sign") != "", true
	case "EncryptedParts":
		return s.Text("encrypt") != "", true
	case "X509Token":
		return s.Text("sign") != "" || s.Text("client-cert")+s.Text("client-identity") != "", true
	case "TransportBinding":
		return strings.HasPrefix(strings.ToLower(address), "https:"), true
	case "Addressing", "UsingAddressing":
		return s.Text("addressing") != "none", true
	case "OptimizedMimeSerialization":
		return s.Text("attachments") == soap.MTOM, true
	case "HttpBasicAuthentication":
		return s.Text("http-auth") == "basic" || s.Text("http-auth") == "asked", true
	case "RequireClientCertificate":
		return s.Text("client-cert")+s.Text("client-identity") != "", true
	case "HttpDigestAuthentication":
		return s.Text("http-auth") == "digest" || s.Text("http-auth") == "asked", true
	case "RMAssertion", "ATAssertion", "SecureConversationToken", "SecurityContextToken", "SpnegoContextToken":
		return false, true
	case "SamlToken", "IssuedToken":
		return s.Text("token-file") != "" || s.Text("session") != "", true
	}
	return false, false
}

//revive:disable-next-line:cyclomatic one rule: what it is held against, and what it says
func tokenDemanded(c *Case) []exchange.Finding {
	if c.Contract == nil || c.Settings == nil || c.Fetch {
		return nil
	}
	kind := c.demands().Token()
	needToken := kind != "" && c.Settings.Text("token") == "none"
	needStamp := c.demands().Timestamp() && c.Settings.Text("timestamp") == ""
	signed, sealed := c.demands().Parts("SignedParts"), c.demands().Parts("EncryptedParts")
	needSign, needSeal := len(signed) > 0 &&
		c.Settings.Text("sign") == "", len(sealed) > 0 &&
		c.Settings.Text("encrypt") == ""
	if c.Draft != nil && c.Draft.Err() == nil {
		if e := c.Draft.Envelope(); e != nil && !e.Header.IsZero() {
			for h := range e.Header.Children() {
				if h.Name().Local == "Security" {
					return nil
				}
			}
		}
	}
	if !needToken && !needStamp && !needSign && !needSeal {
		return nil
	}
	var texts, met []string
	for _, d := range c.demands() {
		if yes, known := Met(d, c.Settings, c.address()); known && yes {
			met = append(met, d.Text)
		} else {
			texts = append(texts, d.Text)
		}
	}
	also := ""
	if len(met) > 0 {
		also = " Set up already: " + strings.Join(met, "; ") + "."
	}
	remedies := c.tokenRemedies(kind, needToken, needStamp)
	if needSign || needSeal {
		remedies = c.protectRemedies(signed, sealed, needSign, needSeal, needStamp)
	}
	return one(exchange.Finding{
		Title: "the contract demands a security token that is not set",
		Why:   "Its policy asks for " + strings.Join(texts, "; ") + "." + also,
		Evidence: []exchange.Evidence{
			{
				In:      exchange.InContract,
				Key:     c.Contract.Source,
				Length:  1,
				Line:    1,
				Column:  1,
				Excerpt: strings.Join(texts, "; "),
			},
		},
		Remedies: remedies,
		Program:  "let your program send " + strings.Join(texts, " and "),
	})
}

// algorithms are the settings that differ from those that the contract's suite asks
// for, of what is signed and encrypted.
func (c *Case) algorithms(sign, encrypt bool) (keys []string) {
	for key, want := range c.demands().Algorithms() {
		used := sign && key == "signature" || encrypt && strings.HasPrefix(key, "encrypt-") ||
			sign && encrypt && key == "protect-order"
		if used && c.Settings.Text(key) != want {
			keys = append(keys, key)
		}
	}
	slices.Sort(keys)
	return keys
}

func algorithmsDiffer(c *Case) []exchange.Finding {
	if c.Contract == nil || c.Settings == nil || c.Fetch || c.Imported {
		return nil
	}
	keys := c.algorithms(c.Settings.Text("sign") != "", c.Settings.Text("encrypt") != "")
	if len(keys) == 0 {
		return nil
	}
	want := c.demands().Algorithms()
	f := exchange.Finding{
		Title:   "the contract asks for other algorithms than those that are set",
		Program: "sign and encrypt as the policy says",
	}
	var words []string
	var changes []exchange.Change
	for _, key := range keys {
		words = append(
			words,
			fmt.Sprintf("%s %s where %s is set", endpoint.KeyOf(key).Label(), want[key], c.Settings.Text(key)),
		)
		changes = append(changes, c.changeHere(key, want[key]))
		f.Evidence = append(f.Evidence, c.inSettings(key, 0, 1))
	}
	f.Why = "Its policy asks for " + strings.Join(words, ", ") + "."
	f.Remedies = []exchange.Remedy{exchange.NewRemedy("set what the contract asks for", changes...)}
	return one(f)
}

// protectRemedies set up signing and encryption as far as they can be: they ask
// for the rest, which is who signs and who reads.
func (c *Case) protectRemedies(signed, sealed []string, needSign, needSeal, needStamp bool) []exchange.Remedy {
	var base []exchange.Change
	what := []string{}
	if needStamp {
		base = append(base, c.changeHere("timestamp", "5m"))
		what = append(what, "send a timestamp")
	}
	if needSign {
		if c.demands().Timestamp() {
			signed = append(signed, "timestamp")
		}
		base = append(base, c.changeHere("sign", signed))
		what = append(what, "sign "+strings.Join(signed, " and "))
	}
	if needSeal {
		base = append(base, c.changeHere("encrypt", sealed))
		what = append(what, "encrypt "+strings.Join(sealed, " and "))
	}
	for _, key := range c.algorithms(needSign || c.Settings.Text("sign") != "", needSeal ||
		c.Settings.Text("encrypt") != "") {
		base = append(base, c.changeHere(key, c.demands().Algorithms()[key]))
	}
	title := strings.Join(what, ", ")
	var out []exchange.Remedy
	for _, id := range c.Identities {
		if id.Certificate == nil || !needSign {
			continue
		}
		changes := append(slices.Clone(base), c.changeHere("sign-identity", id.Name))
		if place := c.place(); place != "" {
			changes = append(changes, exchange.Change{Where: "user", Key: "allow." + id.Name, To: place})
		}
		out = append(out, exchange.NewRemedy(title+", as "+id.Name, changes...))
	}
	if len(out) == 0 {
		out = append(out, exchange.NewRemedy(title, base...))
	}
	return out
}

// withNew are the identities that the person has, and one that is yet to be made.
func (c *Case) withNew() []Identity {
	return append(slices.Clone(c.Identities), Identity{Name: exchange.NewIdentity, User: exchange.NewIdentity})
}

// who is an identity in a title.
func who(id Identity) string {
	if id.Name == exchange.NewIdentity {
		return "a user that you type now"
	}
	return fmt.Sprintf("%s (%s)", id.Name, id.User)
}

// needOf is what must be typed before an identity can be used.
func needOf(id Identity) exchange.Need {
	if id.Name == exchange.NewIdentity {
		return exchange.NeedUser
	}
	return ""
}

// tokenRemedies set up a token for each identity that the person has, and for a new one.
func (c *Case) tokenRemedies(kind string, needToken, needStamp bool) []exchange.Remedy {
	var out []exchange.Remedy
	kinds := []string{kind}
	if kind == "" || kind == "none" {
		kinds = []string{"digest"}
		if u, err := url.Parse(c.address()); err == nil && u.Scheme == "https" {
			kinds = append(kinds, "text")
		}
	}
	if !needToken {
		return []exchange.Remedy{
			exchange.NewRemedy("send a timestamp that holds for 5 minutes", c.changeHere("timestamp", "5m")),
		}
	}
	u, err := url.Parse(c.address())
	for _, k := range kinds {
		for _, id := range c.withNew() {
			if id.User == "" {
				continue // it has a key, and no name to call by
			}
			changes := []exchange.Change{c.changeHere("identity", id.Name), c.changeHere("token", k)}
			if needStamp {
				changes = append(changes, c.changeHere("timestamp", "5m"))
			}
			r := exchange.Remedy{}
			if err == nil && u.Host != "" {
				host, port := endpoint.HostPort(u)
				changes = append(
					changes,
					exchange.Change{Where: "user", Key: "allow." + id.Name, To: u.Scheme + "://" + host + ":" + port},
				)
				r.Ask = fmt.Sprintf("the identity %s will be used at %s://%s:%s", id.Name, u.Scheme, host, port)
			}
			ask := r.Ask
			r = exchange.NewRemedy(
				fmt.Sprintf("send a user name token as %s, %s password", who(id), k),
				changes...)
			r.Ask, r.Needs = ask, needOf(id)
			out = append(out, r)
		}
	}
	return out
}

func identityUnknown(c *Case) []exchange.Finding {
	var e *endpoint.IdentityError
	if !errors.As(c.Err, &e) {
		return nil
	}
	f := exchange.Finding{
		Title: e.Error(),
		Why: "Identities are kept in your own configuration; you have " +
			orNone(strings.Join(e.Others, ", ")) + ".",
		Evidence: []exchange.Evidence{c.inSettings("identity", 0, len(e.Name))},
	}
	if e.Near != "" {
		f.Remedies = c.remedies("use "+e.Near, []string{"identity"}, e.Near)
	} else {
		for _, id := range c.Identities {
			f.Remedies = append(f.Remedies, c.remedies(fmt.Sprintf("use %s (%s)", id.Name, id.User),
				[]string{"identity"}, id.Name)...)
		}
	}
	return one(f)
}

// settingOf is the setting that names an identity.
func (c *Case) settingOf(identity string) string {
	for _, k := range endpoint.Keys {
		if k.OfPerson && c.Settings.Text(k.Name) == identity {
			return k.Name
		}
	}
	return "identity"
}

func identityHostNew(c *Case) []exchange.Finding {
	var e *endpoint.HostNewError
	if !errors.As(c.Err, &e) {
		return nil
	}
	to := fmt.Sprintf("%s://%s:%s", e.Scheme, e.Host, e.Port)
	r := exchange.NewRemedy(
		fmt.Sprintf("allow %s to be used at %s", e.Identity, to),
		exchange.Change{Where: "user", Key: "allow." + e.Identity, To: to},
	)
	r.Ask = fmt.Sprintf("the identity %s will be used at %s", e.Identity, to)
	return one(exchange.Finding{
		Title:    fmt.Sprintf("the identity %s has not been used at %s before", e.Identity, to),
		Why:      "A workspace may come from somebody else; an identity goes only to hosts that you allowed for it.",
		Evidence: []exchange.Evidence{c.inSettings(c.settingOf(e.Identity), 0, len(e.Identity))},
		Remedies: []exchange.Remedy{r},
	})
}

func secretUnavailable(c *Case) []exchange.Finding {
	var e *identity.UnavailableError
	if !errors.As(c.Err, &e) {
		return nil
	}
	return one(
		exchange.Finding{
			Title:    "the secret of " + e.Identity + " cannot be read",
			Why:      fmt.Sprintf("Its source is %s: %s.", e.Source, e.Why),
			Evidence: []exchange.Evidence{named("secret", "secret = "+e.Source)},
		},
	)
}

func secretLocked(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*identity.LockedError](c.Err)
	if !ok {
		return nil
	}
	return one(
		exchange.Finding{
			Title: "the secret of " + e.Identity + " is locked",
			Why: e.Error() + "; it is asked for once each time Orenda is started, or taken " +
				"from " + identity.PassphraseVariable +
				".",
			Evidence: []exchange.Evidence{named("secret", "secret = age:"+e.Path)},
		},
	)
}

func passwordTypeUnknown(c *Case) []exchange.Finding {
	var e *endpoint.ValueError
	if !errors.As(c.Err, &e) || e.Value.Key.Name != "token" {
		return nil
	}
	return one(exchange.Finding{
		Title: "the token's password type is neither text nor digest",
		Why: "The setting token names the type of the password (text or digest); the password itself belongs to " +
			"the identity.",
		Evidence: []exchange.Evidence{named("token", "token = (a value that is no type, not shown)")},
		Remedies: append(
			c.remedies("use a digest password", []string{"token"}, "digest"),
			c.remedies("use a text password", []string{"token"}, "text")...),
		Program: "set the password type to text or digest, and the password apart from it",
	})
}

func keyUnreadable(c *Case) []exchange.Finding {
	var e *endpoint.FileError
	if _, mismatch := errors.AsType[*trust.MismatchError](c.Err); mismatch || !errors.As(c.Err, &e) {
		return nil
	}
	if _, asks := errors.AsType[*endpoint.FileNewError](c.Err); asks {
		return nil
	}
	f := exchange.Finding{
		Title:    "the file " + e.Path + " cannot be used",
		Why:      e.Err.Error() + ".",
		Evidence: []exchange.Evidence{c.inSettings(e.Key.Name, 0, len(e.Path))},
	}
	if e.Key.Name == "trust" || e.Key.Name == "intermediates" {
		f.Stage = exchange.TLS
	}
	if p, ok := errors.AsType[*trust.PasswordError](c.Err); ok {
		f.Why += " The password is the secret of the client identity."
		for _, id := range c.Identities {
			if !p.Given || id.Name != c.Settings.Text("client-identity") {
				f.Remedies = append(
					f.Remedies,
					exchange.NewRemedy("open it with the secret of "+id.Name, c.changeHere("client-identity", id.Name)),
				)
			}
		}
	}
	return one(f)
}

// signerFailed tells that a key that cannot be read did not sign: for the message, or for TLS.
func signerFailed(c *Case) []exchange.Finding {
	e, is := errors.AsType[*trust.SignerError](c.Err)
	switch w := c.onWire("security.signer-failed"); {
	case !is && w == nil:
		return nil
	case !is:
		e = &trust.SignerError{Algorithm: "TLS", Err: w.Err}
	}
	f := exchange.Finding{
		Title: "the signer gives no signature",
		Why: fmt.Sprintf("It was asked for one by %s: %s. A program that signs is given what to sign on its standard "+
			"input, and writes the signature.", e.Algorithm, strings.TrimSuffix(e.Err.Error(), ".")),
		Evidence: []exchange.Evidence{c.inSettings("sign-identity", 0, 1)},
		Program:  "run the program that signs by hand; see whether the key is there, and the PIN is right",
	}
	if c.onWire("security.signer-failed") != nil {
		f.Stage = exchange.TLS
		f.Evidence = []exchange.Evidence{c.inSettings("client-identity", 0, 1)}
		if strings.HasPrefix(e.Algorithm, "rsa-pss-") {
			f.Why += " TLS 1.3 takes no other way to sign with RSA than PSS; TLS 1.2 does."
			f.Remedies = c.remedies("use TLS 1.2 at most", []string{"tls-max"}, "1.2")
		}
	}
	return one(f)
}

func signingKeyMissing(c *Case) []exchange.Finding {
	if !errors.Is(c.Err, endpoint.ErrNoSigningKey) {
		return nil
	}
	f := exchange.Finding{
		Title: "parts are to be signed, and no key is set",
		Why: "The setting sign names " + c.Settings.Text(
			"sign",
		) + "; neither an identity that signs nor a client certificate is set.",
		Evidence: []exchange.Evidence{
			c.inSettings("sign", 0, 1),
			c.inSettings("sign-identity", 0, 1),
		},
		Program: "give your program a key and its certificate to sign with",
	}
	for _, id := range c.Identities {
		if id.Certificate != nil {
			changes := []exchange.Change{c.changeHere("sign-identity", id.Name)}
			if place := c.place(); place != "" {
				changes = append(changes, exchange.Change{Where: "user", Key: "allow." + id.Name, To: place})
			}
			f.Remedies = append(f.Remedies, exchange.NewRemedy("sign as "+id.Name, changes...))
		}
	}
	return one(f)
}

func partMissing(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*wssec.PartError](c.Err)
	if !ok {
		return nil
	}
	key := "sign"
	if v, ok := errors.AsType[*endpoint.ValueError](c.Err); ok {
		key = v.Value.Key.Name
	}
	f := exchange.Finding{
		Title:    "the message has no " + e.Part + " that could be signed or encrypted",
		Why:      fmt.Sprintf("The setting %s names it.", key),
		Evidence: []exchange.Evidence{c.inSettings(key, 0, len(e.Part))},
	}
	switch e.Part {
	case "timestamp":
		f.Remedies = c.remedies("send a timestamp that holds for 5 minutes", []string{"timestamp"}, "5m")
	case "addressing":
		f.Remedies = c.remedies("send the headers of WS-Addressing 1.0", []string{"addressing"}, soap.Addressing10)
	}
	return one(f)
}

// ownSignatureWeak warns of what should not be used any more.
func ownSignatureWeak(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Fetch {
		return nil
	}
	var why, keys []string
	if c.Settings.Text("sign") != "" && c.Settings.Text("signature") == "sha1" {
		why, keys = append(why, "the signature is made with SHA-1"), append(keys, "signature")
	}
	if c.Settings.Text("encrypt") != "" {
		if strings.HasSuffix(c.Settings.Text("encrypt-data"), "cbc") {
			why, keys = append(why, "AES in CBC mode does not show whether it was changed on the way"), append(
				keys,
				"encrypt-data",
			)
		}
		if c.Settings.Text("encrypt-key") == "rsa-1_5" {
			why, keys = append(why, "RSA 1.5 lets an attacker who can ask often read the key"), append(
				keys,
				"encrypt-key",
			)
		}
	}
	if len(why) == 0 {
		return nil
	}
	f := exchange.Finding{Title: "what protects the message is weak", Why: strings.Join(why, "; ") + "."}
	for _, k := range keys {
		f.Evidence = append(f.Evidence, c.inSettings(k, 0, len(c.Settings.Text(k))))
	}
	return one(f)
}

func keyMismatch(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*trust.MismatchError](c.Err)
	if !ok {
		return nil
	}
	return one(exchange.Finding{
		Title: "private key and client certificate do not belong together",
		Why: fmt.Sprintf(
			"The public key in the certificate of %s is not that of the private key.",
			cut(e.Cert.Subject.String(), 80),
		),
		Evidence: []exchange.Evidence{c.inSettings("client-cert", 0, 1), c.inSettings("client-key", 0, 1)},
		Program: "give your program the certificate that was issued for its key, or the key that the certificate " +
			"was asked for with",
	})
}

func ownCertificateExpired(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*endpoint.CertificateDateError](c.Err)
	if !ok {
		return nil
	}
	return one(exchange.Finding{
		Title: "your client certificate is outside its dates",
		Why: fmt.Sprintf(
			"%s: %s; this machine's clock says %s.",
			cut(e.Subject, 80),
			e.Why,
			c.Now.UTC().Format("2006-01-02 15:04 UTC"),
		),
		Evidence: []exchange.Evidence{c.inSettings(e.Key.Name, 0, 1)},
		Program:  "have the certificate renewed; the service would refuse it",
	})
}

func ownCertificateUnfit(c *Case) []exchange.Finding {
	if c.Unfit == "" || c.Err != nil && c.Settings == nil {
		return nil
	}
	if _, ok := errors.AsType[*endpoint.CertificateDateError](c.Err); ok {
		return nil
	}
	return one(exchange.Finding{
		Title:    "your client certificate is probably not made for clients",
		Why:      "Of its uses: " + c.Unfit + ". Most services refuse it.",
		Evidence: []exchange.Evidence{c.inSettings("client-cert", 0, 1)},
		Program:  "have a certificate issued with the use clientAuth",
	})
}

func secretUnverified(c *Case) []exchange.Finding {
	if !errors.Is(c.Err, endpoint.ErrSecretUnverified) {
		return nil
	}
	return one(exchange.Finding{
		Title: "no secret is sent to a server whose certificate is not looked at",
		Why: "Any certificate is accepted for this call, so anybody may answer it; and it would carry a token " +
			"or HTTP authentication.",
		Evidence: []exchange.Evidence{c.inSettings("token", 0, 1), c.inSettings("http-auth", 0, 1)},
		Program:  "never switch the checking of certificates off; trust the right one",
	})
}

// fileNew is a file outside the workspace, at the stage that needs it.
func fileNew(stage exchange.Stage) func(*Case) []exchange.Finding {
	return func(c *Case) []exchange.Finding {
		e, ok := errors.AsType[*endpoint.FileNewError](c.Err)
		_, attached := errors.AsType[*AttachmentMissingError](c.Err)
		if !ok || attached != (stage == exchange.Message) {
			return nil
		}
		setting := "attach"
		if f, ok := errors.AsType[*endpoint.FileError](c.Err); ok {
			setting = f.Key.Name
		}
		r := exchange.NewRemedy(
			"allow this workspace to read "+e.Path,
			exchange.Change{Where: "user", Key: "allow.file", To: e.Path},
		)
		r.Ask = "what is in that file may be sent with your calls"
		return one(exchange.Finding{
			Title:    "the file lies outside the workspace",
			Why:      "A workspace may come from somebody else. It reads " + e.Path + " only if you allow it.",
			Evidence: []exchange.Evidence{c.inSettings(setting, 0, 1)},
			Remedies: []exchange.Remedy{r},
		})
	}
}

func keyLogNew(c *Case) []exchange.Finding {
	e, ok := errors.AsType[*endpoint.KeyLogNewError](c.Err)
	if !ok {
		return nil
	}
	r := exchange.NewRemedy(
		"allow this workspace to write keys to "+e.Path,
		exchange.Change{Where: "user", Key: "allow.key-log", To: e.Path},
	)
	r.Ask = "whoever reads that file can read everything that crosses"
	return one(
		exchange.Finding{
			Title:    "the key log was not allowed for this workspace before",
			Why:      "A workspace may come from somebody else; it writes no keys unless you allow it.",
			Evidence: []exchange.Evidence{c.inSettings("key-log", 0, len(e.Path))},
			Remedies: []exchange.Remedy{r},
		},
	)
}

func clearText(c *Case) []exchange.Finding {
	if c.Settings == nil || c.Settings.Text("token") != "text" {
		return nil
	}
	u, err := url.Parse(c.address())
	if err != nil || u.Scheme != "http" {
		return nil
	}
	if h := u.Hostname(); h == "localhost" || strings.HasPrefix(h, "127.") || h == "::1" {
		return nil
	}
	return one(exchange.Finding{
		Title:    "the password would travel in the clear",
		Why:      "A text password over http can be read by everybody on the way.",
		Evidence: []exchange.Evidence{c.inSettings("token", 0, 4), c.inSettings("address", 0, 4)},
		Remedies: c.remedies("send a digest instead", []string{"token"}, "digest"),
		Program:  "use https, or a digest password",
	})
}
