package app

import (
	"slices"
	"strings"
	"testing"

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
				assert.NotContains(t, own, press, "%s never reaches the view", at)
				if before, ok := taken[press]; ok && row.Show != "" {
					t.Errorf("%s is %q and %q", at, before, row.Does)
				}
				taken[press] = row.Does
			}
		}
	}
}
