package ui

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// maxChoices is how many ways a path can go on are told.
const maxChoices = 8

// Completed is a text that was gone on with, as far as only one way led.
type Completed struct {
	Text    string   // that was typed
	Whole   string   // what stands there now
	Choices []string // the ways on, where there are several
}

// Complete goes on with a path, or with one of the known texts: one that begins with what is
// typed, else one that has it somewhere.
func Complete(text string, known []string) Completed {
	var fit []string
	for _, has := range []func(string) bool{
		func(k string) bool { return strings.HasPrefix(k, text) },
		func(k string) bool { return strings.Contains(strings.ToLower(k), strings.ToLower(text)) },
	} {
		for _, k := range known {
			if has(k) && k != text && !slices.Contains(fit, k) {
				fit = append(fit, k)
			}
		}
		if len(fit) > 0 {
			break
		}
	}
	whole, choices := CompletePath(text)
	switch {
	case text != "" && (whole != text || len(choices) > 0): // files are what is meant
		return Completed{text, whole, choices}
	case len(fit) == 0:
		return Completed{text, whole, choices}
	case len(fit) == 1:
		return Completed{text, fit[0], nil}
	}
	common := fit[0]
	for _, f := range fit {
		for !strings.HasPrefix(f, common) {
			common = common[:len(common)-1]
		}
	}
	if !strings.HasPrefix(common, text) {
		common = text
	}
	ends := make([]string, len(fit)) // what they have in common stands in the line
	for i, f := range fit {
		ends[i] = f[strings.LastIndex(f[:min(len(common), len(f))], "/")+1:]
		if !strings.HasPrefix(f, common) {
			ends[i] = f
		}
	}
	return Completed{text, strings.ToValidUTF8(common, ""), few(ends)}
}

func few(choices []string) []string {
	if len(choices) > maxChoices {
		return append(choices[:maxChoices:maxChoices], "…")
	}
	return choices
}

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
	return whole, few(choices)
}
