package ui

import (
	"os"
	"path/filepath"
	"strings"
)

// maxChoices is how many ways a path can go on are told.
const maxChoices = 8

// CompletePath goes on with a path as far as only one way leads. choices are the ways that
// it can go on, by their names, where there are several.
func CompletePath(text string) (whole string, choices []string) {
	path := text
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		home, err := os.UserHomeDir()
		if err != nil {
			return text, nil
		}
		path = filepath.Join(home, rest)
		if strings.HasSuffix(text, "/") {
			path += "/"
		}
	}
	dir, begun := filepath.Split(path)
	all, err := os.ReadDir(filepath.Clean("./" + dir))
	if filepath.IsAbs(dir) {
		all, err = os.ReadDir(dir)
	}
	if err != nil {
		return text, nil
	}
	common := ""
	for _, e := range all {
		name := e.Name()
		if !strings.HasPrefix(name, begun) || strings.HasPrefix(name, ".") && begun == "" {
			continue
		}
		if e.IsDir() {
			name += "/"
		}
		if choices = append(choices, name); len(choices) == 1 {
			common = name
		}
		for !strings.HasPrefix(name, common) {
			common = common[:len(common)-1]
		}
	}
	if len(choices) == 0 {
		return text, nil
	}
	whole = text[:len(text)-len(begun)] + strings.ToValidUTF8(common, "")
	if len(choices) == 1 {
		return whole, nil
	}
	if n := len(choices); n > maxChoices {
		choices = append(choices[:maxChoices], "…")
	}
	return whole, choices
}
