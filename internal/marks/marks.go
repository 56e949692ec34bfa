// Package marks holds the signs that a path is drawn with. They stand in every common
// font, read without colour, and have a plain form for terminals that know ASCII only.
package marks

import (
	"os"
	"strings"
)

// The signs of a stage.
const (
	Passed     = "■"
	Stopped    = "×" // here it ended
	UnderWay   = "►"
	NotReached = "·"
	NotUsed    = "-"
)

// Key explains the signs in one line.
const Key = Passed + " passed   " + Stopped + " stopped here   " + NotReached + " not reached   " + UnderWay +
	" under way   " + NotUsed + " not used"

// Plain is a text with its signs in ASCII, each as wide as it was.
func Plain(s string) string { return plain.Replace(s) }

//nolint:gochecknoglobals // a table: it is never written to
var plain = strings.NewReplacer(
	"■", "#", "×", "x", "►", ">", "·", ".", "▌", ">", "‹", "<", "›", ">", "→", ">", "←", "<",
	"↑", "^", "↓", "v", "…", "~", "─", "-", "│", "|", "┄", "-", "◇", "/", "◂", "<", "▸", ">",
	"⏎", "=", "⇧", "^", "•", "*", "“", `"`, "”", `"`, "±", "+", "█", "#", "▏", "|", "▕", "|",
	"░", ".", "╭", "+", "╮", "+", "╰", "+", "╯", "+", "├", "+", "┤", "+", "␠", "_", "↵", "=",
	"␊", "=", "▲", "^", "━", "-", "–", "-", "§", "S", "▁", "_", "▂", "_", "▃", "-", "▄", "-",
	"▅", "=", "▆", "=", "▇", "#",
)

// WantsPlain tells whether the terminal knows ASCII only: ORENDA_ASCII is set, it is a
// terminal that has no other signs, or its character set is not UTF-8.
func WantsPlain() bool {
	if os.Getenv("ORENDA_ASCII") != "" {
		return true
	}
	switch os.Getenv("TERM") {
	case "dumb", "vt52", "vt100", "vt102", "vt220", "cons25":
		return true
	}
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := strings.ToLower(os.Getenv(name)); v != "" {
			return !strings.Contains(v, "utf-8") && !strings.Contains(v, "utf8") && v != "c" && v != "posix"
		}
	}
	return false
}
