package exchange

import (
	"bytes"
	"compress/gzip"
	"encoding/base64"
	"encoding/binary"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What cannot be read as a document can hold secrets all the same, in every way of writing.
func TestSecretsAreFoundInWhatIsNoDocument(t *testing.T) {
	for _, text := range []string{
		`<a & b><w:Password Type="…#PasswordText">Slack9</w:Password>`,
		`<password>Slack9`,
		`<password><![CDATA[Slack9]]></password></broken`,
		`<password kind='x'>
			Slack9
		</password>`,
		`<login password="Slack9" & x>`,
		`<login clientSecret='Slack9'`,
		`&lt;w:Password&gt;Slack9&lt;/w:Password&gt;`,
		`&amp;lt;w:Password&amp;gt;Slack9&amp;lt;/`,
		`{"user":"a","password":"Slack9"}`,
		`{ "access_token" : "Slack9" }`,
		`{"user":1,"api-key":Slack9}`,
		`"{\"password\":\"Slack9\"}"`,
		"\"<w:Password Type=\\\"x\\\">Slack9</w:Password>\"",
		`user=a&password=Slack9&x=1`,
		`user=a; pwd=Slack9; x`,
		"Authorization: Slack9\r\nX: 1",
		`<vessel><pin>Slack9</pin>&`,
	} {
		names := SecretNames{"vessel/pin"}
		spans := names.In([]byte(text))
		if assert.Len(t, spans, 1, text) {
			got := text[spans[0].Offset : spans[0].Offset+spans[0].Length]
			assert.Equal(t, "Slack9", string(bytes.TrimSpace([]byte(got))), text)
		}
	}
	const hidden = `<a & b><w:Password>Slack9</w:Password>`
	var zipped bytes.Buffer
	z := gzip.NewWriter(&zipped)
	_, _ = z.Write([]byte(hidden))
	z.Close()
	for _, b := range [][]byte{
		zipped.Bytes(),
		zipped.Bytes()[:zipped.Len()-9], // cut off
		[]byte(base64.StdEncoding.EncodeToString([]byte(hidden))),
		[]byte(`%3Cw%3APassword%3ESlack9%3C%2Fw%3APassword%3E`), []byte(`xml=%3cpassword%3eSlack9%3c/password%3e%`),
		[]byte(`"\u003cpassword\u003eSlack9\u003c/password\u003e"`),
		[]byte(wide(hidden, binary.LittleEndian)), []byte(wide(hidden, binary.BigEndian)),
		[]byte("\xff\xfe" + wide(hidden, binary.LittleEndian)),
		[]byte("\x56\x02\x0b\x01s\x40\x08Password\x99\x06Slack9\x01"),
	} {
		assert.Equal(t, []Span{{Length: int64(len(b))}}, SecretNames(nil).In(b), "%q", b)
	}
	for _, text := range []string{
		"", "hello", `<a & b><berth>N07</berth>`, `{"quay":"N"}`, `<wsse:UsernameToken><Username>a</Username>`,
		`<Password/><a & b>`, `the password is wrong`, "\x1f\x8bnothing", "password", "password=", `{"password":""}`,
	} {
		assert.Empty(t, SecretNames(nil).In([]byte(text)), text)
	}
	for _, text := range []string{"password: at least 8 characters", "Unexpected token: <", "token=none"} {
		assert.Empty(t, SecretNames(nil).InAnswer([]byte(text)), text)
	}
	for _, text := range []string{`{"access_token":"Slack9"}`, `<token>Slack9</token>`, `<a token="Slack9"`} {
		assert.Len(t, SecretNames(nil).InAnswer([]byte(text)), 1, text)
	}
}

// FuzzSecretsIn: any bytes are looked through, and the places are in them, in order.
func FuzzSecretsIn(f *testing.F) {
	for _, s := range []string{`<password>x`, `%3Cpassword%3Ex`, `{"password":"x\`, "\x1f\x8b", "p\x00w\x00d\x00=\x00"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		past := int64(0)
		for _, s := range (SecretNames{"pin"}).In(b) {
			if s.Offset < past || s.Length <= 0 || s.Offset+s.Length > int64(len(b)) {
				t.Fatalf("%v in %q", s, b)
			}
			past = s.Offset + s.Length
		}
	})
}
