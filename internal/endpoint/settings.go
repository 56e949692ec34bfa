package endpoint

import (
	"fmt"
	"maps"
	"math"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"orenda/internal/exchange"
	"orenda/internal/near"
)

// Layer is one place where values stand. The weakest comes first in a Stack.
type Layer struct {
	Source string              // "default", "profile NAME", "contract", "endpoint", "this call"
	Values map[string][]string // items by key
}

// Settings are the layers of one call, weakest first; the defaults stand
// beneath them all.
type Settings struct {
	Layers []Layer // the weakest first
}

// Yours ends the source of a value that stands in a profile of the person's own,
// which serves all workspaces.
const Yours = " (yours)"

// Value is a value in force with its source.
type Value struct {
	Key    *Key     // the setting
	Text   string   // for a List, its items joined by ", "
	Items  []string // for a List
	Source string   // the layer that it stands in
}

// IsSet tells whether a layer above the defaults holds a value.
func (v Value) IsSet() bool { return v.Source != "default" }

// Get finds the value in force. An unknown name is a programming error.
func (s *Settings) Get(name string) Value {
	k := KeyOf(name)
	if k == nil {
		panic("endpoint: no setting " + name)
	}
	return s.Of(k)
}

// Of is Get for a key at hand.
func (s *Settings) Of(k *Key) Value {
	for i := len(s.Layers) - 1; i >= 0; i-- {
		if v, ok := s.Layers[i].Values[k.Name]; ok {
			return Value{k, k.spelled(strings.Join(v, ", ")), v, s.Layers[i].Source}
		}
	}
	if k.Follows != "" {
		v := s.Get(k.Follows)
		return Value{k, v.Text, nil, "default"}
	}
	return Value{Key: k, Text: k.Default, Source: "default"}
}

// spelled is the value of a choice as the table has it, whatever its case: UTF-8 is utf-8.
func (k *Key) spelled(v string) string {
	if k.Kind == Choice {
		for _, o := range k.Of {
			if strings.EqualFold(o, v) {
				return o
			}
		}
	}
	return v
}

// Set puts a value into the topmost layer, "this call". Copies of s that were
// made before are not changed.
func (s *Settings) Set(name string, values ...string) {
	layers := slices.Clone(s.Layers)
	if n := len(layers); n == 0 || layers[n-1].Source != "this call" {
		layers = append(layers, Layer{Source: "this call"})
	}
	top := &layers[len(layers)-1]
	top.Values = maps.Clone(top.Values)
	if top.Values == nil {
		top.Values = map[string][]string{}
	}
	top.Values[name] = values
	s.Layers = layers
}

// Text is the value of a setting as written.
func (s *Settings) Text(name string) string { return s.Get(name).Text }

// List are the items of a list setting.
func (s *Settings) List(name string) []string { return s.Get(name).Items }

// Switch is the value of a true-or-false setting.
func (s *Settings) Switch(name string) bool { return s.Get(name).Text == "true" }

// Size is the value of a size in bytes; an unreadable one is 0 with an error.
func (s *Settings) Size(name string) (int64, error) {
	v := s.Get(name)
	switch {
	case v.IsSet():
	case v.Key.number > 0:
		return v.Key.number, nil
	case v.Key.Follows != "":
		return s.Size(v.Key.Follows)
	}
	return ParseSize(v.Text)
}

// Duration is the value of a time limit; 0 where it is not set.
func (s *Settings) Duration(name string) (time.Duration, error) {
	v := s.Get(name)
	if v.Text == "" || !v.IsSet() {
		return time.Duration(v.Key.number), nil
	}
	return ParseDuration(v.Text)
}

// Count is the value of a plain number.
func (s *Settings) Count(name string) (int, error) {
	n, err := strconv.Atoi(strings.TrimSpace(s.Get(name).Text))
	if err != nil || n <= 0 {
		return 0, fmt.Errorf("%q is not a number above zero", s.Get(name).Text)
	}
	return n, nil
}

