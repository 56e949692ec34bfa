// Package pattern holds regular expressions that are compiled when they are first used: those
// of all packages together took 2 ms of every start.
package pattern

import (
	"regexp"
	"sync"
)

// Pattern is a regular expression (RE2 syntax). Its use panics where it is none.
type Pattern struct{ compiled func() *regexp.Regexp }

// New keeps the text of an expression.
func New(text string) *Pattern {
	return &Pattern{sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })}
}

// MatchString is that of a Regexp, as the others are.
func (p *Pattern) MatchString(s string) bool { return p.compiled().MatchString(s) }

// Match implements the method of that name.
func (p *Pattern) Match(b []byte) bool { return p.compiled().Match(b) }

// FindString implements the method of that name.
func (p *Pattern) FindString(s string) string { return p.compiled().FindString(s) }

// FindStringIndex implements the method of that name.
func (p *Pattern) FindStringIndex(s string) []int { return p.compiled().FindStringIndex(s) }

// FindStringSubmatch implements the method of that name.
func (p *Pattern) FindStringSubmatch(s string) []string { return p.compiled().FindStringSubmatch(s) }

// FindStringSubmatchIndex implements the method of that name.
func (p *Pattern) FindStringSubmatchIndex(s string) []int {
	return p.compiled().FindStringSubmatchIndex(s)
}

// FindAllString implements the method of that name.
func (p *Pattern) FindAllString(s string, n int) []string { return p.compiled().FindAllString(s, n) }

// FindAllStringIndex implements the method of that name.
func (p *Pattern) FindAllStringIndex(s string, n int) [][]int {
	return p.compiled().FindAllStringIndex(s, n)
}

// FindAllStringSubmatch implements the method of that name.
func (p *Pattern) FindAllStringSubmatch(s string, n int) [][]string {
	return p.compiled().FindAllStringSubmatch(s, n)
}

// FindIndex implements the method of that name.
func (p *Pattern) FindIndex(b []byte) []int { return p.compiled().FindIndex(b) }

// Find implements the method of that name.
func (p *Pattern) Find(b []byte) []byte { return p.compiled().Find(b) }

// FindAll implements the method of that name.
func (p *Pattern) FindAll(b []byte, n int) [][]byte { return p.compiled().FindAll(b, n) }

// FindSubmatch implements the method of that name.
func (p *Pattern) FindSubmatch(b []byte) [][]byte { return p.compiled().FindSubmatch(b) }

// FindSubmatchIndex implements the method of that name.
func (p *Pattern) FindSubmatchIndex(b []byte) []int { return p.compiled().FindSubmatchIndex(b) }

// FindAllSubmatch implements the method of that name.
func (p *Pattern) FindAllSubmatch(b []byte, n int) [][][]byte {
	return p.compiled().FindAllSubmatch(b, n)
}

// ReplaceAllString implements the method of that name.
func (p *Pattern) ReplaceAllString(s, with string) string {
	return p.compiled().ReplaceAllString(s, with)
}

// ReplaceAll implements the method of that name.
func (p *Pattern) ReplaceAll(b, with []byte) []byte { return p.compiled().ReplaceAll(b, with) }

// ReplaceAllStringFunc implements the method of that name.
func (p *Pattern) ReplaceAllStringFunc(s string, with func(string) string) string {
	return p.compiled().ReplaceAllStringFunc(s, with)
}

// Split implements the method of that name.
func (p *Pattern) Split(s string, n int) []string { return p.compiled().Split(s, n) }
