// Package identities is the view of who the person is towards services: names,
// where their secrets come from, certificates, and where each may go.
package identities

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
	"orenda/internal/identity"
	"orenda/internal/trust"
)

// View is the view.
type View struct {
	s      *state.State
	cursor int
	all    []*identity.Identity
	why    error // why they cannot be read
}

// edited tells that the person's own editor ended.
type edited struct{ err error }

// New makes the view.
func New(s *state.State) *View { return &View{s: s} }

// Typing implements ui.View.
func (v *View) Typing() bool { return false }

// Keys implements ui.View.
func (v *View) Keys() []ui.Key {
	one := len(v.all) > 0
	return []ui.Key{
		ui.Shown("up down", "↑↓", "choose"),
		ui.On("enter", "⏎", "change it", ui.Asks(v.change)).If(one),
		ui.On("a", "a", "add", ui.Asks(func() tea.Cmd {
			return state.AskOn("name of the identity", "", false, v.add)
		})),
		ui.On("*", "*", "send the call as it, once", ui.Asks(v.sendAs)).If(one),
		ui.Shown("?", "?", "help"),
		ui.On("E", "E", "edit all, log-ins too, in your editor", ui.Asks(v.editor)).InHelp(),
		ui.On("0", "0", "take back where it may go", ui.Do(v.takeBack)).InHelp().If(one),
		ui.On("X", "X", "remove it", ui.Asks(v.remove)).InHelp().If(one),
		ui.On("esc", "esc", "board", state.To("board")).InHelp(),
	}
}

// Open implements the application's opener.
func (v *View) Open() tea.Cmd {
	v.read()
	return nil
}

func (v *View) read() {
	all, err := v.s.Home.Identities()
	v.why, v.all = err, nil
	for _, id := range all {
		v.all = append(v.all, id)
	}
	slices.SortFunc(v.all, func(a, b *identity.Identity) int { return strings.Compare(a.Name, b.Name) })
	v.cursor = min(max(v.cursor, 0), max(len(v.all)-1, 0))
}

// save keeps an identity that was changed.
func (v *View) save(id identity.Identity) {
	if err := v.s.Home.SaveIdentity(id); err != nil {
		v.s.Say("%v", err)
	}
	v.s.Changed()
	v.read()
}

// at is the identity under the cursor; there is one.
func (v *View) at() identity.Identity { return *v.all[v.cursor] }

// change asks which part of the identity is changed, and for its value.
func (v *View) change() tea.Cmd {
	id := v.at()
	parts := []struct{ key, what, prompt string }{
		{"user", "its user", "user name of " + id.Name},
		{"secret", "where its secret is", "where its secret is (env:VAR, file:PATH, command:CMD, " +
			"keyring:NAME, age:PATH)"},
		{"certificate", "its certificate", "file with its certificate (PEM, PKCS#12, JKS)"},
		{"key", "its key, where that is in another file", "file with its key, where it is in another"},
		{"signer", "the program that signs for it, where the key cannot leave", "command:CMD, a program that signs"},
		{"keytab", "its keys for Kerberos", "file with its keys for Kerberos (keytab)"},
		{"tickets", "its tickets", "file with its tickets for Kerberos"},
		{"log-in.address", "where it logs in", "address that it logs in at, before a call"},
		{"log-in.kind", "how it logs in", "oauth2, ws-trust-1.3 or ws-trust-1.4; empty for a body of your own"},
		{"log-in.key-type", "what confirms its assertion", "bearer, public-key or symmetric-key"},
		{"log-in.scope", "the scope that it asks for", "scope that it asks for (oauth2)"},
		{"log-in.for", "the service that its assertion is for", "the service that its assertion is for (AppliesTo)"},
	}
	pick := state.Pick{Prompt: "change of " + id.Name}
	for _, p := range parts {
		text := p.what
		if value := id.Get(p.key); value != "" {
			text += ": " + value
		}
		pick.Options = append(pick.Options, text)
	}
	pick.Options = append(pick.Options, "type its secret now, for the key ring", "give the pass phrase of its secret")
	pick.Take = func(i int) tea.Cmd {
		switch i {
		case len(parts):
			return v.secretFrom(id, "keyring")
		case len(parts) + 1:
			return v.unlock()
		}
		p := parts[i]
		return state.AskFor(p.prompt, id.Get(p.key), func(s string) {
			if err := id.Set(p.key, strings.TrimSpace(s)); err != nil {
				v.s.Say("%v", err)
				return
			}
			v.save(id)
		})
	}
	return func() tea.Msg { return pick }
}

