package xmltree

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"orenda/internal/pattern"
)

// The documents of a contract may begin with a document type declaration: schemas of the W3C
// do. Its internal subset is read (XML 1.0 §2.8, §3.3, §4.2): entities for text and attributes,
// and attributes that have a default. What is external is never fetched, and stands for
// nothing. In messages such a declaration stays refused, by the scanner.

// Bounds of what is read of a document type declaration, and made of it.
const (
	maxDeclared = 2000     // declarations
	maxNested   = 20       // entities in entities
	maxExpanded = 16 << 20 // bytes of the document once all is put in
)

// subset is the internal subset of a document type declaration.
type subset struct {
	entities   map[string]string
	parameters map[string]string
	defaults   map[string][]attribute // by the name of the element
	declared   int
}

type attribute struct{ name, value string }

// WithoutDoctype is a document without its document type declaration: what its internal subset
// declares is put in. A document without one is given as it is. The places of what follows
// stay where they are, but for what is put in.
func WithoutDoctype(src []byte) ([]byte, error) {
	at := doctypeAt(src)
	if at < 0 {
		return src, nil
	}
	inner, end, err := doctype(src, at)
	if err != nil {
		return nil, err
	}
	s := &subset{entities: map[string]string{}, parameters: map[string]string{}, defaults: map[string][]attribute{}}
	if err := s.read(inner, 0); err != nil {
		return nil, err
	}
	// Blanks in the place of the declaration keep lines and offsets.
	gap := bytes.Map(func(r rune) rune {
		if r == '\n' {
			return r
		}
		return ' '
	}, src[at:end])
	for len(gap) < end-at { // a character of several bytes became one blank
		gap = append(gap, ' ')
	}
	rest, err := s.document(src[end:])
	if err != nil {
		return nil, err
	}
	return bytes.Join([][]byte{src[:at], gap, rest}, nil), nil
}

// doctypeAt is where a document type declaration begins in the prolog, -1 where there is none.
func doctypeAt(src []byte) int {
	for pos := 0; pos < len(src); {
		rest := src[pos:]
		skip := func(end string) int {
			if n := bytes.Index(rest, []byte(end)); n >= 0 {
				return n + len(end)
			}
			return len(rest)
		}
		switch {
		case bytes.HasPrefix(rest, []byte("<?")):
			pos += skip("?>")
		case bytes.HasPrefix(rest, []byte("<!--")):
			pos += skip("-->")
		case bytes.HasPrefix(rest, []byte("<!DOCTYPE")):
			return pos
		case rest[0] == '<':
			return -1
		default:
			pos++
		}
	}
	return -1
}

var errDoctype = errors.New("the document type declaration does not end")

// doctype is the internal subset of the declaration at a place, and where the declaration ends.
func doctype(src []byte, at int) (inner []byte, end int, err error) {
	begin := -1
	var quote byte
	for i := at; i < len(src); i++ {
		c := src[i]
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case begin >= 0 && c == '<' && aside(src[i:]) != 0:
			n := aside(src[i:])
			if n < 0 {
				return nil, 0, errDoctype
			}
			i += n - 1
		case c == '"' || c == '\'':
			quote = c
		case c == '[' && begin < 0:
			begin = i + 1
		case c == ']' && begin >= 0 && inner == nil:
			inner = src[begin:i]
			if inner == nil {
				inner = []byte{}
			}
		case c == '>' && (begin < 0 || inner != nil):
			return inner, i + 1, nil
		}
	}
	return nil, 0, errDoctype
}

// aside is the length of a comment or a processing instruction, 0 where none begins, below
// zero where it does not end.
func aside(b []byte) int {
	for _, kind := range [][2]string{{"<!--", "-->"}, {"<?", "?>"}} {
		if bytes.HasPrefix(b, []byte(kind[0])) {
			if n := bytes.Index(b, []byte(kind[1])); n >= 0 {
				return n + len(kind[1])
			}
			return -1
		}
	}
	return 0
}

