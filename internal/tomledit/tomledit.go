// Package tomledit changes single values of a TOML document (TOML 1.0) where they
// stand: the comments, the order and the unknown keys of a file that a person
// wrote by hand stay. Each change is checked after it was made: what was meant
// happened, and nothing else did, or there is an error and no change.
package tomledit

import (
	"bytes"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// Entry is a table or a key as it stands in a document; places are in bytes.
type Entry struct {
	Path     []string // table and key
	Header   bool     // of a table
	KeyAt    int      // offset of the key
	From, to int      // of the value
	parts    [][2]int // where the last of the path are written, in this expression
	end      int      // of a header: where its line ends
}

// Scan lists the tables and keys of a TOML document with their places.
func Scan(src []byte) ([]Entry, error) {
	var out []Entry
	var p unstable.Parser
	p.Reset(src)
	var table []string
	for p.NextExpression() {
		e := p.Expression()
		var parts []string
		var spans [][2]int
		at := -1
		for it := e.Key(); it.Next(); {
			raw := it.Node().Raw
			if at < 0 {
				at = int(raw.Offset)
			}
			parts = append(parts, string(it.Node().Data))
			spans = append(spans, [2]int{int(raw.Offset), int(raw.Offset + raw.Length)})
		}
		switch e.Kind {
		case unstable.Table, unstable.ArrayTable:
			table = parts
			end := len(src)
			if n := bytes.IndexByte(src[at:], '\n'); n >= 0 {
				end = at + n + 1
			}
			out = append(out, Entry{Path: slices.Clone(table), parts: spans, KeyAt: at, Header: true, end: end})
		case unstable.KeyValue:
			eq := at + bytes.IndexByte(src[at:], '=')
			from := eq + 1
			for from < len(src) && (src[from] == ' ' || src[from] == '\t') {
				from++
			}
			to := valueEnd(src, from)
			out = append(
				out,
				Entry{Path: append(slices.Clone(table), parts...), parts: spans, KeyAt: at, From: from, to: to},
			)
		}
	}
	return out, p.Error()
}

// valueEnd finds where a TOML value ends that begins at i.
func valueEnd(src []byte, i int) int {
	i = until(src, i, "\n\r#")
	if i < len(src) {
		for i > 0 && (src[i-1] == ' ' || src[i-1] == '\t') {
			i--
		}
	}
	return i
}

// until finds the first of the stops from i on that is in no string and no bracket.
//
//revive:disable-next-line:cyclomatic a scanner is one loop over what comes
func until(src []byte, i int, stops string) int {
	depth := 0
	for i < len(src) {
		switch c := src[i]; {
		case c == '"' || c == '\'':
			q := src[i : i+1]
			if bytes.HasPrefix(src[i:], []byte{c, c, c}) {
				q = src[i : i+3]
			}
			i += len(q)
			for i < len(src) && !bytes.HasPrefix(src[i:], q) {
				if c == '"' && src[i] == '\\' {
					i++
				}
				i++
			}
			i += len(q)
			for len(q) == 3 && i < len(src) && src[i] == c { // quotes that end a multi-line string
				i++
			}
		case c == '[' || c == '{':
			depth++
			i++
		case c == ']' || c == '}':
			depth--
			i++
		case c == '#' && depth > 0:
			for i < len(src) && src[i] != '\n' {
				i++
			}
		case depth == 0 && strings.IndexByte(stops, c) >= 0:
			return i
		default:
			i++
		}
	}
	return min(i, len(src))
}

func tomlKey(s string) string {
	for _, r := range s {
		if (r < 'a' || r > 'z') && (r < 'A' || r > 'Z') && (r < '0' || r > '9') && r != '-' && r != '_' {
			return strconv.Quote(s)
		}
	}
	if s == "" {
		return `""`
	}
	return s
}

func tomlValue(v any) string {
	switch v := v.(type) {
	case bool:
		return strconv.FormatBool(v)
	case []string:
		parts := make([]string, len(v))
		for i, s := range v {
			parts[i] = tomlValue(s)
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case string:
		b, err := toml.Marshal(map[string]string{"k": v})
		if err == nil {
			return strings.TrimSpace(strings.TrimPrefix(string(b), "k = "))
		}
	}
	return strconv.Quote(fmt.Sprint(v))
}

// Set changes one value in a TOML document, or adds it, and touches nothing
// else: comments and order stay. A nil value takes the key out.
func Set(src []byte, path []string, value any) ([]byte, error) {
	entries, err := Scan(src)
	if err != nil {
		return nil, err
	}
	out, err := splice(src, entries, path, value)
	if err != nil {
		return nil, err
	}
	// What was meant happened, and nothing else did.
	before, after := map[string]any{}, map[string]any{}
	if err := toml.Unmarshal(src, &before); err != nil {
		return nil, err
	}
	if err := toml.Unmarshal(out, &after); err != nil {
		return nil, fmt.Errorf("setting %s would break the file: %w", strings.Join(path, "."), err)
	}
	put(before, path, value)
	if !reflect.DeepEqual(plain(before), plain(after)) {
		return nil, fmt.Errorf("setting %s would change something else in the file", strings.Join(path, "."))
	}
	return out, nil
}

//revive:disable-next-line:cyclomatic a scanner is one loop over what comes
func splice(src []byte, entries []Entry, path []string, value any) ([]byte, error) {
	table, key := path[:len(path)-1], path[len(path)-1]
	line := func(v any) string { return tomlKey(key) + " = " + tomlValue(v) + "\n" }
	for _, e := range entries {
		if n := len(e.Path); !e.Header && n < len(path) && slices.Equal(e.Path, path[:n]) &&
			bytes.HasPrefix(src[e.From:e.to], []byte("{")) {
			in, err := inline(string(src[e.From:e.to]), path[n:], value)
			return []byte(string(src[:e.From]) + in + string(src[e.to:])), err
		}
		if e.Header || !slices.Equal(e.Path, path) {
			continue
		}
		if value != nil {
			return []byte(string(src[:e.From]) + tomlValue(value) + string(src[e.to:])), nil
		}
		start := bytes.LastIndexByte(src[:e.KeyAt], '\n') + 1
		end := e.to
		if n := bytes.IndexByte(src[end:], '\n'); n >= 0 {
			end += n + 1
		}
		return []byte(string(src[:start]) + string(src[end:])), nil
	}
	if value == nil {
		return src, nil
	}
	// After the last key of its table, or after its header.
	at := -1
	for _, e := range entries {
		if e.Header && slices.Equal(e.Path, table) {
			at = e.end
		}
		if !e.Header && slices.Equal(e.Path[:len(e.Path)-1], table) {
			at = e.to
			if n := bytes.IndexByte(src[at:], '\n'); n >= 0 {
				at += n + 1
			} else {
				at = len(src)
			}
		}
	}
	if at < 0 && len(table) == 0 {
		return []byte(line(value) + string(src)), nil
	}
	head := string(src)
	if at < 0 {
		if head != "" && !strings.HasSuffix(head, "\n") {
			head += "\n"
		}
		quoted := make([]string, len(table))
		for i, t := range table {
			quoted[i] = tomlKey(t)
		}
		if head != "" {
			head += "\n"
		}
		return []byte(head + "[" + strings.Join(quoted, ".") + "]\n" + line(value)), nil
	}
	before := head[:at]
	if !strings.HasSuffix(before, "\n") && before != "" {
		before += "\n"
	}
	return []byte(before + line(value) + head[at:]), nil
}

// inline is splice for a table that is written on one line: {a = 1, b = {c = 2}}.
// Each of its parts is a document of its own.
func inline(table string, path []string, value any) (string, error) {
	var parts []string
	found := false
	for _, part := range split(table[1:max(len(table)-1, 1)]) {
		entries, err := Scan([]byte(part))
		if err != nil {
			return "", err
		}
		if len(entries) == 1 && !found && len(entries[0].Path) <= len(path) &&
			slices.Equal(entries[0].Path, path[:len(entries[0].Path)]) {
			found = true
			out, err := splice([]byte(part), entries, path, value)
			if err != nil {
				return "", err
			}
			part = strings.TrimSpace(string(out))
		}
		if part != "" {
			parts = append(parts, part)
		}
	}
	if !found && value == nil {
		return table, nil
	}
	if !found {
		quoted := make([]string, len(path))
		for i, p := range path {
			quoted[i] = tomlKey(p)
		}
		parts = append(parts, strings.Join(quoted, ".")+" = "+tomlValue(value))
	}
	return "{ " + strings.Join(parts, ", ") + " }", nil
}

// split cuts at the commas that are in no string and no bracket.
func split(s string) (parts []string) {
	for s != "" {
		end := until([]byte(s), 0, ",")
		if part := strings.TrimSpace(s[:min(end, len(s))]); part != "" {
			parts = append(parts, part)
		}
		s = s[min(end+1, len(s)):]
	}
	return parts
}

// Rename gives a table or key another name wherever it is written, and
// touches nothing else. Nothing of that name may be there.
func Rename(src []byte, path []string, to string) ([]byte, error) {
	entries, err := Scan(src)
	if err != nil {
		return nil, err
	}
	out := src
	for _, e := range slices.Backward(entries) {
		at := len(path) - 1 - (len(e.Path) - len(e.parts)) // the part of this expression that is renamed
		if len(e.Path) < len(path) || !slices.Equal(e.Path[:len(path)], path) || at < 0 {
			continue
		}
		p := e.parts[at]
		out = []byte(string(out[:p[0]]) + tomlKey(to) + string(out[p[1]:]))
	}
	before, after := map[string]any{}, map[string]any{}
	if err := toml.Unmarshal(src, &before); err != nil {
		return nil, err
	}
	if err := toml.Unmarshal(out, &after); err != nil {
		return nil, fmt.Errorf("renaming %s would break the file: %w", strings.Join(path, "."), err)
	}
	table := before
	for _, p := range path[:len(path)-1] {
		if table, _ = table[p].(map[string]any); table == nil {
			return nil, fmt.Errorf("there is no %s", strings.Join(path, "."))
		}
	}
	old := path[len(path)-1]
	if _, there := table[to]; there {
		return nil, fmt.Errorf("there is a %s already", to)
	}
	if _, there := table[old]; !there {
		return nil, fmt.Errorf("there is no %s", strings.Join(path, "."))
	}
	table[to] = table[old]
	delete(table, old)
	if !reflect.DeepEqual(plain(before), plain(after)) {
		return nil, fmt.Errorf("renaming %s would change something else in the file", strings.Join(path, "."))
	}
	return out, nil
}

// Remove takes a table out, header, keys and all. Comments between them go
// with it; those before its header stay.
func Remove(src []byte, path []string) ([]byte, error) {
	entries, err := Scan(src)
	if err != nil {
		return nil, err
	}
	out := src
	for i, e := range slices.Backward(entries) {
		if len(e.Path) < len(path) || !slices.Equal(e.Path[:len(path)], path) {
			continue
		}
		from := bytes.LastIndexByte(src[:e.KeyAt], '\n') + 1
		to := e.end
		if !e.Header {
			to = e.to
			if n := bytes.IndexByte(src[to:], '\n'); n >= 0 {
				to += n + 1
			} else {
				to = len(src)
			}
		}
		if i+1 < len(entries) && entries[i+1].Header && bytes.TrimSpace(src[to:entries[i+1].KeyAt-1]) == nil {
			to = bytes.LastIndexByte(src[:entries[i+1].KeyAt], '\n') + 1
		}
		out = []byte(string(out[:from]) + string(out[to:]))
	}
	before, after := map[string]any{}, map[string]any{}
	if err := toml.Unmarshal(src, &before); err != nil {
		return nil, err
	}
	if err := toml.Unmarshal(out, &after); err != nil {
		return nil, fmt.Errorf("removing %s would break the file: %w", strings.Join(path, "."), err)
	}
	put(before, path, nil)
	if !reflect.DeepEqual(plain(before), plain(after)) {
		return nil, fmt.Errorf("removing %s would change something else in the file", strings.Join(path, "."))
	}
	return out, nil
}

// put sets a value in a decoded document.
func put(m map[string]any, path []string, value any) {
	for _, p := range path[:len(path)-1] {
		next, ok := m[p].(map[string]any)
		if !ok {
			if value == nil {
				return
			}
			next = map[string]any{}
			m[p] = next
		}
		m = next
	}
	if value == nil {
		delete(m, path[len(path)-1])
		return
	}
	m[path[len(path)-1]] = value
}

// plain makes values comparable that are written in different ways, and drops
// empty tables.
func plain(v any) any {
	switch v := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for k, x := range v {
			p := plain(x)
			if m, ok := p.(map[string]any); ok && len(m) == 0 {
				continue
			}
			out[k] = p
		}
		return out
	case []string:
		out := make([]any, len(v))
		for i, s := range v {
			out[i] = s
		}
		return out
	}
	return v
}