// Given are the values in force that a layer holds, in the order of the table.
func (s *Settings) Given() []Value {
	n := 0
	for _, l := range s.Layers {
		n += len(l.Values)
	}
	out := make([]Value, 0, n)
	for i := len(s.Layers) - 1; i >= 0; i-- {
		for name := range s.Layers[i].Values {
			if k := KeyOf(name); k != nil && !slices.ContainsFunc(out, func(v Value) bool { return v.Key == k }) {
				out = append(out, s.Of(k))
			}
		}
	}
	slices.SortFunc(out, func(a, b Value) int { return a.Key.place - b.Key.place })
	return out
}

// Record lists every value in force, for the exchange's record.
func (s *Settings) Record() []exchange.Setting {
	out := slices.Clone(defaults)
	for _, v := range s.Given() {
		out[v.Key.place].Value, out[v.Key.place].Source = v.Text, v.Source
	}
	for _, k := range following {
		out[k.place].Value = s.Of(k).Text
	}
	return out
}

// Check says what is wrong with a value for the key, in plain words; nil where
// nothing is.
func (k *Key) Check(value string) error {
	if strings.ContainsAny(value, "\r\n\x00") { // it could begin another field of a head
		return fmt.Errorf("%q holds a line break", value)
	}
	switch k.Kind {
	case List:
		return k.checkItem(value)
	case Size:
		n, err := ParseSize(value)
		if err == nil && n <= 0 {
			err = fmt.Errorf("%q is not a size above zero", value)
		}
		return err
	case Duration:
		d, err := ParseDuration(value)
		if err == nil && d <= 0 {
			err = fmt.Errorf("%q is not a time above zero", value)
		}
		return err
	case Count:
		if n, err := strconv.Atoi(value); err != nil || n <= 0 {
			return fmt.Errorf("%q is not a number above zero", value)
		}
	case Switch:
		if value != "true" && value != "false" {
			return fmt.Errorf("%q is neither true nor false", value)
		}
	case Choice:
		for _, o := range k.Of {
			if strings.EqualFold(o, value) {
				return nil
			}
		}
		hint := ""
		if m := near.Miss(value, k.Of); m != "" {
			hint = fmt.Sprintf("; %s is meant, perhaps", m)
		}
		return fmt.Errorf("%q is not one of %s%s", value, strings.Join(k.Of, ", "), hint)
	}
	if k.Name == "resolver" {
		_, err := ParseServer(value)
		return err
	}
	return nil
}

// ParseServer is the address and port of a name server, port 53 unless it is said.
func ParseServer(value string) (string, error) {
	host, port, err := net.SplitHostPort(value)
	if err != nil {
		host, port = strings.Trim(value, "[]"), "53"
	}
	if n, err := strconv.ParseUint(port, 10, 16); err != nil || n == 0 || net.ParseIP(host) == nil {
		return "", fmt.Errorf("%q is not the IP address of a name server, with or without a port", value)
	}
	return net.JoinHostPort(host, port), nil
}

// checkItem says what is wrong with an item of a list.
func (k *Key) checkItem(value string) error {
	if !k.IsFields() {
		return nil
	}
	name, _, ok := strings.Cut(value, ":")
	name = strings.TrimSpace(name)
	if !ok || !isToken(name) {
		return fmt.Errorf("%q is no header field; write Name: value", value)
	}
	if k.Name == "trailer" && slices.Contains(notTrailing, strings.ToLower(name)) {
		return fmt.Errorf("%s may not stand behind the last chunk (RFC 9110 §6.5.1)", name)
	}
	return nil
}

// IsFields tells whether the items of a setting are header fields, Name: value.
func (k *Key) IsFields() bool { return k.Name == "header" || k.Name == "trailer" }

// notTrailing are fields that say how a message is read, and come too late behind it.
//
//nolint:gochecknoglobals // a table: it is never written to
var notTrailing = []string{
	"authorization", "content-encoding", "content-length", "content-type", "expect", "host", "te", "trailer",
	"transfer-encoding",
}

// isToken tells whether a text can be the name of a header field (RFC 9110 §5.6.2).
func isToken(s string) bool {
	return s != "" && strings.IndexFunc(s, func(r rune) bool {
		return r <= ' ' || r >= 0x7f || strings.ContainsRune("\"(),/:;<=>?@[\\]{}", r)
	}) < 0
}

