package exchange

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"html"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"unicode/utf16"
)

// Cut is a secret that was cut out of the bytes: its place and length, and a
// keyed hash, so that two can be told to be the same without being known.
type Cut struct {
	Span Span   `json:"span"` // where it stood
	Hash string `json:"hash"` // keyed, so that two can be told to be the same
}

// Masked stands in the place of a secret's bytes.
const Masked = '*'

// Redact is a copy of the record from which every secret is cut out: where its
// place is known from when the bytes were made, and wherever its value stands
// besides, in any of the forms that needles knows. Of a reply that holds one in bytes
// that cannot be searched, as it came compressed or in pieces, the bytes as they came
// are masked whole.
func (x *Exchange) Redact(key []byte) *Exchange {
	c := x.Clone()
	c.Secrets = nil
	c.Inputs = slices.Clone(c.Inputs)
	for i, in := range c.Inputs {
		if x.SecretNames.Path(strings.TrimPrefix(in.Path, "header:")) {
			c.Inputs[i].Value = strings.Repeat(string(Masked), 8)
		}
	}
	needles := needles(x.allSecrets())
	for _, l := range c.Legs {
		if len(l.SecretSpans) > 0 {
			l.Out = slices.Clone(l.Out)
		}
		if len(l.BodySecrets) > 0 {
			l.RequestBody = slices.Clone(l.RequestBody)
		}
		l.cut(key)
		for _, s := range l.BodySecrets {
			if s.Offset >= 0 && s.Offset+s.Length <= int64(len(l.RequestBody)) {
				mask(l.RequestBody[s.Offset : s.Offset+s.Length])
			}
		}
		l.Request.Fields = slices.Clone(l.Request.Fields)
		for i, f := range l.Request.Fields {
			for _, s := range l.SecretSpans {
				if s.Offset >= f.Span.Offset && s.Offset < f.Span.Offset+f.Span.Length {
					l.Request.Fields[i].Value = strings.Repeat(string(Masked), 8)
				}
			}
		}
		cutWords(reflect.ValueOf(&l.Request).Elem(), needles)
		cutWords(reflect.ValueOf(&l.Response).Elem(), needles)
		if !l.clean(needles) {
			l.Beginning()
		}
		l.maskWhatHides(needles)
		l.maskCoded(needles)
		for _, r := range l.runs() {
			if b := r.get(); !b.Stored() {
				if masked, found := without(b.Bytes(), needles); found {
					r.set(NewBody(masked))
				}
			}
		}
	}
	return c.withoutWords(needles)
}

// cut cuts the secrets out of what left, each with a hash in its place.
func (l *Leg) cut(key []byte) {
	known := l.Cuts // of a record that was cut already: the bytes tell nothing any more
	l.Cuts = nil
	for _, s := range l.SecretSpans {
		if c, is := cutAt(known, s); is {
			l.Cuts = append(l.Cuts, c)
			continue
		}
		if s.Offset < 0 || s.Offset+s.Length > int64(len(l.Out)) {
			continue
		}
		secret := l.Out[s.Offset : s.Offset+s.Length]
		m := hmac.New(sha256.New, key)
		m.Write(secret)
		l.Cuts = append(l.Cuts, Cut{s, hex.EncodeToString(m.Sum(nil)[:12])})
		mask(secret)
	}
}

// cutAt is the cut at a place, where there is one.
func cutAt(all []Cut, s Span) (Cut, bool) {
	if i := slices.IndexFunc(all, func(c Cut) bool { return c.Span == s }); i >= 0 {
		return all[i], true
	}
	return Cut{}, false
}

// allSecrets are the secrets that the record is known to hold: those that were told
// when they were used, the bytes at the places of secrets, and what names say.
func (x *Exchange) allSecrets() []string {
	out := slices.Clone(x.Secrets)
	add := func(b []byte, s Span) {
		if s.Offset >= 0 && s.Offset+s.Length <= int64(len(b)) {
			text := string(b[s.Offset : s.Offset+s.Length])
			out = append(out, text, html.UnescapeString(text))
		}
	}
	for _, s := range x.Settings {
		if s.Key == "address" || s.Key == "proxy" {
			out = append(out, AddressSecrets(s.Value, x.SecretNames)...)
		}
	}
	for _, l := range x.Legs {
		for _, s := range l.SecretSpans {
			add(l.Out, s)
		}
		for _, s := range l.BodySecrets {
			add(l.RequestBody, s)
		}
		if words := strings.Fields(l.Request.Line); len(words) == 3 {
			out = append(out, AddressSecrets(words[1], x.SecretNames)...)
		}
		for _, f := range l.Response.Fields {
			switch {
			case strings.EqualFold(f.Name, "Location"):
				out = append(out, AddressSecrets(f.Value, x.SecretNames)...)
			case x.SecretNames.Name(f.Name):
				value, _, _ := strings.Cut(f.Value, ";")
				out = append(out, value)
				if _, v, ok := strings.Cut(value, "="); ok {
					out = append(out, v)
				}
			}
		}
		out = append(out, l.oddSecrets(x.SecretNames)...)
	}
	return out
}

