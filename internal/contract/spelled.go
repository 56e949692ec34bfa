package contract

import (
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"orenda/internal/pattern"
)

// bare is a host, with or without a port, and what follows it, without a scheme.
var bare = pattern.New(`^(\[[0-9a-fA-F:]+\]|[A-Za-z0-9][A-Za-z0-9.-]*)(:\d{1,5})?([/?].*)?$`)

// Spelled is the place of a description as it was meant: a person types or pastes it with
// quotes or angle brackets around it, with escaped blanks, as a file URL, below ~, or
// without its scheme. A file that is there by the name as it stands is that file.
func Spelled(text string) string {
	text = strings.TrimSpace(text)
	for _, pair := range []string{`""`, "''", "<>", "“”", "‘’"} {
		r := []rune(pair)
		if in, ok := strings.CutPrefix(text, string(r[0])); ok && strings.HasSuffix(in, string(r[1])) {
			text = strings.TrimSpace(strings.TrimSuffix(in, string(r[1])))
		}
	}
	if _, err := os.Stat(text); err == nil || text == "" || IsRemote(text) {
		return text
	}
	if rest, ok := strings.CutPrefix(text, "~"); ok &&
		(rest == "" || rest[0] == '/' || rest[0] == filepath.Separator) {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	if u, err := url.Parse(text); err == nil && strings.EqualFold(u.Scheme, "file") &&
		(u.Host == "" || u.Host == "localhost") {
		return filepath.FromSlash(u.Path)
	}
	if plain := strings.ReplaceAll(text, `\ `, " "); plain != text {
		if _, err := os.Stat(plain); err == nil {
			return plain
		}
	}
	if m := bare.FindStringSubmatch(text); m != nil && isHost(m[1], m[2], m[3]) {
		return "http://" + text
	}
	return text
}

// isHost tells whether a word is meant as a host and not as a file: it has a port, it is
// this machine or an address, or its path asks for a description.
func isHost(name, port, rest string) bool {
	if port != "" || name == "localhost" || strings.HasPrefix(name, "[") {
		return true
	}
	numbers := strings.Trim(name, "0123456789.") == "" && strings.Count(name, ".") == 3
	asks := strings.Contains(strings.ToLower(rest), "?wsdl") ||
		strings.Contains(strings.ToLower(rest), "?singlewsdl")
	return numbers || asks && strings.Contains(name, ".")
}
