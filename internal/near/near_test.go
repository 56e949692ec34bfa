package near

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMiss(t *testing.T) {
	for _, c := range []struct {
		name string
		from []string
		want string
	}{
		{"tideHost", []string{"port", "tidehost"}, "tidehost"},
		{"FindBerth", []string{"ReserveBerth", "FindBerths"}, "FindBerths"},
		{"yaertable", []string{"DayTable", "YearTable"}, "YearTable"},
		{"exact", []string{"exact", "exacts"}, ""},
		{"tides", []string{"berths", "pilots"}, ""},
		{"a", []string{"b", "c"}, "b"},
	} {
		assert.Equal(t, c.want, Miss(c.name, c.from), c.name)
	}
}
