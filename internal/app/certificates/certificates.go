// Package certificates is the view of trust: the chain that an endpoint shows,
// from the leaf to the root, what this endpoint trusts, and what ends soonest.
package certificates

import (
	"context"
	"crypto/x509"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/app/ui"
	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/marks"
	"orenda/internal/safe"
	"orenda/internal/trust"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

// View is the view.
type View struct {
	s       *state.State
	end     string
	cursor  int
	preview ui.Preview
	expiry  []workspace.Expiry
	listed  []listed
}

// listed is a certificate on the endpoint's trust list.
type listed struct {
	file string
	cert *x509.Certificate
	also []string // endpoints that trust the same
}

// New makes the view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool { return v.preview.Active }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	if v.preview.Active {
		return v.preview.Keys()
	}
	c, l := v.at()
	sent, more := v.rows()
	return []ui.Key{
		ui.Shown("up down", "↑↓", "certificate"),
		ui.On("[ ]", "[ ]", "endpoint", v.next),
		ui.On("f", "f", "fetch the chain", ui.Do(func() { v.s.FetchChain(v.end) })).If(v.end != ""),
		ui.On("m", "m", "find out whether it was revoked",
			ui.Do(func() { v.s.AskStanding(v.end) })).If(v.end != "" && len(sent) > 0),
		ui.On("enter", "⏎", "trust it", ui.Do(func() { v.trust(c) })).If(c != nil && l == nil),
		ui.On("*", "*", "pin its key", ui.Do(func() { v.pin(c) })).If(c != nil),
		ui.On("X", "X", "stop trusting it", ui.Do(func() { v.distrust(c) })).If(c != nil),
		ui.On("W", "W", "save it as a file", ui.Asks(func() tea.Cmd { return v.write(c, sent) })).If(c != nil),
		ui.Shown("?", "?", "help"),
		ui.On("w", "w", "write a drawing of the chain",
			ui.Asks(func() tea.Cmd { return v.drawing(sent, more) })).InHelp().If(c != nil),
		ui.Shown("y", "y", "copy it (PEM)").InHelp(),
		ui.On("!", "!", "accept anything, for the next call only",
			ui.Do(func() { v.s.SkipVerify = !v.s.SkipVerify })).InHelp(),
		ui.On("esc", "esc", "path", state.To("path")).InHelp(),
	}
}

// Open implements the application's opener.
func (v *View) Open() tea.Cmd {
	if v.s.Chosen.Endpoint != "" {
		v.end = v.s.Chosen.Endpoint
	}
	v.cursor = 0
	v.s.Stale("file trust ")
	return nil
}

// read reads what is on disk, once for each endpoint and change.
func (v *View) read() {
	if v.end == "" || v.s.W.Endpoint(v.end) == nil {
		v.end = ""
		if len(v.s.W.Config().Endpoints) > 0 {
			v.end = v.s.W.Config().Endpoints[0].Name
		}
	}
	set := v.s.W.Settings(v.end)
	key := v.end + "\x00" + set.Text("trust") + "\x00" + set.Text("pin")
	w, end := v.s.W, v.end
	read := state.Known(
		v.s,
		"file trust "+key,
		func(context.Context) onDisk { return readTrust(w, end, set.List("trust")) },
	)
	v.expiry, v.listed = read.expiry, read.listed
}

// onDisk is what was read of an endpoint's certificates.
type onDisk struct {
	expiry []workspace.Expiry
	listed []listed
}

func readTrust(w *workspace.Workspace, end string, files []string) onDisk {
	out := onDisk{expiry: w.Expiring()}
	for _, f := range files {
		b, err := w.ReadFile(f)
		if err != nil {
			continue
		}
		certs, _ := trust.Read(b)
		for _, c := range certs {
			l := listed{file: f, cert: c}
			for _, e := range out.expiry {
				if e.What == "trusted" && e.Cert.Equal(c) {
					l.also = slices.DeleteFunc(slices.Clone(e.UsedBy), func(n string) bool { return n == end })
				}
			}
			out.listed = append(out.listed, l)
		}
	}
	return out
}

// rows are the certificates under the cursor: those of the chain, then those
// of the trust list.
func (v *View) rows() (sent, more []*x509.Certificate) { return state.Certificates(v.s.Chain(v.end)) }