//nolint:gochecknoglobals // a table: it is never written to
var sizeUnits = []struct {
	name  string
	bytes int64
}{
	{"kib", 1 << 10}, {"mib", 1 << 20}, {"gib", 1 << 30}, {"kb", 1000}, {"mb", 1000 * 1000}, {"gb", 1000 * 1000 * 1000},
	{"k", 1 << 10}, {"m", 1 << 20}, {"g", 1 << 30}, {"bytes", 1}, {"b", 1}, {"", 1},
}

// withoutGaps leaves out what people put between groups of digits, and is in lower
// case.
func withoutGaps(r rune) rune {
	switch r {
	case ' ', '_', '\u00a0', '\u202f':
		return -1
	}
	return unicode.ToLower(r)
}

// ParseSize reads a size in bytes as people write it: 65536, 65 536, 64 KiB,
// 2 MB, 1.5MiB.
func ParseSize(s string) (int64, error) {
	t := strings.Map(withoutGaps, s)
	i := strings.IndexFunc(t, func(r rune) bool { return (r < '0' || r > '9') && r != '.' && r != '-' && r != '+' })
	if i < 0 {
		i = len(t)
	}
	number, unit := t[:i], t[i:]
	for _, u := range sizeUnits {
		if u.name != unit {
			continue
		}
		f, err := strconv.ParseFloat(number, 64)
		if err != nil {
			break
		}
		if f*float64(u.bytes) >= math.MaxInt64 || f < 0 {
			return 0, fmt.Errorf("%q is not a size that can be", s)
		}
		return int64(math.Round(f * float64(u.bytes))), nil
	}
	return 0, fmt.Errorf("%q is not a size; write 65536, 64 KiB or 2 MB", s)
}

// ParseDuration reads a time as people write it: 30s, 5 min, 1h30m, 250ms.
func ParseDuration(s string) (time.Duration, error) {
	t := strings.ReplaceAll(strings.ToLower(s), " ", "")
	for _, r := range [][2]string{{"minutes", "m"}, {"minute", "m"}, {"min", "m"}, {"seconds", "s"}, {"second", "s"},
		{"sec",
			"s"}, {"hours", "h"}, {"hour", "h"}} {
		t = strings.ReplaceAll(t, r[0], r[1])
	}
	d, err := time.ParseDuration(t)
	if err != nil {
		return 0, fmt.Errorf("%q is not a time; write 30s, 5m or 250ms", s)
	}
	return d, nil
}

// FormatSize writes a size in the largest binary unit that divides it.
func FormatSize(n int64) string {
	switch {
	case n >= 1<<30 && n%(1<<30) == 0:
		return fmt.Sprintf("%d GiB", n>>30)
	case n >= 1<<20 && n%(1<<20) == 0:
		return fmt.Sprintf("%d MiB", n>>20)
	case n >= 1<<10 && n%(1<<10) == 0:
		return fmt.Sprintf("%d KiB", n>>10)
	}
	return strconv.FormatInt(n, 10)
}

// Bytes writes a number of bytes for people, in groups of three digits.
func Bytes(n int64) string {
	s := strconv.AppendInt(make([]byte, 0, 32), n, 10)
	out := make([]byte, 0, 32)
	for i, d := range s {
		if i > 0 && (len(s)-i)%3 == 0 {
			out = append(out, ' ')
		}
		out = append(out, d)
	}
	return string(out)
}

// Spell is a value as it is shown: a size in grouped bytes, with the round unit beside it
// where there is one, any other as it was written.
func (k *Key) Spell(value string) string {
	if k.Kind != Size {
		return value
	}
	n, err := ParseSize(value)
	if err != nil {
		return value
	}
	out := Bytes(n) + " B"
	if round := FormatSize(n); strings.HasSuffix(round, "iB") {
		out += " · " + round
	}
	return out
}

// RoundLimit is a limit that holds n bytes with room to spare: the next power
// of two above n, and the one after where n fills nearly all of it; 4 EiB at most.
func RoundLimit(n int64) int64 {
	limit := int64(64 << 10)
	for limit < 1<<62 && limit-limit/9 < n {
		limit *= 2
	}
	return limit
}
