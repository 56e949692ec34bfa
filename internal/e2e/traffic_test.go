package e2e

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
	"orenda/internal/journal/disk"
)

// kept makes an exchange of a workspace as a call leaves it: with a cause, or passed.
func kept(id int, dir, operation, cause, title string, at time.Time) *exchange.Exchange {
	x := &exchange.Exchange{
		ID: fmt.Sprintf("01TEST%020d", id), Workspace: dir, Contract: "tide-tables", Operation: operation,
		Draft: "first", Endpoint: "TideTables", Started: at, Outcome: exchange.OutcomePassed, TotalNs: 1e6,
		Result: fmt.Sprintf("%d × tide", id),
	}
	if cause != "" {
		stage, _, _ := strings.Cut(cause, ".")
		s, _ := exchange.ParseStage(stage)
		x.Outcome, x.StoppedAt, x.Result = exchange.OutcomeStopped, s, title
		x.Findings = []exchange.Finding{{ID: cause, Stage: s, Severity: exchange.Stop, Title: title,
			Remedies: []exchange.Remedy{exchange.NewRemedy("mend " + cause)}}}
	}
	return x
}

// All that is kept is reached, what comes from another process appears at once and moves no
// cursor, causes are folded, and a filter is said in words and seen.
func TestTrafficOfThousands(t *testing.T) {
	h := harbour(t)
	dir, env := workspace(t, "", "http://"+h.Plain+"/tides?wsdl")
	j, err := disk.Open(filepath.Join(strings.TrimPrefix(env[0], "ORENDA_HOME="), "state"))
	require.NoError(t, err)
	defer j.Close()
	begin := time.Now().Add(-time.Hour)
	for i := range 1200 {
		cause, title := "", ""
		switch {
		case i == 3:
			cause, title = "read.fault-client", "fault: the very first refusal"
		case i%10 == 0:
			cause, title = "connect.refused", "nobody listens at 127.0.0.1:1"
		}
		require.NoError(t, j.Add(kept(i, dir, "YearTable", cause, title, begin.Add(time.Duration(i)*time.Second))))
	}
	s := open(t, 158, 47, env, "-w", dir)
	s.sees("YearTable")
	s.keys("t")
	s.sees("exchanges   1 200 kept", "1199 × tide")
	s.keys("Down")
	s.sees("exchanges")
	require.Eventually(t, func() bool { return strings.Contains(lineWith(s.text(), "▌"), "1198 × tide") },
		patience(), 50*time.Millisecond)
	before := lineWith(s.text(), "▌")
	require.NoError(t, j.Add(kept(2000, dir, "DayTable", "", "", time.Now())))
	s.sees("1 201 kept", "2000 × tide")
	assert.Equal(t, before, lineWith(s.text(), "▌"), "what comes moves no cursor")
	s.keys("Enter")
	s.sees("1198 × tide")
	s.keys("t", "]")
	s.sees("follows the newest", "hold still")
	require.NoError(t, j.Add(kept(2001, dir, "DayTable", "", "", time.Now())))
	s.sees("2001 × tide")
	assert.Contains(t, lineWith(s.text(), "▌"), "2001 × tide")
	s.keys("]")

	s.keys("z")
	now := s.sees("120 ×", "connect", "nobody listens at 127.0.0.1:1", "repair mend connect.refused", "1 ×", "YearTable")
	assert.Less(t, strings.Index(now, "120 ×"), strings.Index(now, "passed"))
	s.keys("Enter")
	s.sees("only: connect.refused", "120 of them")
	s.keys("b")
	s.sees("what works where")
	s.keys("t")
	s.sees("only: connect.refused") // it stays, and is seen
	s.keys("Escape")
	s.sees("2001 × tide", "1 202 kept")
	s.keys("/")
	s.types("fault at read")
	s.keys("Enter")
	s.sees("only: fault at read", "1 of them", "the very first refusal")
	s.keys("/", "C-u")
	s.types("skab over") // words of the bytes are looked for in an index, and in what comes
	s.keys("BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "Enter")
	s.sees("only: skab", "nothing that is kept fits")
	x := kept(2002, dir, "DayTable", "", "", time.Now())
	x.Legs = []*exchange.Leg{{RequestBody: []byte("<quay>skabholm</quay>")}}
	require.NoError(t, j.Add(x))
	s.sees("only: skab", "1 of them", "2002 × tide")
	s.keys("/", "C-u")
	s.types("over banana")
	s.keys("Enter")
	s.sees("neither a time nor a size")
	s.keys("C-u")
	s.types("no such word anywhere")
	s.keys("Enter")
	s.sees("nothing that is kept fits; esc shows all")
	s.keys("Escape", "Escape")
	s.sees("what works where")
}

// lineWith is the line of a screen that has a text.
func lineWith(screen, text string) string {
	for _, l := range strings.Split(screen, "\n") {
		if strings.Contains(l, text) {
			return strings.TrimSpace(l)
		}
	}
	return ""
}