func (v *View) at() (c *x509.Certificate, l *listed) {
	sent, more := v.rows()
	chain := append(slices.Clone(sent), more...)
	v.cursor = min(max(v.cursor, 0), max(len(chain)+len(v.listed)-1, 0))
	if v.cursor < len(chain) {
		return chain[v.cursor], nil
	}
	if i := v.cursor - len(chain); i < len(v.listed) {
		return v.listed[i].cert, &v.listed[i]
	}
	return nil, nil
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	v.read()
	if v.preview.Active {
		if k, ok := msg.(tea.KeyPressMsg); ok && v.preview.Press(k) {
			if err := v.s.Change(v.preview.Changes...); err != nil {
				v.s.Say("%v", err)
			} else {
				v.s.Say("done; g sends the call")
			}
			v.s.Stale("file trust ")
		}
		return nil
	}
	sent, more := v.rows()
	v.cursor += ui.Rows(msg, 10, len(sent)+len(more)+len(v.listed))
	v.at()
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), k)
	}
	return nil
}

// Copies implements ui.Copier.
func (v *View) Copies() []ui.Copy {
	c, _ := v.at()
	if c == nil {
		return nil
	}
	return []ui.Copy{
		ui.Text("the certificate (PEM)", string(trust.PEM(c))),
		ui.Text("its SHA-256 fingerprint", trust.Fingerprint(c)),
		ui.Text("its subject", c.Subject.String()),
	}
}

// next goes to the endpoint before or after.
func (v *View) next(k tea.KeyPressMsg) tea.Cmd {
	n := len(v.s.W.Config().Endpoints)
	if n == 0 {
		return nil
	}
	i := slices.IndexFunc(v.s.W.Config().Endpoints, func(e *workspace.Endpoint) bool { return e.Name == v.end })
	d := 1
	if ui.Is(k, "[") {
		d = n - 1
	}
	v.end = v.s.W.Config().Endpoints[(max(i, 0)+d)%n].Name
	v.cursor = 0
	v.s.Stale("file trust ")
	v.read()
	return nil
}

func (v *View) change(key string, to any) exchange.Change {
	set := v.s.W.Settings(v.end)
	ch := exchange.Change{Where: "workspace", Key: "endpoint." + v.end + "." + key, To: to}
	if t := set.Text(key); t != "" {
		ch.From = t
	}
	return ch
}

func (v *View) trust(c *x509.Certificate) {
	what := "Trust this certificate, and no other, at " + v.end
	if c.IsCA {
		what = "Trust this authority at " + v.end + ": whatever it signed is trusted too"
	}
	v.preview.Show(
		what,
		[]exchange.Change{v.change("trust", string(trust.PEM(c)))},
		compare("its SHA-256", trust.Fingerprint(c))...)
}

func (v *View) pin(c *x509.Certificate) {
	set := v.s.W.Settings(v.end)
	v.preview.Show(
		"Pin this public key at "+v.end+": a renewed certificate with the same key is trusted too",
		[]exchange.Change{v.change("pin", append(slices.Clone(set.List("pin")), trust.PublicKeyPin(c)))},
		compare("the public key's SHA-256", trust.PublicKeyPin(c))...)
}

func compare(what, hash string) []string {
	return append(
		[]string{"", "compare " + what + " with one that the service's people give you:"},
		strings.Split(trust.Grouped(hash), " ")...)
}

func (v *View) distrust(c *x509.Certificate) {
	set := v.s.W.Settings(v.end)
	var changes []exchange.Change
	keep, notes := []string{}, []string{}
	for _, f := range set.List("trust") {
		of := slices.DeleteFunc(slices.Clone(v.listed), func(l listed) bool { return l.file != f })
		if !slices.ContainsFunc(of, func(l listed) bool { return l.cert.Equal(c) }) {
			keep = append(keep, f)
		} else if n := len(of) - 1; n > 0 {
			notes = append(notes, fmt.Sprintf("%s holds %d more, which will not be trusted here either; the file "+
				"stays", f, n))
		}
	}
	if len(keep) < len(set.List("trust")) {
		changes = append(changes, v.change("trust", keep))
	}
	pins := slices.DeleteFunc(
		slices.Clone(set.List("pin")),
		func(p string) bool { return trust.SameFingerprint(p, trust.PublicKeyPin(c)) },
	)
	if len(pins) < len(set.List("pin")) {
		changes = append(changes, v.change("pin", pins))
	}
	if len(changes) == 0 {
		v.s.Say("it is not on the trust list of %s", v.end)
		return
	}
	v.preview.Show("Stop trusting "+c.Subject.CommonName+" at "+v.end, changes, notes...)
}

