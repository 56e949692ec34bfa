package crossed

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/exchange"
)

// crossed is an exchange whose reply came in pieces.
func crossed(pieces ...string) *exchange.Exchange {
	x := &exchange.Exchange{ID: "x"}
	r := exchange.NewRecorder(x, nil)
	l := r.NewLeg("", exchange.Spill{})
	out := "POST / HTTP/1.1\r\nHost: h\r\n\r\n<a>\n</a>"
	l.Request.Size = int64(strings.Index(out, "<a>"))
	r.Moment(exchange.Moment{Kind: exchange.Connected, Text: "127.0.0.1:80"})
	r.Out(l, []byte(out), len(out))
	r.Moment(exchange.Moment{Kind: exchange.HandedOver})
	for _, p := range pieces {
		r.In(l, []byte(p))
	}
	r.Moment(exchange.Moment{Kind: exchange.Closed})
	return x
}

func texts(ix *Lines, x *exchange.Exchange) []string {
	var out []string
	for i := range ix.lines {
		l := &ix.lines[i]
		if l.note != "" {
			out = append(out, "· "+l.note)
			continue
		}
		mark := ""
		if l.mark {
			mark = " ◂"
		}
		out = append(out, strings.TrimRight(string(bytesOf(x, l)), "\r\n")+mark)
	}
	return out
}

func TestTheStripIsOneRunInTime(t *testing.T) {
	x := crossed("HTTP/1.1 200 OK\r\nX: ", "1\r\n\r\n<b>", "</b>")
	var ix Lines
	ix.Follow(x)
	assert.Equal(
		t,
		[]string{
			"· connected to 127.0.0.1:80",
			"POST / HTTP/1.1",
			"Host: h",
			"",
			"<a>",
			"</a>",
			"· handed over",
			"HTTP/1.1 200 OK",
			"X: ",
			"1",
			"",
			"<b>",
			"</b>",
			"· closed",
		},
		texts(&ix, x),
	)
	var timed int
	for _, l := range ix.lines {
		if l.at >= 0 && l.note == "" {
			timed++
		}
	}
	assert.Equal(t, 4, timed, "each piece shows when it came, once")
}

func TestItGoesOnWhereItLeftOff(t *testing.T) {
	x := crossed("HTTP/1.1 200 OK\r\n\r\n")
	var ix Lines
	ix.Follow(x)
	before := len(ix.lines)
	l := x.Legs[0]
	l.In = exchange.NewBody(append(l.In.Bytes(), "more\n"...))
	x.Moments = append(x.Moments, exchange.Moment{Kind: exchange.BytesIn, Leg: 1, Offset: l.In.Len() - 5, N: 5})
	ix.Follow(x)
	assert.Len(t, ix.lines, before+1)
	other := crossed()
	other.ID = "y"
	ix.Follow(other)
	assert.Equal(t, "y", ix.id)
	assert.Less(t, len(ix.lines), before)
}

func TestVeryLongLinesAreBroken(t *testing.T) {
	x := crossed("HTTP/1.1 200 OK\r\n\r\n" + strings.Repeat("x", 3*widest+10))
	var ix Lines
	ix.Follow(x)
	longest := int64(0)
	for _, l := range ix.lines {
		longest = max(longest, l.to-l.from)
	}
	assert.EqualValues(t, widest, longest)
}