// maxOdd is how much of what came beside the answer is looked through, in bytes.
const maxOdd = 64 << 10

// oddSecrets are the secrets in what came beside the fields and the body of an answer: lines of its head that are no
// field of their own, interim answers, and what stands behind its declared end.
func (l *Leg) oddSecrets(names SecretNames) (out []string) {
	text := l.In.Range(0, min(l.HeadAt, maxOdd))
	for _, f := range l.Response.Flaws {
		line := l.In.Range(l.HeadAt+f.Span.Offset, l.HeadAt+f.Span.Offset+f.Span.Length)
		text = append(append(slices.Clip(text), line...), '\n')
	}
	if from := l.In.Len() - l.Behind; l.Behind > 0 && from >= l.BodyAt() {
		behind := l.In.Range(from, min(l.In.Len(), from+maxOdd))
		for _, s := range names.In(behind) {
			out = append(out, string(behind[s.Offset:s.Offset+s.Length]))
		}
		text = append(append(slices.Clip(text), behind...), '\n')
	}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		name, value, ok := strings.Cut(line, ":")
		if !ok || strings.ContainsAny(strings.TrimSpace(name), " \t") {
			name, value, _ = strings.Cut(line, " ")
		}
		if !names.Name(strings.TrimSpace(name)) {
			continue
		}
		for _, word := range strings.FieldsFunc(value, func(r rune) bool { return strings.ContainsRune(" ;,\t", r) }) {
			_, v, ok := strings.Cut(word, "=")
			if out = append(out, word); ok {
				out = append(out, v)
			}
		}
	}
	return out
}

// maskWhatHides masks the body as it came, where a secret stands in the decoded text
// and not as often in the bytes: they are compressed, or in pieces.
func (l *Leg) maskWhatHides(needles [][]byte) {
	if l.ResponseBody.Stored() {
		return
	}
	if l.ResponseBody.within(l.In, l.bodyAt) {
		return // they are the same bytes
	}
	body := l.ResponseBody.Bytes()
	_ = l.In.Use(func(in []byte) error {
		head := bytes.Index(in, []byte("\r\n\r\n")) + 4
		if head < 4 {
			head = 0
		}
		hides := func(n []byte) bool { return bytes.Count(body, n) > bytes.Count(in[head:], n) }
		if !slices.ContainsFunc(needles, hides) {
			return nil
		}
		if l.In.Stored() {
			l.Whole = l.In.Len()
			l.In = NewBody(slices.Clone(in[:min(len(in), MaxKept)]))
		} else {
			l.In = NewBody(slices.Clone(in))
		}
		mask(l.In.memory[head:])
		return nil
	})
}

// maskCoded masks the body as it left, where it was compressed and a secret stands in what it is made of.
func (l *Leg) maskCoded(needles [][]byte) {
	head := l.Request.Size
	if l.Request.Get("Content-Encoding") == "" || head <= 0 || head >= int64(len(l.Out)) {
		return
	}
	if slices.ContainsFunc(needles, func(n []byte) bool { return bytes.Contains(l.RequestBody, n) }) {
		l.Out = slices.Clone(l.Out)
		mask(l.Out[head:])
	}
}

// without masks all needles in a copy of b, if any is in it.
func without(b []byte, needles [][]byte) (masked []byte, found bool) {
	for _, n := range needles {
		for at := 0; ; {
			i := bytes.Index(b[at:], n)
			if i < 0 {
				break
			}
			if !found {
				b, found = slices.Clone(b), true
			}
			mask(b[at+i : at+i+len(n)])
			at += i + len(n)
		}
	}
	return b, found
}

