package message

import (
	"errors"
	"fmt"
	"strings"

	"orenda/internal/xmltree"
)

// Handed is a message that came from elsewhere: raw XML, an HTTP request, or the command
// line of an HTTP client with the body it sends.
type Handed struct {
	Body    []byte      // an envelope or a body element, byte for byte
	Address string      // of a request or a command line; "" for raw XML
	Headers [][2]string // of a request or a command line
	User    bool        // the command line names a user; who, is not read
}

// Take reads a message that was handed over. readFile gets the body where a
// command line names a file for it.
//
//revive:disable-next-line:cyclomatic one switch over the kinds of items
func Take(text string, readFile func(name string) ([]byte, error)) (*Handed, error) {
	t := strings.TrimSpace(strings.TrimPrefix(text, "\uFEFF"))
	if strings.HasPrefix(t, "<") {
		return wellFormed(&Handed{Body: []byte(t)})
	}
	if h := request(t); h != nil {
		return wellFormed(h)
	}
	words, err := words(strings.NewReplacer("\\\r\n", " ", "\\\n", " ").Replace(t))
	if err != nil {
		return nil, fmt.Errorf("it is neither XML nor a command line: %w", err)
	}
	h := &Handed{}
	var body string
	found := false
	for i := 0; i < len(words); i++ {
		option, value, joined := strings.Cut(words[i], "=")
		if !strings.HasPrefix(option, "--") {
			option, joined = words[i], false
		}
		next := func() string {
			if joined {
				return value
			}
			if i++; i < len(words) {
				return words[i]
			}
			return ""
		}
		file := false
		switch option {
		case "-H", "--header", "--headers":
			name, v, _ := strings.Cut(next(), ":")
			h.Headers = append(h.Headers, [2]string{strings.TrimSpace(name), strings.TrimSpace(v)})
			continue
		case "-u", "--user", "--password", "--http-user", "--http-password":
			next()
			h.User = true
			continue
		case "-d", "--data", "--data-raw", "--data-binary", "--data-ascii", "--body", "--body-data", "--post-data":
			body = next()
			if option != "--data-raw" && strings.HasPrefix(body, "@") {
				body, file = body[1:], true
			}
		case "--body-file", "--post-file", "--upload-file", "-T", "<":
			body, file = next(), true
		default:
			w := words[i]
			switch {
			case strings.HasPrefix(w, "http://"), strings.HasPrefix(w, "https://"):
				if h.Address == "" {
					h.Address = w
				}
				continue
			case strings.HasPrefix(w, "<") && len(w) > 1 && strings.Contains(w, ">"):
				body = w
			case strings.HasPrefix(w, "@") && len(w) > 1:
				body, file = w[1:], true
			default:
				continue
			}
		}
		if file {
			if readFile == nil {
				return nil, fmt.Errorf("its body is in the file %s, which is not read here", body)
			}
			b, err := readFile(body)
			if err != nil {
				return nil, err
			}
			body = string(b)
		}
		found = true
	}
	if !found {
		return nil, errors.New("it is neither XML nor a command line with a body")
	}
	h.Body = []byte(body)
	return wellFormed(h)
}

// request is an HTTP request as it crosses: its line, its fields, its body; nil where the
// text is none.
func request(t string) *Handed {
	head, body, ok := strings.Cut(strings.ReplaceAll(t, "\r\n", "\n"), "\n\n")
	first, fields, _ := strings.Cut(head, "\n")
	line := strings.Fields(first)
	if !ok || len(line) != 3 || !strings.HasPrefix(line[2], "HTTP/") {
		return nil
	}
	h := &Handed{Address: line[1], Body: []byte(strings.TrimSpace(body))}
	for f := range strings.SplitSeq(fields, "\n") {
		name, value, ok := strings.Cut(f, ":")
		if !ok {
			continue
		}
		h.Headers = append(h.Headers, [2]string{strings.TrimSpace(name), strings.TrimSpace(value)})
		if strings.EqualFold(strings.TrimSpace(name), "Host") && strings.HasPrefix(h.Address, "/") {
			h.Address = "http://" + strings.TrimSpace(value) + h.Address
		}
	}
	return h
}

func wellFormed(h *Handed) (*Handed, error) {
	if _, err := xmltree.Parse(h.Body, xmltree.Limits{Depth: 512}); err != nil {
		return nil, fmt.Errorf("the message is not well-formed: %w", err)
	}
	return h, nil
}

// errQuote is a quotation mark in a command line that is not closed.
var errQuote = errors.New("a quotation mark is not closed")

// words takes a command line apart as a shell does (POSIX §2.2): blanks between words,
// quotes and backslashes removed, comments left out (§2.3, 10). It expands nothing and
// runs nothing.
//
//revive:disable-next-line:cyclomatic one case for each kind of character
func words(line string) (out []string, err error) {
	var word strings.Builder
	begun, quote := false, rune(0)
	escaped, comment := false, false
	for _, r := range line {
		switch {
		case comment:
			comment = r != '\n'
		case r == '#' && !begun && quote == 0 && !escaped:
			comment = true
		case escaped:
			if quote == '"' && !strings.ContainsRune("$`\"\\\n", r) {
				word.WriteByte('\\')
			}
			word.WriteRune(r)
			escaped = false
		case r == '\\' && quote != '\'':
			escaped, begun = true, true
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '"' || r == '\'':
			quote, begun = r, true
		case strings.ContainsRune(" \t\r\n", r):
			if begun {
				out = append(out, word.String())
				word.Reset()
				begun = false
			}
		default:
			word.WriteRune(r)
			begun = true
		}
	}
	if quote != 0 {
		return nil, errQuote
	}
	if begun {
		out = append(out, word.String())
	}
	return out, nil
}