func TestEvidenceMarksItsBytes(t *testing.T) {
	at := func(in exchange.Part, offset, length int64) []exchange.Finding {
		return []exchange.Finding{{Evidence: []exchange.Evidence{{In: in, Leg: 1, Offset: offset, Length: length}}}}
	}
	x := crossed("HTTP/1.1 200 OK\r\nX: 1\r\n\r\n<b>\n<c>\n</c></b>")
	x.Legs[0].Response.Size = 25
	for _, c := range []struct {
		fs   []exchange.Finding
		want string
	}{
		{at(exchange.InRequestHead, 17, 7), "Host: h ◂"},
		{at(exchange.InRequestBody, 4, 4), "</a> ◂"},
		{at(exchange.InResponseHead, 17, 4), "X: 1 ◂"},
		{at(exchange.InResponseBody, 4, 3), "<c> ◂"},
	} {
		x.Findings = c.fs
		var ix Lines
		ix.Follow(x)
		got := texts(&ix, x)
		assert.Contains(t, got, c.want)
		assert.Equal(t, 1, strings.Count(strings.Join(got, ""), "◂"))
	}
	early := "HTTP/1.1 103 Early Hints\r\n\r\n" // what an interim answer takes is no part of the answer's head
	x = crossed(early + "HTTP/1.1 200 OK\r\nX: 1\r\n\r\n<b>\n<c>\n</c></b>")
	x.Legs[0].Response.Size, x.Legs[0].HeadAt = 25, int64(len(early))
	for _, fs := range [][]exchange.Finding{at(exchange.InResponseHead, 17, 4), at(exchange.InResponseBody, 4, 3)} {
		x.Findings = fs
		var ix Lines
		ix.Follow(x)
		marked := strings.Join(texts(&ix, x), "\n")
		assert.Contains(t, marked, map[exchange.Part]string{exchange.InResponseHead: "X: 1 ◂", exchange.InResponseBody: "<c> ◂"}[fs[0].Evidence[0].In])
	}
	for _, in := range []exchange.Part{exchange.InSettings, exchange.InContract, exchange.InCertificate,
		exchange.InDraft} {
		_, _, ok := place(x, exchange.Evidence{In: in, Leg: 1})
		assert.False(t, ok, "%s is not in the bytes that crossed", in)
	}
	_, _, ok := place(x, exchange.Evidence{In: exchange.InResponseBody, Leg: 7})
	assert.False(t, ok)
}

func TestEvidenceInAChunkedBody(t *testing.T) {
	head := "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n"
	x := crossed(head + "4;x=y\r\n<a>b\r\n6\r\nc</a>!\r\n0\r\n\r\n")
	l := x.Legs[0]
	l.Response.Size, l.Response.Chunked = int64(len(head)), true
	l.ResponseBody = exchange.NewBody([]byte("<a>bc</a>!"))
	for offset := range l.ResponseBody.Bytes() {
		dir, from, ok := place(
			x,
			exchange.Evidence{In: exchange.InResponseBody, Leg: 1, Offset: int64(offset), Length: 1},
		)
		require.True(t, ok)
		assert.Equal(t, exchange.In, dir)
		assert.Equal(t, string(l.ResponseBody.Bytes()[offset]), string(l.In.Bytes()[from]), "byte %d", offset)
	}
	l.Response.Coding = "gzip"
	_, _, ok := place(x, exchange.Evidence{In: exchange.InResponseBody, Leg: 1})
	assert.False(t, ok, "what was compressed has no place of its own")
}

func FuzzPlace(f *testing.F) {
	f.Add("HTTP/1.1 200 OK\r\n\r\n4\r\nabcd\r\n0\r\n\r\n", int64(2))
	f.Add("AAAA00AA000000A0\n", int64(9)) // as a size it is below nought
	f.Fuzz(func(t *testing.T, in string, offset int64) {
		x := crossed(in)
		x.Legs[0].Response.Chunked = true
		if _, at, ok := place(x, exchange.Evidence{In: exchange.InResponseBody, Leg: 1, Offset: offset, Length: 1}); ok &&
			(at < 0 || at > int64(len(in))) {
			t.Fatalf("the byte %d of %d", at, len(in))
		}
		var ix Lines
		ix.Follow(x)
		for i := range ix.lines {
			bytesOf(x, &ix.lines[i])
		}
	})
}

// Each stage has its own lines: the request's for what is said, the answer's for what came,
// moments for connection and handshake.
func TestTheLinesOfAStage(t *testing.T) {
	x := crossed("HTTP/1.1 200 OK\r\nX: 1\r\n\r\n", "<b>\n</b>")
	x.Legs[0].Response.Size = 25
	var ix Lines
	ix.Follow(x)
	of := func(s exchange.Stage) string {
		from, to := ix.Of(x, s)
		return strings.Join(texts(&ix, x)[from:to], "|")
	}
	assert.Equal(t, "· connected to 127.0.0.1:80", of(exchange.Connect))
	assert.Equal(t, "<a>|</a>", of(exchange.Message))
	assert.Equal(t, "POST / HTTP/1.1|Host: h||<a>|</a>|· handed over", of(exchange.Send))
	assert.Equal(t, "HTTP/1.1 200 OK|X: 1||<b>|</b>|· closed", of(exchange.Receive))
	assert.Equal(t, "<b>|</b>", of(exchange.Read))
	assert.Empty(t, of(exchange.Address))
	assert.Empty(t, of(exchange.TLS))
}