// clean tells whether no secret stands in what lies in a storage. Where one does,
// only the beginning stays in the record, without it: a storage is not changed.
func (l *Leg) clean(needles [][]byte) bool {
	yes := true
	for _, body := range []Body{l.In, l.ResponseBody} {
		if !body.Stored() {
			continue
		}
		err := body.Use(func(all []byte) error {
			for _, n := range needles {
				yes = yes && !bytes.Contains(all, n)
			}
			return nil
		})
		yes = yes && err == nil
	}
	return yes
}

func mask(b []byte) {
	for i := range b {
		b[i] = Masked
	}
}

// needles are the forms in which secrets are looked for; short ones would hit
// what is no secret.
func needles(secrets []string) (out [][]byte) {
	for _, s := range secrets {
		if len(s) < 4 {
			continue
		}
		var esc bytes.Buffer
		_ = xml.EscapeText(&esc, []byte(s))
		forms := []string{
			s,
			esc.String(),
			strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(s),
			base64.StdEncoding.EncodeToString([]byte(s)),
			base64.URLEncoding.EncodeToString([]byte(s)),
			url.QueryEscape(s),
			hex.EncodeToString([]byte(s)),
			strings.ToUpper(hex.EncodeToString([]byte(s))),
			references(s, "&#%d;"),
			references(s, "&#x%x;"),
			references(s, "&#x%X;"),
			wide(s, binary.LittleEndian),
			wide(s, binary.BigEndian),
		}
		for _, form := range append(forms, withinBase64(s)...) {
			if b := []byte(form); !slices.ContainsFunc(out, func(o []byte) bool { return bytes.Equal(o, b) }) {
				out = append(out, b)
			}
		}
	}
	return out
}

// references writes each character as a numeric reference.
func references(s, format string) string {
	var b strings.Builder
	for _, r := range s {
		fmt.Fprintf(&b, format, r)
	}
	return b.String()
}

// wide is the text in UTF-16.
func wide(s string, order binary.AppendByteOrder) string {
	var b []byte
	for _, u := range utf16.Encode([]rune(s)) {
		b = order.AppendUint16(b, u)
	}
	return string(b)
}

// withinBase64 are the characters of base64 that a secret makes within longer text,
// where it begins at the second or third byte of a group; at the first it is plain
// base64. Characters that neighbours share in are left out.
func withinBase64(s string) (out []string) {
	for shift := range 3 {
		whole := base64.RawStdEncoding.EncodeToString(append(make([]byte, shift), s...))
		from := (shift*8 + 5) / 6
		to := (shift + len(s)) * 8 / 6
		if to-from >= 6 {
			out = append(out, whole[from:to])
		}
	}
	return out
}

// withoutWords masks secrets in everything that is text: facts, findings, notes.
func (x *Exchange) withoutWords(needles [][]byte) *Exchange {
	legs := x.Legs
	x.Legs = nil
	cutWords(reflect.ValueOf(x).Elem(), needles)
	x.Legs = legs
	return x
}

// own are the fields whose words are Orenda's own, whatever somebody's password
// is; so are those of all types that are not plainly strings.
//
//nolint:gochecknoglobals // a table: it is never written to
var own = []string{"ID", "Key", "Kind", "Where", "Because"}

// cutWords masks needles in all strings of v, which keeps nothing in common with
// what it was copied from.
func cutWords(v reflect.Value, needles [][]byte) {
	if len(needles) == 0 { // nothing is written, so what is shared stays as it is
		return
	}
	switch v.Kind() {
	case reflect.String:
		if v.Type() != reflect.TypeFor[string]() {
			return
		}
		s := v.String()
		for _, n := range needles {
			s = strings.ReplaceAll(s, string(n), strings.Repeat(string(Masked), 8))
		}
		v.SetString(s)
	case reflect.Pointer, reflect.Interface:
		if v.IsNil() {
			return
		}
		to := reflect.New(v.Elem().Type())
		to.Elem().Set(v.Elem())
		cutWords(to.Elem(), needles)
		if v.Kind() == reflect.Interface {
			to = to.Elem()
		}
		v.Set(to)
	case reflect.Slice:
		if v.IsNil() || v.Type().Elem().Kind() == reflect.Uint8 {
			return
		}
		to := reflect.MakeSlice(v.Type(), v.Len(), v.Len())
		reflect.Copy(to, v)
		for i := range to.Len() {
			cutWords(to.Index(i), needles)
		}
		v.Set(to)
	case reflect.Array:
		for i := range v.Len() {
			cutWords(v.Index(i), needles)
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() && !slices.Contains(own, f.Name) {
				cutWords(v.Field(i), needles)
			}
		}
	}
}
