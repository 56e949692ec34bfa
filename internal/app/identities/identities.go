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
	return []ui.Key{
		{
			Press: "up down",
			Show:  "↑↓",
			Does:  "choose",
		}, {Press: "A", Show: "A", Does: "add"}, {Press: "U", Show: "U", Does: "its user"}, {Press: "W", Show: "W",
			Does: "where its secret is"}, {Press: "C", Show: "C", Does: "its certificate"},
		{Press: "O", Show: "O", Does: "send the call as it, once"}, {Press: "?", Show: "?", Does: "help"},
		{
			Press: "E",
			Show:  "E",
			Does:  "edit all, log-ins too, in your editor",
			Minor: true,
		}, {Press: "K", Show: "K", Does: "its key, where it is in another file", Minor: true}, {Press: "L", Show: "L",
			Does: "give the pass phrase of its secret", Minor: true}, {Press: "R", Show: "R",
			Does: "take back where it may go", Minor: true}, {Press: "X", Show: "X", Does: "remove it", Minor: true},
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

func ask(prompt, value string, answer func(string)) tea.Cmd {
	return func() tea.Msg { return state.Ask{Prompt: prompt, Value: value, Answer: answer} }
}

// save keeps an identity that was changed.
func (v *View) save(id identity.Identity) {
	if err := v.s.Home.SaveIdentity(id); err != nil {
		v.s.Say("%v", err)
	}
	v.s.Changed()
	v.read()
}

// set asks for a value of an identity and keeps it.
func (v *View) set(id identity.Identity, key, prompt string) tea.Cmd {
	return ask(prompt, id.Get(key), func(s string) {
		if err := id.Set(key, strings.TrimSpace(s)); err != nil {
			v.s.Say("%v", err)
			return
		}
		v.save(id)
	})
}

// Update implements ui.View.
//
//revive:disable-next-line:cyclomatic one screen, or the keys of one
func (v *View) Update(msg tea.Msg) tea.Cmd {
	if e, ok := msg.(edited); ok {
		if e.err != nil {
			v.s.Say("the editor failed: %v", e.err)
		}
		v.s.Changed()
		v.read()
		return nil
	}
	k, ok := msg.(tea.KeyPressMsg)
	v.cursor = min(max(v.cursor+ui.Rows(msg, 10, len(v.all)), 0), max(len(v.all)-1, 0))
	if !ok {
		return nil
	}
	switch {
	case ui.Is(k, "A"):
		return ask("name of the identity", "", v.add)
	case ui.Is(k, "E"):
		path, err := v.s.Home.IdentitiesFile()
		if err != nil {
			v.s.Say("%v", err)
			return nil
		}
		return v.s.Edit(path, func(err error) tea.Msg { return edited{err} })
	case ui.Is(k, "esc"):
		return func() tea.Msg { return state.Goto("board") }
	}
	if len(v.all) == 0 {
		return nil
	}
	id := *v.all[v.cursor]
	switch {
	case ui.Is(k, "U"):
		return v.set(id, "user", "user name of "+id.Name)
	case ui.Is(k, "W"):
		return v.set(id, "secret", "where its secret is (env:VAR, file:PATH, command:CMD, keyring:NAME, age:PATH)")
	case ui.Is(k, "C"):
		return v.set(id, "certificate", "file with its certificate (PEM, PKCS#12, JKS)")
	case ui.Is(k, "K"):
		return v.set(id, "key", "file with its key, where it is in another")
	case ui.Is(k, "L"):
		path, ok := strings.CutPrefix(id.Secret, "age:")
		if !ok {
			v.s.Say("the secret of %s has no pass phrase", id.Name)
			return nil
		}
		return func() tea.Msg {
			return state.Ask{
				Prompt: "pass phrase of " + path,
				Hidden: true,
				Answer: func(s string) { v.s.Home.Phrases.Give(path, s); v.s.Say("given for this sitting") },
			}
		}
	case ui.Is(k, "R"):
		if err := v.s.Home.Disallow(v.s.W.ID(), id.Name); err != nil {
			v.s.Say("%v", err)
		} else {
			v.s.Say("%s is asked for again before it goes anywhere", id.Name)
		}
	case ui.Is(k, "O"):
		over := func() tea.Msg { return state.Goto("path") }
		if a := v.s.Careful(v.s.One(), func() { v.s.SendAs(id.Name) }); a != nil {
			return tea.Sequence(over, func() tea.Msg { return *a })
		}
		return over
	case ui.Is(k, "X"):
		return ask("remove the identity "+id.Name+"? (yes or no)", "", func(s string) {
			if s = strings.ToLower(s); s == "y" || s == "yes" {
				if err := v.s.Home.RemoveIdentity(id.Name); err != nil {
					v.s.Say("%v", err)
				}
				v.read()
			}
		})
	}
	return nil
}

func (v *View) add(name string) {
	if name = strings.TrimSpace(name); name == "" {
		return
	}
	if slices.ContainsFunc(v.all, func(o *identity.Identity) bool { return o.Name == name }) {
		v.s.Say("there is an identity %s already", name)
		return
	}
	v.save(identity.Identity{Name: name, User: name})
	v.cursor = slices.IndexFunc(v.all, func(o *identity.Identity) bool { return o.Name == name })
	v.s.Say("W says where its secret is, U its user name")
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
				"   "+ui.Soft("there is none yet; ")+ui.Strong("A")+ui.Soft(
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
		row("its secret is", "not said; W says it")
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
