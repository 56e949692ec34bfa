package app

import (
	"slices"
	"strings"
	"testing"

	"orenda/internal/app/ui"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
)

// motions are pressed in every list; ui.Rows reads them.
var motions = strings.Fields("up down k j pgup pgdown home end")

// What the bottom line and the help show is what a key does: a row does it itself,
// or is a key of the whole application, or moves the cursor. None is hidden behind a
// key of the application, and none stands twice.
func TestKeysThatAreShownDoSomething(t *testing.T) {
	t.Chdir(t.TempDir())
	p := sit(t, 158, 47)
	p.at("/berths")
	own := []string{}
	for _, c := range p.m.commands() {
		own = append(own, c.key)
	}
	for _, c := range p.m.places {
		own = append(own, c.key)
	}
	for _, place := range p.m.places {
		p.keys("esc", "esc", place.key)
		taken := map[string]string{}
		for _, row := range p.m.view().Keys() {
			for _, press := range strings.Fields(row.Press) {
				at := place.name + ": " + press
				if row.Do == nil {
					assert.True(t, slices.Contains(own, press) || slices.Contains(motions, press),
						"%s is shown and does nothing", at)
					continue
				}
				if !strings.Contains("w=~", press) { // what is drawn is what the view shows
					assert.NotContains(t, own, press, "%s never reaches the view", at)
				}
				if before, ok := taken[press]; ok && row.Show != "" {
					t.Errorf("%s is %q and %q", at, before, row.Does)
				}
				taken[press] = row.Does
			}
		}
	}
}

// verbs are what each key means, in every view that has it.
var verbs = map[string]string{
	"enter": `open|change|fill in|trust|order|repair|settings|load|take|type or paste|^$`, // what one does with what is at the cursor
	"space": `mark|put in|draft of it`,
	"tab":   `next|expected|fields|other way round`,
	"esc":   `board|path|show all|marks off|back`,
	"/":     `filter|find|search|only rows|show`,
	"n":     `next|run only`, "N": `before`,
	"[": `earlier|endpoint|table`, "]": `earlier|endpoint|table|next|follow|hold still`,
	"left": `choose|branch|column|long|value|back|^$`, "right": `choose|branch|column|long|value|settings`,
	"a": `add`, "+": `one more|repeat|keep|too|this folder only|through here`, "-": `repeat`, "x": `source|raw|columns`,
	"D": `duplicate|draft of it`, "R": `rename`, "X": `remove|stop trusting|no longer|take the variable out`, "M": `mark`, "z": `fold`,
	"~": `sound`, "@": `side by side`, "*": `default|pin|send the call as|answer by itself`, "!": `changes things|accept anything|all the same|run all`,
	"0": `nil|off|set a warning aside|take back`, "#": `note`, "P": `put`, "F": `file`, "W": `save`, "w": `draw`,
	"H": `secret`, "E": `editor`, "f": `fetch`, "K": `catalogue`, "=": `differ|compare`, "<": `profile`, ">": `^$`,
	"L": `addresses`, "$": `variables`, "e": `explain`, "m": `find out`, "G": `only as far`, "l": `choose|settings|column|value`,
	"shift+up": `move`, "shift+down": `move`, "shift+left": `long`, "shift+right": `long`, "up": `stage|choose`, "down": `stage|^$`,
	"k": `stage`, "j": `stage`, "h": `column`, "pgup": `scroll`, "pgdown": `scroll`, "end": `last`,
}

// A key means the same in every view.
func TestAKeyHasOneMeaning(t *testing.T) {
	t.Chdir(t.TempDir())
	p := sit(t, 158, 47)
	p.at("/berths")
	p.keys("g")
	p.wait()
	look := func(where string) {
		for _, row := range p.m.view().Keys() {
			for _, press := range strings.Fields(row.Press) {
				if row.Do == nil {
					continue
				}
				if assert.Contains(t, verbs, press, "%s: %q has no verb", where, row.Does) {
					assert.Regexp(t, verbs[press], row.Does, "%s: %s", where, press)
				}
			}
		}
	}
	for _, place := range p.m.places {
		p.keys("esc", "esc", place.key)
		look(place.name)
		if place.name == "reply" {
			for range 5 {
				p.keys("tab")
				look("reply")
			}
		}
		if place.name == "path" {
			p.keys("right")
			look("path, a setting")
		}
	}
}

// The mouse presses what the bottom line shows, and what was said gives way to the next key.
func TestTheBottomLineIsPressedAndGivesWay(t *testing.T) {
	p := sit(t, 158, 47)
	lines := strings.Split(p.text(), "\n")
	foot := lines[len(lines)-1]
	x := ui.Width(foot[:strings.Index(foot, "add a description")])
	p.tell(tea.MouseClickMsg{X: x, Y: p.m.h - 1, Button: tea.MouseLeft})
	p.steady()
	p.sees("load it")
	p.keys("esc")
	p.m.s.Say("something was said")
	p.m.frame = p.m.draw()
	p.sees("something was said")
	p.keys("down")
	assert.NotContains(t, p.text(), "something was said")
}
