package related

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const related = `multipart/related; type="text/xml"; boundary="quay"`

// Whole messages as they are seen in the wild, and broken ones.
func TestMessagesInPartsAreTakenApart(t *testing.T) {
	part := func(head, body string) string {
		if head != "" {
			head += "\r\n"
		}
		return "--quay\r\n" + head + "\r\n" + body + "\r\n"
	}
	for name, c := range map[string]struct {
		kind, body string
		parts      []string
		root       int
		wrong      string
	}{
		"two parts": {related, part("Content-Type: text/xml", "<a/>") + part("Content-ID: <b@x>",
			"bin\r\n\x00") + "--quay--\r\n", []string{"<a/>", "bin\r\n\x00"}, 0, ""},
		"a preamble": {related, "This is a message in parts.\r\n" + part("", "<a/>") + "--quay--", []string{"<a/>"}, 0,
			""},
		"bare line feeds": {related, "--quay\nContent-Type: text/xml\n\n<a/>\n--quay--\n", []string{"<a/>"}, 0,
			""},
		"start names the root": {related + `; start="<b@x>"`, part("Content-ID: <a@x>",
			"one") + part("Content-Id: <b@x>", "<a/>") + "--quay--", []string{"one", "<a/>"}, 1, ""},
		"base64": {related, part("Content-Transfer-Encoding: BASE64", "PGEv\r\nPg==") + "--quay--", []string{"<a/>"}, 0,
			""},
		"quoted-printable": {related, part("content-transfer-encoding: quoted-printable", "<a x=3D'1'/>") + "--quay--",
			[]string{"<a x='1'/>"}, 0,
			""},
		"an empty part": {related, part("", "<a/>") + part("", "") + "--quay--", []string{"<a/>", ""}, 0, ""},
		"folded header": {related, part("Content-Type: text/xml;\r\n charset=utf-8", "<a/>") + "--quay--",
			[]string{"<a/>"}, 0,
			""},
		"no boundary":      {`multipart/related; type="text/xml"`, "--quay", nil, 0, "names no boundary"},
		"another boundary": {related, "--quai\r\n", nil, 0, "is not in the body"},
		"cut off": {related, part("", "<a/>") + "--quay\r\nContent-ID: <b>\r\n\r\nhalf", []string{"<a/>"}, 0,
			"part 2 has no end"},
		"cut in a boundary": {related, part("", "<a/>") + "--quay", []string{"<a/>"}, 0, "the last boundary is " +
			"not there"},
		"root not there": {related + `; start="<c>"`, part("Content-ID: <b>", "<a/>") + "--quay--", []string{"<a/>"}, 0,
			"is not there"},
		"nothing":       {related, "--quay--", nil, 0, "no part"},
		"a broken type": {"multipart/related; ;;=", "", nil, 0, "cannot be read"},
	} {
		parts, err := Split(c.kind, []byte(c.body))
		var got []string
		for i := range parts {
			b, err := parts[i].Content([]byte(c.body))
			require.NoError(t, err, name)
			got = append(got, string(b))
			if c.wrong == "" {
				assert.Equal(t, i == c.root, parts[i].Root, name)
			}
		}
		assert.Equal(t, c.parts, got, name)
		if c.wrong == "" {
			assert.NoError(t, err, name)
			continue
		}
		var me *Error
		require.ErrorAs(t, err, &me, name)
		assert.Contains(t, err.Error(), c.wrong, name)
		assert.LessOrEqual(t, me.Offset, len(c.body), name)
	}
	big := strings.Repeat("--quay\r\n\r\n\r\n", maxParts+2) + "--quay--"
	_, err := Split(related, []byte(big))
	assert.ErrorContains(t, err, "more than")
}

func FuzzSplit(f *testing.F) {
	f.Add(related, "--quay\r\nContent-Transfer-Encoding: base64\r\n\r\nPGEvPg==\r\n--quay--")
	f.Add(related+`; start="<b>"`, "--quay\n\n\n--quay\nContent-ID: <b>\n\n<a/>\n--quay--")
	f.Add(related, "--quay\r\n\r\n<a>cut")
	f.Fuzz(func(t *testing.T, kind, body string) {
		parts, _ := Split(kind, []byte(body))
		for i := range parts {
			if parts[i].Start < 0 || parts[i].End > len(body) || parts[i].Start > parts[i].End {
				t.Fatalf("%+v of %d", parts[i], len(body))
			}
			_, _ = parts[i].Content([]byte(body))
			_ = parts[i].Refers("cid:%")
		}
		root, err := Root(kind, []byte(body))
		if err == nil && (root.Start < 0 || root.End > len(body) || root.Start > root.End) {
			t.Fatalf("%+v of %d", root, len(body))
		}
	})
}

// What is put in the place of a part's content is written in lines, and is read again as it was.
func TestAPartIsWrittenInItsCoding(t *testing.T) {
	content := []byte(strings.Repeat("Häfen = 3\r\n", 40))
	for _, coding := range []string{"base64", "quoted-printable", "8bit", ""} {
		p := Part{Coding: coding}
		raw := p.Write(content)
		p.End = len(raw)
		got, at := p.In(raw)
		assert.Equal(t, string(content), string(got), coding)
		assert.Equal(t, coding == "base64" || coding == "quoted-printable", at < 0, coding)
		if at < 0 {
			for line := range strings.Lines(string(raw)) {
				assert.LessOrEqual(t, len(strings.TrimRight(line, "\r\n")), 76, coding)
			}
		}
	}
}
