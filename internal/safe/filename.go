package safe

import (
	"strings"
	"unicode"
)

// FileName makes a file name of a name that came from outside: no separators,
// no leading dot, nothing that a shell or another system would trip over.
func FileName(name string) string {
	var b strings.Builder
	for _, r := range name {
		switch {
		case unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("-_ .", r):
			b.WriteRune(r)
		default:
			b.WriteByte('_')
		}
		if b.Len() > 80 {
			break
		}
	}
	s := strings.Trim(b.String(), ". ")
	if s == "" {
		return "unnamed"
	}
	return s
}