func (v *View) write(c *x509.Certificate, sent []*x509.Certificate) tea.Cmd {
	name := safe.FileName(c.Subject.CommonName) + ".pem"
	return state.AskFor("write it to (.pem, .der, .p7b; a name with + adds it to a bundle)", name, func(name string) {
		m := &trust.Material{Certs: []*x509.Certificate{c}}
		if bundle, ok := strings.CutPrefix(name, "+"); ok {
			old, err := os.ReadFile(bundle)
			if err != nil && !os.IsNotExist(err) {
				v.s.Say("%v", err)
				return
			}
			out, added, err := trust.AppendBundle(old, c)
			if err == nil {
				err = user.WriteFile(bundle, out)
			}
			v.said(err, "%d certificates added to %s", added, bundle)
			return
		}
		f := trust.FormatOf(name)
		if f == trust.PKCS7 {
			m.Certs = sent
		}
		b, err := m.Write(f, "")
		if err == nil {
			err = user.WriteNew(name, b)
		}
		v.said(err, "written: %s", name)
	})
}

func (v *View) drawing(sent, more []*x509.Certificate) tea.Cmd {
	x := v.s.Chain(v.end)
	if x == nil || len(sent) == 0 {
		v.s.Say("no chain was seen here yet: f fetches the chain first")
		return nil
	}
	return v.s.AskDrawing("chain-"+safe.FileName(v.end), func() (state.Drawing, error) {
		all := append(slices.Clone(sent), more...)
		return draw.Chain("The chain of "+v.end, all, len(sent), x.Findings, time.Now()), nil
	})
}

func (v *View) said(err error, format string, args ...any) {
	if err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.Say(format, args...)
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	v.read()
	if v.preview.Active {
		return v.preview.View(w, h)
	}
	x := v.s.Chain(v.end)
	sent, more := v.rows()
	chosen, l := v.at()
	title := ui.Strong("trust") + "   " + ui.Strong(ui.Cut(v.end, 40))
	if v.end != "" {
		if a, err := v.s.W.Resolved(v.end, v.s.Environment); err == nil {
			title += ui.Soft("   " + ui.Cut(a, w/2))
		}
	}
	out := []string{"", "   " + title, ""}
	if len(sent) == 0 {
		out = append(
			out,
			"   "+ui.Soft("no handshake was seen here yet: ")+ui.Strong("f")+ui.Soft(
				" fetches the chain, and sends nothing",
			),
			"",
		)
	}
	now := time.Now()
	from, until := spanOf(append(slices.Clone(sent), more...), now)
	for i, c := range append(slices.Clone(sent), more...) {
		kind := "server"
		switch {
		case i >= len(sent):
			kind = "not sent; completes the chain"
		case i > 0:
			kind = "sent along"
		}
		out = append(out, v.line(i, c, kind, from, until, now, w, wrong(x, i)))
	}
	if x != nil && len(sent) > 0 {
		out = append(out, "")
		out = append(out, verdict(x, w)...)
	}
	if len(v.listed) > 0 {
		out = append(out, "", "   "+ui.Soft("trusted here"))
		for i, t := range v.listed {
			tail := t.file
			if len(t.also) > 0 {
				tail += ", and by " + strings.Join(t.also, ", ")
			}
			out = append(out, v.line(len(sent)+len(more)+i, t.cert, tail, from, until, now, w, false))
		}
	}
	if chosen != nil {
		out = append(out, "")
		out = append(out, details(chosen, l, v.s.Standing(v.end, chosen), w)...)
	}
	if room := h - len(out) - 3; room > 0 && len(v.expiry) > 0 {
		out = append(out, "", "   "+ui.Soft("ends soonest"))
		for i, e := range v.expiry {
			if i == min(room, 5) {
				break
			}
			left := ui.Pad(trust.Left(e.Cert, now), 20)
			if e.Cert.NotAfter.Sub(now) < 30*24*time.Hour {
				left = ui.Accent(left)
			} else {
				left = ui.Soft(left)
			}
			out = append(
				out,
				"   "+ui.Soft(e.Cert.NotAfter.UTC().Format("2006-01-02"))+"  "+left+ui.Fit(
					e.Cert.Subject.CommonName,
					30,
				)+" "+ui.Soft(ui.Cut(e.What+": "+strings.Join(e.UsedBy, ", "), w-72)),
			)
		}
	}
	return ui.Block(out, w, h)
}

