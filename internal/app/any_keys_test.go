package app

import (
	"fmt"
	"math/rand/v2"
	"runtime/debug"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/app/state"
	"orenda/internal/exchange"
	"orenda/internal/trust"
)

// press passes a key on, with what it leads to at once.
func (p *person) press(k tea.KeyPressMsg) {
	cmd := p.update(k)
	if cmd == nil {
		return
	}
	done := make(chan tea.Msg, 1)
	go func() { done <- cmd() }()
	select {
	case msg := <-done:
		switch msg.(type) {
		case state.Goto, state.Ask:
			p.update(msg)
		}
	case <-time.After(3 * time.Millisecond):
	}
	p.m.s.Take()
}

// Whatever keys come, in whatever order, in every view and on every screen, the
// program goes on, and what it shows fits and obeys nothing.
func TestAnyKeysInAnyOrder(t *testing.T) {
	t.Setenv("VISUAL", "")
	t.Setenv("EDITOR", "")
	var pool []tea.KeyPressMsg
	for r := '!'; r <= '~'; r++ {
		if r != 'q' { // leaves
			pool = append(pool, tea.KeyPressMsg{Code: r, Text: string(r)})
		}
	}
	names := []string{}
	for name := range named {
		names = append(names, name)
	}
	slices.Sort(names)
	for seed := range uint64(6) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Chdir(t.TempDir()) // files are written where a key says so
			p := sit(t, 158, 47)
			p.at("/berths")
			require.NoError(
				t,
				p.m.s.Change(
					exchange.Change{
						Where: "workspace",
						Key:   "endpoint.BerthDesk11.trust",
						To:    string(trust.PEM(p.h.Cert.Cert)),
					},
				),
			)
			r := rand.New(rand.NewPCG(seed, 2))
			var last []string
			for i := range 700 {
				var k tea.KeyPressMsg
				switch n := r.IntN(10); {
				case n < 3: // the key of a view, out of whatever is open
					p.press(named["esc"])
					p.press(named["esc"])
					key := rune(p.m.places[r.IntN(len(p.m.places))].key[0])
					k = tea.KeyPressMsg{Code: key, Text: string(key)}
				case n < 6:
					k = named[names[r.IntN(len(names))]]
				default:
					k = pool[r.IntN(len(pool))]
				}
				last = append(last, k.String())
				func() {
					defer func() {
						if e := recover(); e != nil {
							t.Fatalf("%v after %s\n%s", e, strings.Join(last[max(len(last)-12, 0):], " "), debug.Stack())
						}
					}()
					p.press(k)
					if i%50 == 0 {
						p.update(tea.WindowSizeMsg{Width: 20 + r.IntN(160), Height: 6 + r.IntN(50)})
					}
					p.fits()
				}()
				if t.Failed() {
					t.Fatalf("after %s", strings.Join(last[max(len(last)-12, 0):], " "))
				}
			}
			assert.NotContains(t, p.text(), "\x1b")
			p.m.s.Halt()
			p.wait()
			p.m.s.End()
			require.True(t, p.m.s.Wait(20*time.Second))
		})
	}
}

// What is trusted can be looked at before any chain was seen.
func TestTrustWithoutAHandshake(t *testing.T) {
	t.Chdir(t.TempDir())
	p := sit(t, 158, 47)
	p.at("/berths")
	require.NoError(
		t,
		p.m.s.Change(
			exchange.Change{
				Where: "workspace",
				Key:   "endpoint.BerthDesk11.trust",
				To:    string(trust.PEM(p.h.Cert.Cert)),
			},
		),
	)
	p.keys("T")
	p.sees("no handshake was seen here yet", "trusted here", "tides.skerry.test")
	p.keys("w")
	p.sees("f fetches the chain first")
	p.keys("W", "enter")
	p.sees("written: tides.skerry.test.pem")
	p.keys("X")
	p.sees("Stop trusting", "at BerthDesk11")
	p.keys("enter")
	p.sees("done")
	set := p.m.s.W.Settings("BerthDesk11")
	assert.Empty(t, set.List("trust"))
}