// Declarations of an internal subset.
var (
	entityDeclared = pattern.New(`(?s)^<!ENTITY\s+(%\s+)?([^\s%&;"'<>]+)\s+` +
		`(?:"([^"]*)"|'([^']*)'|(SYSTEM|PUBLIC)\s[^>]*)\s*>`)
	listDeclared = pattern.New(`(?s)^<!ATTLIST\s+([^\s>]+)((?:[^>"']|"[^"]*"|'[^']*')*)>`)
	oneDeclared  = pattern.New(`(?s)\s*([^\s>]+)\s+(?:\([^)]*\)|NOTATION\s*\([^)]*\)|[A-Z]+)\s+` +
		`(?:#REQUIRED|#IMPLIED|(?:#FIXED\s+)?(?:"([^"]*)"|'([^']*)'))`)
	otherDeclared = pattern.New(`(?s)^<!(?:ELEMENT|NOTATION)\s(?:[^>"']|"[^"]*"|'[^']*')*>`)
	parameterUsed = pattern.New(`^%([^\s%&;"'<>]+);`)
	referred      = pattern.New(`&([^\s&;#<>"']+);`)
)

// read reads declarations.
func (s *subset) read(b []byte, depth int) error {
	if depth > maxNested {
		return errors.New("parameter entities lead too deep")
	}
	for {
		if b = bytes.TrimLeft(b, " \t\r\n"); len(b) == 0 {
			return nil
		}
		if s.declared++; s.declared > maxDeclared {
			return fmt.Errorf("the document type declaration declares more than %d things", maxDeclared)
		}
		cut := aside(b)
		if m := entityDeclared.FindSubmatch(b); m != nil {
			cut = len(m[0])
			s.entity(len(m[1]) > 0, string(m[2]), string(m[3])+string(m[4]))
		} else if m := listDeclared.FindSubmatch(b); m != nil {
			cut = len(m[0])
			for _, a := range oneDeclared.FindAllSubmatch(m[2], -1) {
				if value := string(a[2]) + string(a[3]); value != "" {
					s.defaults[string(m[1])] = append(s.defaults[string(m[1])], attribute{string(a[1]), value})
				}
			}
		} else if m := otherDeclared.Find(b); m != nil {
			cut = len(m)
		} else if m := parameterUsed.FindSubmatch(b); m != nil {
			cut = len(m[0])
			if err := s.read([]byte(s.parameters[string(m[1])]), depth+1); err != nil {
				return err
			}
		}
		const least = 3
		if cut < least {
			return fmt.Errorf("the document type declaration is not in order at %.30q", b)
		}
		b = b[cut:]
	}
}

// entity keeps a declaration; the first of a name holds (XML 1.0 §4.2).
func (s *subset) entity(parameter bool, name, value string) {
	table := s.entities
	if parameter {
		table = s.parameters
	}
	if _, there := table[name]; !there {
		table[name] = value
	}
}

// expand is a text with the entities of it put in.
func (s *subset) expand(text string, depth int, left *int) (string, error) {
	if depth > maxNested {
		return "", errors.New("entities lead too deep, or back to themselves")
	}
	var err error
	out := referred.ReplaceAllStringFunc(text, func(ref string) string {
		value, ok := s.entities[ref[1:len(ref)-1]]
		if !ok || err != nil {
			return ref // of the five that every document has, or one that the scanner refuses
		}
		const each = 256 // a reference costs time, however short what it stands for
		if *left -= len(value) + each; *left < 0 {
			err = fmt.Errorf("its entities make more than %d MiB of it", maxExpanded>>20)
			return ""
		}
		in, ierr := s.expand(value, depth+1, left)
		if ierr != nil {
			err = ierr
		}
		return in
	})
	return out, err
}

