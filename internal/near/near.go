// Package near finds the name that somebody probably meant.
package near

import "strings"

// Miss is the candidate that is closest to name: the same but for case, or
// one or two letters away. It is "" where none is close, or name is there.
func Miss(name string, candidates []string) string {
	best, least := "", 1+max(1, min(2, len([]rune(name))/3))
	for _, c := range candidates {
		if c == name {
			return ""
		}
		if strings.EqualFold(c, name) {
			return c
		}
		if d := distance([]rune(strings.ToLower(name)), []rune(strings.ToLower(c))); d < least {
			best, least = c, d
		}
	}
	return best
}

// distance counts insertions, deletions, replacements and swaps of neighbours.
func distance(a, b []rune) int {
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
