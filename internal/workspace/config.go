package workspace

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/near"
	"orenda/internal/tomledit"
)

// Config is what the settings file says. It never changes once it was read, so
// that every goroutine may keep one: a change of the file makes another.
type Config struct {
	Name          string                         // of the workspace
	Environment   string                         // the default one
	Endpoints     []*Endpoint                    // in the order of the file
	Contracts     []*Contract                    // in the order of the file
	Environments  []Environment                  // by name
	Profiles      map[string]map[string][]string // values by key, by profile
	DraftSettings map[string]DraftSettings       // by DraftRef.ID; only those that differ from none
	SetAside      map[string]map[string]string   // findings that were set aside: reasons, by endpoint and id
	Warnings      []string                       // unknown keys and the like

	src []byte // the file as it was read
}

// Endpoint is a named way to reach a port.
type Endpoint struct {
	Name     string              // its name
	Contract string              // name of the contract
	Port     string              // of the contract
	Profile  string              // "" none
	Default  bool                // it is chosen where several serve an operation
	Off      bool                // it is not used
	Values   map[string][]string // items by key
}

// Contract is a description that the workspace keeps.
type Contract struct {
	Name   string // in the workspace
	Source string // where it came from
	Served string // host and port that served it
}

// Environment is a named set of variables.
type Environment struct {
	Name      string            // its name
	Variables map[string]string // values by name
}

// Endpoint is the endpoint of that name, or nil.
func (c *Config) Endpoint(name string) *Endpoint {
	for _, e := range c.Endpoints {
		if e.Name == name {
			return e
		}
	}
	return nil
}