// document puts into a document what the subset declares: entities into texts and tags,
// defaults into tags. Comments, CDATA sections and processing instructions stay as they are.
func (s *subset) document(b []byte) ([]byte, error) {
	if len(s.entities)+len(s.defaults) == 0 {
		return b, nil
	}
	left := maxExpanded
	var out bytes.Buffer
	for len(b) > 0 {
		n := bytes.IndexByte(b, '<')
		if n < 0 {
			n = len(b)
		}
		if n == 0 {
			n = tagEnd(b)
		}
		piece := b[:n]
		b = b[n:]
		if piece[0] == '<' && len(piece) > 1 && (piece[1] == '!' || piece[1] == '?') {
			out.Write(piece)
			continue
		}
		text, err := s.expand(string(piece), 0, &left)
		if err != nil {
			return nil, err
		}
		if piece[0] == '<' {
			text = s.completed(text, &left)
		}
		if left < 0 {
			return nil, fmt.Errorf("what is declared makes more than %d MiB of it", maxExpanded>>20)
		}
		out.WriteString(text)
	}
	return out.Bytes(), nil
}

// completed is a start tag with the attributes that it lacks and that have a default; another
// tag stays.
func (s *subset) completed(tag string, left *int) string {
	defaults := s.defaults[tagName(tag)]
	cut := len(strings.TrimSuffix(strings.TrimSuffix(tag, ">"), "/"))
	out := tag[:cut]
	for _, a := range defaults {
		if !has(tag, a.name) {
			*left -= len(a.value)
			out += fmt.Sprintf(` %s="%s"`, a.name, strings.ReplaceAll(a.value, `"`, "&quot;"))
		}
	}
	return out + tag[cut:]
}

// tagEnd is where the markup ends that b begins with.
func tagEnd(b []byte) int {
	for open, end := range map[string]string{"<!--": "-->", "<![CDATA[": "]]>", "<?": "?>"} {
		if bytes.HasPrefix(b, []byte(open)) {
			if n := bytes.Index(b, []byte(end)); n >= 0 {
				return n + len(end)
			}
			return len(b)
		}
	}
	var quote byte
	for i, c := range b {
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '>':
			return i + 1
		}
	}
	return len(b)
}

// tagName is the name in a start tag, "" where it is none.
func tagName(tag string) string {
	if len(tag) < len("<a>") || tag[1] == '/' || tag[1] == '!' || tag[1] == '?' {
		return ""
	}
	n := strings.IndexAny(tag[1:], " \t\r\n/>")
	if n < 0 {
		return ""
	}
	return tag[1 : 1+n]
}

// has tells whether a start tag has an attribute.
func has(tag, name string) bool {
	for rest := tag; ; {
		_, after, found := strings.Cut(rest, name)
		if !found {
			return false
		}
		before := len(rest) - len(after) - len(name)
		blank := before > 0 && strings.IndexByte(" \t\r\n", rest[before-1]) >= 0
		if blank && strings.HasPrefix(strings.TrimLeft(after, " \t\r\n"), "=") {
			return true
		}
		rest = after
	}
}

// RootOf is the name of the root of a document. What stands behind its start tag is not read.
func RootOf(src []byte) (Name, error) {
	plain, err := WithoutDoctype(src)
	if err != nil {
		return Name{}, err
	}
	text, _, _, _, err := decode(plain, "")
	if err != nil {
		return Name{}, err
	}
	s := newScanner(text, Limits{})
	for {
		t, err := s.Next()
		switch {
		case err != nil:
			return Name{}, err
		case t.Kind == StartElement:
			return s.NameOf(t.Name), nil
		case t.Kind == EOF:
			return Name{}, s.failEnd("its prolog")
		}
	}
}

// ParseContract is Parse for a document of a contract, which may begin with a document type
// declaration.
func ParseContract(src []byte, limits Limits) (*Document, error) {
	plain, err := WithoutDoctype(src)
	if err != nil {
		return nil, err
	}
	return Parse(plain, limits)
}
