package e2e

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/journal/disk"
)

// spent is what a process took.
type spent struct {
	seconds, megabytes float64
}

// grow runs a command three times, and gives the median time and the most memory.
func grow(t *testing.T, env []string, args ...string) spent {
	t.Helper()
	var all []spent
	for range 3 {
		cmd := exec.Command(binary(t), args...)
		cmd.Env = append(os.Environ(), env...)
		began := time.Now()
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out[:min(len(out), 500)])
		usage, _ := cmd.ProcessState.SysUsage().(*syscall.Rusage)
		all = append(all, spent{time.Since(began).Seconds(), float64(usage.Maxrss) / 1024})
	}
	slices.SortFunc(all, func(a, b spent) int { return int((a.seconds - b.seconds) * 1e6) })
	return all[1]
}

// envelope writes an envelope of so many megabytes.
func envelope(t testing.TB, megabytes int) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "large.xml")
	f, err := os.Create(file)
	require.NoError(t, err)
	w := bufio.NewWriterSize(f, 1<<20)
	fmt.Fprint(w, `<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body><Rows xmlns="urn:skerry:rows">`)
	row := `<row id="R"><station>Skerry Sound</station><height unit="metre">3.21</height><at>2027-03-01T04:12:00Z</at></row>` + "\n"
	for range megabytes * 1_000_000 / len(row) {
		fmt.Fprint(w, row)
	}
	fmt.Fprint(w, `</Rows></e:Body></e:Envelope>`)
	require.NoError(t, w.Flush())
	require.NoError(t, f.Close())
	return file
}

// How cost grows is measured and drawn: ORENDA_GROWTH names the folder of the documents (make growth).
func TestHowCostGrows(t *testing.T) {
	docs := os.Getenv("ORENDA_GROWTH")
	if docs == "" {
		t.Skip("it takes minutes: make growth")
	}
	env := home(t)
	var table strings.Builder
	var drawn []draw.Grown
	measure := func(name, unit string, sizes []int, run func(n int) spent) {
		fmt.Fprintf(&table, "\n## %s\n\n| %s | time | memory |\n|---|---|---|\n", name, unit)
		g := draw.Grown{Name: name}
		for _, n := range sizes {
			s := run(n)
			took := fmt.Sprintf("%.0f ms", s.seconds*1000)
			if s.seconds >= 10 {
				took = fmt.Sprintf("%.1f s", s.seconds)
			}
			fmt.Fprintf(&table, "| %s | %s | %.0f MB |\n", grouped(n), took, s.megabytes)
			g.X, g.Y = append(g.X, float64(n)), append(g.Y, s.seconds*1000)
		}
		drawn = append(drawn, g)
	}
	measure("An envelope is checked (`xml check`)", "MB", []int{1, 10, 100, 1000}, func(n int) spent {
		file := envelope(t, n)
		defer os.Remove(file)
		return grow(t, env, "xml", "check", file)
	})
	measure("A description is read (`describe`)", "operations", []int{10, 100, 1000, 10_000}, func(n int) spent {
		return grow(t, env, "describe", largeDescription(t, t.TempDir(), 6*n, n)[0])
	})
	dir := filepath.Join(t.TempDir(), "journal")
	kept := 0
	measure("The newest kept exchanges are listed (`journal list`)", "kept exchanges", []int{1, 1000, 100_000, 1_000_000},
		func(n int) spent {
			j, err := disk.Open(dir)
			require.NoError(t, err)
			for kept < n {
				var all []*exchange.Exchange
				for ; kept < n && len(all) < 5000; kept++ {
					at := time.Unix(int64(1_800_000_000+kept), 0)
					all = append(all, &exchange.Exchange{
						ID: exchange.NewID(at), Started: at, Operation: "FindBerths", Endpoint: "berths-11",
						Outcome: exchange.OutcomePassed, Result: "berth[5]",
					})
				}
				for _, err := range j.AddAll(all) {
					require.NoError(t, err)
				}
			}
			require.NoError(t, j.Close())
			return grow(t, env, "--journal", dir, "journal", "list")
		})
	p := draw.Growth("How cost grows", "MB, operations, or kept exchanges", "milliseconds", drawn)
	svg, err := p.Write("growth.svg")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(docs, "growth.svg"), svg, 0o600))
	text := "# How cost grows\n\nMade by `make growth`, as whole processes, the median of three, on a machine with two cores. The figures " +
		"against others are\nthose of `make bench`; how many relays and exchanges a second there may be is in [scale.md](scale.md).\n\n" +
		"![Time against size, both axes logarithmic; the dashed line grows as its input does](growth.svg)\n" + table.String()
	require.NoError(t, os.WriteFile(filepath.Join(docs, "performance.md"), []byte(text), 0o600))
}

// grouped is a number with blanks between thousands.
func grouped(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + " " + s[i:]
	}
	return s
}
