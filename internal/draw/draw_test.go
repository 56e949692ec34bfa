package draw

import (
	"encoding/xml"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

func stopped() *exchange.Exchange {
	x := &exchange.Exchange{
		ID:          "2701",
		Operation:   "YearTable",
		Draft:       "Skerry <2027>",
		Endpoint:    "tides-tls",
		Environment: "model",
		Started:     time.Unix(1800000000, 0),
		TotalNs:     96e6,
		Outcome:     exchange.OutcomeStopped,
		StoppedAt:   exchange.TLS,
	}
	for i, s := range exchange.Stages[:6] {
		st := x.Stage(s)
		st.State, st.StartedNs, st.DurationNs, st.Note = exchange.Passed, int64(i)*1e7, 9e6, "note of "+s.String()
	}
	x.Stage(exchange.TLS).State = exchange.Stopped
	x.Findings = []exchange.Finding{
		{
			ID:       "tls.self-signed",
			Title:    "the server’s certificate is self-signed",
			Why:      strings.Repeat("Its own issuer \x1b[31m vouches for it. ", 9),
			Program:  "trust it",
			Evidence: []exchange.Evidence{{In: exchange.InCertificate, Excerpt: "CN=tides λ 日本 😀"}},
		},
	}
	return x
}

func TestThePathAsSVGKeepsTextAsText(t *testing.T) {
	svg, err := Path(stopped()).Write("x.SVG")
	require.NoError(t, err)
	assert.Contains(t, string(svg), ">YearTable · Skerry &lt;2027&gt; over tides-tls in model</text>")
	assert.Contains(t, string(svg), "tls.self-signed")
	assert.NotContains(t, string(svg), "\x1b")
	dec := xml.NewDecoder(strings.NewReader(string(svg)))
	for {
		_, err := dec.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		require.NoError(t, err)
	}
}

func TestThePathAsPDFEmbedsItsFonts(t *testing.T) {
	pdf, err := Path(stopped()).Write("x.pdf")
	require.NoError(t, err)
	f := filepath.Join(t.TempDir(), "x.pdf")
	require.NoError(t, os.WriteFile(f, pdf, 0o600))
	if _, err := exec.LookPath("pdftotext"); err != nil {
		t.Skip("pdftotext is not installed (make test installs it)")
	}
	out, err := exec.Command("pdftotext", "-layout", f, "-").Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "YearTable · Skerry <2027> over tides-tls in model")
	assert.Contains(t, string(out), "self-signed")
	fonts, err := exec.Command("pdffonts", f).Output()
	require.NoError(t, err)
	for _, line := range strings.Split(strings.TrimSpace(string(fonts)), "\n")[2:] {
		assert.Regexp(t, `Identity-H\s+yes`, line, "every font is embedded")
	}
}

func TestOtherEndingsAreRefused(t *testing.T) {
	_, err := Path(stopped()).Write("x.png")
	assert.ErrorContains(t, err, ".svg or .pdf")
}