// Copies implements ui.Copier.
func (v *View) Copies() []ui.Copy {
	if len(v.all) == 0 {
		return nil
	}
	id := v.at()
	return []ui.Copy{ui.Text("its name", id.Name), ui.Text("its user", id.User)}
}

// Update implements ui.View.
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if e, ok := msg.(edited); ok {
		if e.err != nil {
			v.s.Say("the editor failed: %v", e.err)
		}
		v.s.Changed()
		v.read()
		return nil
	}
	v.cursor = min(max(v.cursor+ui.Rows(msg, 10, len(v.all)), 0), max(len(v.all)-1, 0))
	if k, ok := msg.(tea.KeyPressMsg); ok {
		return ui.Press(v.Keys(), k)
	}
	return nil
}

// editor hands the person's file of identities to their editor.
func (v *View) editor() tea.Cmd {
	path, err := v.s.Home.IdentitiesFile()
	if err != nil {
		v.s.Say("%v", err)
		return nil
	}
	return v.s.Edit(path, func(err error) tea.Msg { return edited{err} })
}

// unlock asks for the pass phrase of a secret.
func (v *View) unlock() tea.Cmd {
	id := v.at()
	path, ok := strings.CutPrefix(id.Secret, "age:")
	if !ok {
		v.s.Say("the secret of %s has no pass phrase", id.Name)
		return nil
	}
	return func() tea.Msg {
		return state.Ask{
			Prompt: "pass phrase of " + path,
			Hidden: true,
			Answer: func(s string) { v.s.Home.Phrases.Give(path, s); v.s.Say("given until Orenda ends") },
		}
	}
}

// takeBack takes back where the workspace may send the identity.
func (v *View) takeBack() {
	id := v.at()
	if err := v.s.Home.Disallow(v.s.W.ID(), id.Name); err != nil {
		v.s.Say("%v", err)
		return
	}
	v.s.Say("%s is asked for again before it goes anywhere", id.Name)
}

// sendAs sends the call as the identity, this once.
func (v *View) sendAs() tea.Cmd {
	name := v.at().Name
	over := func() tea.Msg { return state.Goto("path") }
	if a := v.s.Careful(v.s.One(), func() { v.s.SendAs(name) }); a != nil {
		return tea.Sequence(over, func() tea.Msg { return *a })
	}
	return over
}

func (v *View) remove() tea.Cmd {
	name := v.at().Name
	return state.AskFor("remove the identity "+name+"? (yes or no)", "", func(s string) {
		if s = strings.ToLower(s); s == "y" || s == "yes" {
			if err := v.s.Home.RemoveIdentity(name); err != nil {
				v.s.Say("%v", err)
			}
			v.read()
		}
	})
}

func (v *View) add(name string) tea.Cmd {
	if name = strings.TrimSpace(name); name == "" {
		return nil
	}
	if v.why != nil { // what cannot be read is not overwritten
		v.s.Say("%v", v.why)
		return nil
	}
	if slices.ContainsFunc(v.all, func(o *identity.Identity) bool { return o.Name == name }) {
		v.s.Say("there is an identity %s already", name)
		return nil
	}
	id := identity.Identity{Name: name, User: name}
	return state.AskOn("user name of "+name, name, false, func(user string) tea.Cmd {
		id.User = user
		const where = "where its secret is: keyring (type it now), or env:VAR, file:PATH, command:CMD, age:PATH;" +
			" empty: none"
		return state.AskOn(where, "keyring", false, func(source string) tea.Cmd { return v.secretFrom(id, source) })
	})
}

// secretFrom ends the making of an identity: with where its secret is, or by asking for the
// secret itself, which goes into the key ring.
func (v *View) secretFrom(id identity.Identity, source string) tea.Cmd {
	if source != "keyring" {
		err := id.Set("secret", source)
		v.made(id)
		if err != nil {
			v.s.Say("%v", err)
		}
		return nil
	}
	return state.AskOn("its secret (it is not shown)", "", true, func(secret string) tea.Cmd {
		return v.s.KeepSecret(id, secret, func(string) tea.Cmd {
			v.told(id)
			return nil
		})
	})
}

// made keeps a new identity, and puts the cursor on it.
func (v *View) made(id identity.Identity) {
	v.save(id)
	v.told(id)
}