// Contract is the kept description of that name, or nil.
func (c *Config) Contract(name string) *Contract {
	for _, k := range c.Contracts {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// Variables are those of an environment, and whether it exists.
func (c *Config) Variables(environment string) (map[string]string, bool) {
	for _, e := range c.Environments {
		if e.Name == environment {
			return e.Variables, true
		}
	}
	return map[string]string{}, environment == ""
}

// Using are the endpoints that use a profile.
func (c *Config) Using(profile string) []string {
	var out []string
	for _, e := range c.Endpoints {
		if e.Profile == profile {
			out = append(out, e.Name)
		}
	}
	return out
}

// parse reads a settings file. where names it in errors, which are *FileError.
func parse(where string, src []byte) (*Config, error) {
	p := &parser{where: where, src: src, to: &Config{
		Profiles: map[string]map[string][]string{}, DraftSettings: map[string]DraftSettings{},
		SetAside: map[string]map[string]string{}, src: src,
	}}
	if err := tomledit.Decode(where, src, &p.tree); err != nil {
		return nil, err
	}
	entries, err := tomledit.Scan(src)
	if err != nil {
		return nil, &FileError{Path: where, Why: err.Error()}
	}
	for _, e := range entries {
		p.make(e.Path)
		if e.Header {
			continue
		}
		if err := p.entry(e); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(p.to.Environments, func(a, b Environment) int { return strings.Compare(a.Name, b.Name) })
	return p.to, nil
}

// parser is a settings file that is being read.
type parser struct {
	where string
	src   []byte
	tree  map[string]any // the file, decoded
	to    *Config
}

func (p *parser) fail(at int, format string, args ...any) error {
	line, col := position(p.src, at)
	return &FileError{Path: p.where, Line: line, Column: col, Why: fmt.Sprintf(format, args...)}
}

func (p *parser) warn(at int, text string) {
	line, _ := position(p.src, at)
	p.to.Warnings = append(p.to.Warnings, fmt.Sprintf("line %d: %s", line, text))
}

// value is the decoded value at a path.
func (p *parser) value(path []string) any {
	var v any = p.tree
	for _, k := range path {
		m, _ := v.(map[string]any)
		v = m[k]
	}
	return v
}

func (p *parser) text(e tomledit.Entry, to *string) error {
	v, err := texts(p.value(e.Path))
	if err != nil || len(v) != 1 {
		return p.fail(e.From, "%s must be a text", strings.Join(e.Path, "."))
	}
	*to = v[0]
	return nil
}

func (p *parser) truth(e tomledit.Entry, to *bool) error {
	b, ok := p.value(e.Path).(bool)
	if !ok {
		return p.fail(e.From, "%s must be true or false", e.Path[len(e.Path)-1])
	}
	*to = b
	return nil
}

// make makes what a path names, in the order in which it is first named.
func (p *parser) make(path []string) {
	if len(path) < 2 {
		return
	}
	switch kind, name := path[0], path[1]; kind {
	case "endpoint":
		if p.to.Endpoint(name) == nil {
			p.to.Endpoints = append(p.to.Endpoints, &Endpoint{Name: name, Values: map[string][]string{}})
		}
	case "contract":
		if p.to.Contract(name) == nil {
			p.to.Contracts = append(p.to.Contracts, &Contract{Name: name})
		}
	case "environment":
		if _, there := p.to.Variables(name); !there {
			p.to.Environments = append(p.to.Environments, Environment{name, map[string]string{}})
		}
	case "profile":
		if p.to.Profiles[name] == nil {
			p.to.Profiles[name] = map[string][]string{}
		}
	}
}

// entry takes one value.
func (p *parser) entry(e tomledit.Entry) error {
	kind, key := e.Path[0], e.Path[len(e.Path)-1]
	switch {
	case len(e.Path) == 1 && key == "name":
		return p.text(e, &p.to.Name)
	case len(e.Path) == 1 && key == "default-environment":
		return p.text(e, &p.to.Environment)
	case len(e.Path) != 3:
	case kind == "environment":
		var value string
		err := p.text(e, &value)
		vars, _ := p.to.Variables(e.Path[1])
		vars[key] = value
		return err
	case kind == "contract" && key == "source":
		return p.text(e, &p.to.Contract(e.Path[1]).Source)
	case kind == "contract" && key == "served":
		return p.text(e, &p.to.Contract(e.Path[1]).Served)
	case kind == "set-aside":
		return p.setAside(e)
	case kind == "draft" && (key == "variables" || key == "changes"):
		return p.draft(e)
	case kind == "draft" && slices.Contains(DraftKeys, key):
		s := p.to.DraftSettings[e.Path[1]]
		if s.Own == nil {
			s.Own = map[string][]string{}
		}
		p.to.DraftSettings[e.Path[1]] = s
		return p.setting(e, s.Own)
	case kind == "endpoint":
		return p.endpoint(e)
	case kind == "profile":
		return p.setting(e, p.to.Profiles[e.Path[1]])
	}
	p.warn(e.KeyAt, strings.Join(e.Path, ".")+" is not known")
	return nil
}

func (p *parser) setAside(e tomledit.Entry) error {
	var why string
	if err := p.text(e, &why); err != nil {
		return err
	}
	name, id := e.Path[1], e.Path[2]
	if p.to.SetAside[name] == nil {
		p.to.SetAside[name] = map[string]string{}
	}
	p.to.SetAside[name][id] = why
	return nil
}

func (p *parser) draft(e tomledit.Entry) error {
	s := p.to.DraftSettings[e.Path[1]]
	to := &s.Changes
	if e.Path[2] == "variables" {
		to = &s.Variables
	}
	err := p.truth(e, to)
	p.to.DraftSettings[e.Path[1]] = s
	return err
}

func (p *parser) endpoint(e tomledit.Entry) error {
	end := p.to.Endpoint(e.Path[1])
	switch e.Path[2] {
	case "contract":
		return p.text(e, &end.Contract)
	case "port":
		return p.text(e, &end.Port)
	case "profile":
		return p.text(e, &end.Profile)
	case "default":
		return p.truth(e, &end.Default)
	case "off":
		return p.truth(e, &end.Off)
	}
	return p.setting(e, end.Values)
}

// setting takes a setting of an endpoint or of a profile.
func (p *parser) setting(e tomledit.Entry, to map[string][]string) error {
	key := e.Path[2]
	v, err := texts(p.value(e.Path))
	if err != nil {
		return p.fail(e.From, "%s: %v", key, err)
	}
	if endpoint.KeyOf(key) == nil {
		text := fmt.Sprintf("the setting %s is not known", key)
		if m := near.Miss(key, append(endpoint.Names(), "contract", "port", "profile", "default", "off")); m != "" {
			text += "; " + m + " is meant, perhaps"
		}
		p.warn(e.KeyAt, text)
		return nil
	}
	to[key] = v
	return nil
}

func position(src []byte, at int) (line, col int) {
	at = min(max(at, 0), len(src))
	line = 1 + strings.Count(string(src[:at]), "\n")
	return line, at - strings.LastIndexByte(string(src[:at]), '\n')
}

// texts are the texts of a decoded value.
func texts(v any) ([]string, error) {
	switch v := v.(type) {
	case string:
		return []string{v}, nil
	case bool:
		return []string{strconv.FormatBool(v)}, nil
	case int64:
		return []string{strconv.FormatInt(v, 10)}, nil
	case float64:
		return []string{strconv.FormatFloat(v, 'f', -1, 64)}, nil
	case []any:
		out := []string{}
		for _, x := range v {
			t, err := texts(x)
			if err != nil || len(t) != 1 {
				return nil, errors.New("it must be a list of texts")
			}
			out = append(out, t[0])
		}
		return out, nil
	}
	return nil, errors.New("a text, number, true or false is due here")
}