func spanOf(certs []*x509.Certificate, now time.Time) (from, until time.Time) {
	from, until = now, now
	for _, c := range certs {
		if c.NotBefore.Before(from) {
			from = c.NotBefore
		}
		if c.NotAfter.After(until) {
			until = c.NotAfter
		}
	}
	return from, until
}

// wrong tells whether a finding points at the i-th certificate.
func wrong(x *exchange.Exchange, i int) bool {
	if x == nil {
		return false
	}
	for _, f := range x.Findings {
		for _, e := range f.Evidence {
			if e.In == exchange.InCertificate && e.Line == i+1 {
				return true
			}
		}
	}
	return false
}

const barWidth = 36

// line is one certificate with its dates as a bar against today.
func (v *View) line(i int, c *x509.Certificate, kind string, from, until, now time.Time, w int, bad bool) string {
	lead, tick := "   ", marks.Passed+" "
	name := c.Subject.CommonName
	if name == "" {
		name = c.Subject.String()
	}
	nw := max(min(w/4, 38), 16)
	text := ui.Fit(name, nw)
	if i == v.cursor {
		lead, text = ui.Accent(" ▌ "), ui.Strong(text)
	}
	if bad {
		tick = ui.Accent(marks.Stopped + " ")
	}
	bar := ""
	if w > 110 {
		span := until.Sub(from)
		cell := func(t time.Time) int {
			if span <= 0 {
				return 0
			}
			return min(max(int(float64(t.Sub(from))/float64(span)*barWidth), 0), barWidth-1)
		}
		for n := range barWidth {
			switch {
			case n == cell(now):
				bar += ui.Accent("│")
			case n >= cell(c.NotBefore) && n <= cell(c.NotAfter):
				bar += "━"
			default:
				bar += ui.Soft("┄")
			}
		}
		bar = "  " + bar
	}
	left := trust.Left(c, now)
	if now.After(c.NotAfter) || now.Before(c.NotBefore) {
		left = ui.Accent(ui.Pad(left, 20))
	} else {
		left = ui.Soft(ui.Pad(left, 20))
	}
	return lead + tick + text + bar + "  " + left + ui.Soft(ui.Cut(kind, max(w-nw-30-ui.Width(bar), 4)))
}

// verdict says whether the chain is trusted, and why.
func verdict(x *exchange.Exchange, w int) []string {
	var out []string
	if t := x.Leg().Conn.TLS; t.Trusted != "" {
		out = append(out, "   "+ui.Good("trusted")+"  "+ui.Cut(t.Trusted, w-14))
	}
	for _, f := range x.Findings {
		if f.Stage != exchange.TLS {
			continue
		}
		title := ui.Strong(ui.Cut(f.Title, w-10))
		if f.Severity == exchange.Stop {
			title = ui.Accent(ui.Cut(f.Title, w-10))
		}
		out = append(out, "   "+title)
		for _, l := range ui.Wrap(f.Why, w-10) {
			out = append(out, "   "+l)
		}
	}
	return out
}

func details(c *x509.Certificate, l *listed, standing *exchange.Standing, w int) []string {
	var out []string
	row := func(label, value string) {
		if value == "" {
			return
		}
		for i, part := range ui.Wrap(value, w-22) {
			if i > 0 {
				label = ""
			}
			if i == 4 {
				break
			}
			out = append(out, "   "+ui.Pad(ui.Soft(label), 15)+part)
		}
	}
	row("subject", c.Subject.String())
	row("issued by", c.Issuer.String())
	row("for", strings.Join(trust.Names(c), ", "))
	row("valid", c.NotBefore.UTC().Format("2006-01-02 15:04")+" to "+c.NotAfter.UTC().Format("2006-01-02 15:04 UTC"))
	if standing != nil {
		row("standing", standing.String())
	}
	row("key", trust.KeyWords(c)+", signed with "+c.SignatureAlgorithm.String())
	row("uses", trust.Uses(c))
	row("serial", c.SerialNumber.Text(16))
	row("SHA-256", trust.Grouped(trust.Fingerprint(c)))
	row("SHA-1", trust.Grouped(trust.FingerprintSHA1(c)))
	row("public key", trust.Grouped(trust.PublicKeyPin(c)))
	if l != nil {
		row("file", l.file)
	}
	return out
}