// told puts the cursor on an identity that was kept, and says so.
func (v *View) told(id identity.Identity) {
	v.read()
	v.cursor = slices.IndexFunc(v.all, func(o *identity.Identity) bool { return o.Name == id.Name })
	v.s.Say("%s was added; * sends the call as it", id.Name)
}

// View implements ui.View.
func (v *View) View(w, h int) string {
	if v.all == nil && v.why == nil {
		v.read()
	}
	if v.why != nil {
		out := []string{
			"",
			"   " + ui.Strong("identities") + ui.Soft("   they cannot be read; ") + ui.Strong("E") + ui.Soft(
				" opens their file in your editor",
			),
			"",
		}
		for _, l := range ui.Wrap(v.why.Error(), w-6) {
			out = append(out, "   "+ui.Accent(l))
		}
		return ui.Block(out, w, h)
	}
	out := []string{
		"",
		"   " + ui.Strong("identities") + ui.Soft(fmt.Sprintf("   %d, your own: no workspace holds them", len(v.all))),
		"",
	}
	if len(v.all) == 0 {
		return ui.Block(
			append(
				out,
				"   "+ui.Soft("there is none yet; ")+ui.Strong("a")+ui.Soft(
					" adds one: a name, a user, and where its secret is",
				),
			),
			w,
			h,
		)
	}
	name, user := max(min(w/6, 24), 14), max(min(w/6, 24), 12)
	for i, id := range v.all {
		lead, label := "   ", ui.Fit(id.Name, name)
		if i == v.cursor {
			lead, label = ui.Accent(" ▌ "), ui.Strong(label)
		}
		what := id.Secret
		if what == "" {
			what = "no secret"
		}
		if id.Certificate != "" {
			what += ", certificate"
		}
		out = append(out, lead+label+"  "+ui.Fit(id.User, user)+"  "+ui.Soft(ui.Cut(what, max(w-name-user-9, 10))))
	}
	out = append(out, "")
	return ui.Block(append(out, v.details(v.all[v.cursor], w)...), w, h)
}

func (v *View) details(id *identity.Identity, w int) []string {
	var out []string
	row := func(label, value string) {
		for i, part := range ui.Wrap(value, w-24) {
			if i > 0 {
				label = ""
			}
			out = append(out, "   "+ui.Pad(ui.Soft(label), 17)+part)
		}
	}
	user := id.User
	if user == "" {
		user = "none"
	}
	row("user", user)
	if id.Secret != "" {
		row("its secret is", id.Secret)
	} else {
		row("its secret is", "not said; ⏎ says it")
	}
	if id.Certificate != "" {
		row("certificate", id.Certificate)
		c := state.Known(
			v.s,
			"file certificate "+id.Certificate,
			func(context.Context) *x509.Certificate { return certificate(id.Certificate) },
		)
		if c != nil {
			row("", c.Subject.String()+" · issued by "+c.Issuer.String()+" · "+trust.Left(c, time.Now()))
			if why := trust.Unfit(c, time.Now()); why != "" {
				out = append(out, "   "+ui.Pad("", 17)+ui.Accent(ui.Cut(why, w-24)))
			}
		}
	}
	if id.Key != "" {
		row("key", id.Key)
	}
	if in := id.LogIn; in != nil {
		gives := in.Gives
		if gives == "" {
			gives = "cookies"
		}
		row("log-in", in.Address+", which gives "+gives)
	}
	if id.Note != "" {
		row("note", id.Note)
	}
	ws, home := v.s.W, v.s.Home
	uses := state.Known(v.s, "file uses of "+id.Name, func(context.Context) uses {
		return uses{ws.UsesOf(id.Name), home.Places(ws.ID(), id.Name)}
	})
	used := strings.Join(uses.by, ", ")
	if used == "" {
		used = "no endpoint of this workspace"
	}
	row("used by", used)
	places := strings.Join(uses.places, ", ")
	if places == "" {
		places = "nowhere yet from this workspace: it is asked for before it goes"
	}
	row("may go to", places)
	return out
}

// uses are the endpoints that use an identity, and the places where it may go.
type uses struct{ by, places []string }

// certificate is the first of a file, or nil where it is sealed or cannot be read.
func certificate(path string) *x509.Certificate {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil
	}
	certs, err := trust.Read(b)
	if err != nil {
		return nil
	}
	return certs[0]
}
