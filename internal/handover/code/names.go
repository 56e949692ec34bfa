package code

import (
	"slices"
	"strings"
	"unicode"
)

// words parts a name of XML at its borders: capitals, signs, and blanks.
func words(name string) (out []string) {
	var word []rune
	runes := []rune(name)
	flush := func() {
		if len(word) > 0 {
			out = append(out, string(word))
		}
		word = nil
	}
	for i, r := range runes {
		switch {
		case r > unicode.MaxASCII || !unicode.IsLetter(r) && !unicode.IsDigit(r):
			flush()
			continue
		case unicode.IsUpper(r) && i > 0 && (unicode.IsLower(runes[i-1]) || unicode.IsDigit(runes[i-1]) ||
			i+1 < len(runes) && unicode.IsLower(runes[i+1]) && unicode.IsUpper(runes[i-1])):
			flush()
		}
		word = append(word, r)
	}
	flush()
	if len(out) == 0 || unicode.IsDigit(rune(out[0][0])) {
		out = append([]string{"value"}, out...)
	}
	return out
}

func title(w string) string { return strings.ToUpper(w[:1]) + strings.ToLower(w[1:]) }

// Pascal is a name as types have it: BerthTaken.
func Pascal(name string) string {
	var b strings.Builder
	for _, w := range words(name) {
		b.WriteString(title(w))
	}
	return b.String()
}

// Camel is a name as fields have it in many languages: callSign.
func Camel(name string) string {
	p := words(name)
	out := strings.ToLower(p[0])
	for _, w := range p[1:] {
		out += title(w)
	}
	return out
}

// Snake is a name as fields have it in others: call_sign.
func Snake(name string) string { return strings.ToLower(strings.Join(words(name), "_")) }

// Upper is a name as constants have it: CHART_DATUM.
func Upper(name string) string { return strings.ToUpper(strings.Join(words(name), "_")) }

// Kebab is a name as files have it: tide-tables.
func Kebab(name string) string { return strings.ToLower(strings.Join(words(name), "-")) }

// Words that no name of a program may be: those of the language, and those of its own.
const (
	javaWords = `abstract assert boolean break byte case catch char class const continue default do double else
	enum extends final finally float for goto if implements import instanceof int interface long
	native new package private protected public return short static strictfp super switch
	synchronized this throw throws transient try void volatile while true false null var record
	yield read write clone finalize getClass hashCode notify notifyAll toString wait call`
	pythonWords = `false none true and as assert async await break class continue def del elif else except finally
	for from global if import in is lambda nonlocal not or pass raise return try while with yield
	match case type read write self`
)

// unlike is a name that is none of some words.
func unlike(name, words string) string {
	if slices.Contains(strings.Fields(words), name) {
		return name + "_"
	}
	return name
}
