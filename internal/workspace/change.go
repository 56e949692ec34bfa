package workspace

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/safe"
	"orenda/internal/tomledit"
	"orenda/internal/trust"
	"orenda/internal/xmltree"
)

// set is one value to be set in the settings file; nil takes it out.
type set struct {
	path  []string
	value any
}

// set changes the settings file: under a lock, on what is in it now, written
// whole or not at all. What cannot be read is never overwritten.
func (w *Workspace) set(sets ...set) error {
	return w.edit(func(src []byte) (_ []byte, err error) {
		for _, s := range sets {
			if src, err = tomledit.Set(src, s.path, s.value); err != nil {
				return nil, err
			}
		}
		return src, nil
	})
}

// edit changes the settings file in the way of set.
func (w *Workspace) edit(change func(src []byte) ([]byte, error)) error {
	if w.Dir() != "" && w.Home != nil {
		unlock, err := w.Home.Lock(w.Dir())
		if err != nil {
			return err
		}
		defer unlock()
	}
	src, err := w.store().read(File)
	if err != nil {
		return err
	}
	if err := w.parse(src); err != nil {
		return err
	}
	if src, err = change(src); err != nil {
		return &FileError{Path: w.Where(), Why: err.Error()}
	}
	if err := w.store().write(File, src); err != nil {
		return &FileError{Path: w.Where(), Why: err.Error()}
	}
	return w.parse(src)
}

// Apply makes the changes of a remedy, or of a person. Those of the workspace
// go into its file, all together or none of them.
func (w *Workspace) Apply(changes ...exchange.Change) error {
	var sets []set
	for _, c := range changes {
		switch c.Where {
		case "user":
			if key, ok := strings.CutPrefix(c.Key, "profile."); ok {
				name, key, _ := strings.Cut(key, ".")
				if err := w.SetPersonal(name, key, c.To); err != nil {
					return err
				}
				continue
			}
			id, ok := strings.CutPrefix(c.Key, "allow.")
			if !ok {
				return fmt.Errorf("the change of %s is not known", c.Key)
			}
			if err := w.Home.Allow(w.ID(), id, fmt.Sprint(c.To)); err != nil {
				return err
			}
		case "workspace":
			s, err := w.settingChange(c)
			if err != nil {
				return err
			}
			sets = append(sets, s...)
		default:
			return fmt.Errorf("a change of the %s is not made here", c.Where)
		}
	}
	if len(sets) == 0 {
		return nil
	}
	return w.set(sets...)
}

//revive:disable-next-line:cyclomatic one change of the file, from its values to its lines
func (w *Workspace) settingChange(c exchange.Change) ([]set, error) {
	parts := strings.SplitN(c.Key, ".", 3)
	if len(parts) == 1 && (parts[0] == "default-environment" || parts[0] == "name") {
		return []set{{parts, fmt.Sprint(c.To)}}, nil
	}
	if len(parts) != 3 {
		return nil, fmt.Errorf("the change of %s is not known", c.Key)
	}
	kind, name, key := parts[0], parts[1], parts[2]
	if kind == "environment" {
		return []set{{parts, text(c.To)}}, nil
	}
	if kind != "endpoint" && kind != "profile" {
		return nil, fmt.Errorf("the change of %s is not known", c.Key)
	}
	e := w.Endpoint(name)
	if kind == "endpoint" && e == nil && !(key == "contract" || key == "port") { // those two make it
		return nil, fmt.Errorf("there is no endpoint %s", name)
	}
	switch {
	case kind == "profile":
	case key == "trust" || key == "intermediates" || key == "reply-trust":
		return w.trustChange(e, key, c)
	case key == "default" || key == "off":
		on, err := isOn(key, c.To)
		if err != nil {
			return nil, err
		}
		if !on {
			return []set{{parts, nil}}, nil
		}
		out := []set{{parts, true}}
		if key == "off" {
			return out, nil
		}
		// One default for what the same ports serve.
		for _, o := range w.Config().Endpoints {
			if o.Name != e.Name && o.Default && o.Contract == e.Contract && w.samePortType(o, e) {
				out = append(out, set{[]string{"endpoint", o.Name, "default"}, nil})
			}
		}
		return out, nil
	case key == "profile" || key == "port" || key == "contract":
		if c.To == "" {
			c.To = nil
		}
		return []set{{parts, text(c.To)}}, nil
	}
	value, err := fileValue(key, c.To)
	return []set{{parts, value}}, err
}

// isOn reads what is set on or off.
func isOn(key string, to any) (bool, error) {
	switch to {
	case true, "true":
		return true, nil
	case nil, false, "false", "":
		return false, nil
	}
	return false, fmt.Errorf("%s is true or false, not %v", key, to)
}

// fileValue is a setting's value as it stands in a file; nil takes it out.
func fileValue(key string, to any) (any, error) {
	k := endpoint.KeyOf(key)
	if k == nil {
		return nil, fmt.Errorf("there is no setting %s", key)
	}
	if to == nil || to == "" {
		return nil, nil
	}
	switch k.Kind {
	case endpoint.Switch:
		return text(to) == "true", nil
	case endpoint.List:
		if list, ok := to.([]string); ok {
			if len(list) == 0 {
				return nil, nil
			}
			return list, nil
		}
		return []string{fmt.Sprint(to)}, nil
	}
	return text(to), nil
}

func text(v any) any {
	if v == nil {
		return nil
	}
	return fmt.Sprint(v)
}

func (w *Workspace) samePortType(a, b *Endpoint) bool {
	c, err := w.Contract(a.Contract)
	if err != nil {
		return false
	}
	pa, pb := c.Port(a.Port), c.Port(b.Port)
	return pa != nil && pb != nil && pa.PortType == pb.PortType
}

// KeepCertificates writes certificates into the workspace, and gives the file.
func (w *Workspace) KeepCertificates(pem string) (file string, err error) {
	certs, err := trust.Read([]byte(pem))
	if err != nil {
		return "", err
	}
	file = path.Join("trust", safe.FileName(certs[0].Subject.CommonName)+"-"+trust.Fingerprint(certs[0])[:8]+".pem")
	return file, w.store().write(file, trust.PEM(certs...))
}

// trustChange keeps certificates as a file and puts it on an endpoint's list.
func (w *Workspace) trustChange(e *Endpoint, key string, c exchange.Change) ([]set, error) {
	list := slices.Clone(e.Values[key])
	if c.To == nil || c.To == "" {
		return []set{{[]string{"endpoint", e.Name, key}, nil}}, nil
	}
	pem := fmt.Sprint(c.To)
	if !strings.Contains(pem, "-----BEGIN") {
		if l, ok := c.To.([]string); ok {
			return []set{{[]string{"endpoint", e.Name, key}, l}}, nil
		}
		return []set{{[]string{"endpoint", e.Name, key}, append(list, pem)}}, nil
	}
	file, err := w.KeepCertificates(pem)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(list, file) {
		list = append(list, file)
	}
	return []set{{[]string{"endpoint", e.Name, key}, list}}, nil
}

// putHeader puts a header block that the contract declares into a draft's header.
func (w *Workspace) putHeader(r DraftRef, name string) error {
	c, err := w.Contract(r.Contract)
	if err != nil {
		return err
	}
	src, err := w.ReadHeader(r)
	if err != nil {
		return err
	}
	for _, p := range c.PortsWith(r.Operation) {
		for _, e := range p.Operation(r.Operation).Headers {
			if e.Name.String() != name {
				continue
			}
			h := message.NewHeader(c.Schemas, p.Operation(r.Operation).Headers, src)
			if h.Err() != nil || !h.Put(e.Name) {
				return fmt.Errorf("the header block %s could not be put in", name)
			}
			return w.WriteHeader(r, h.Bytes())
		}
	}
	return fmt.Errorf("the contract declares no header block %s", name)
}

// ChangeDraft makes a remedy's change to a draft: of the namespace of its body
// element, of its header blocks, or of the operation that it belongs to. It gives the draft's name
// afterwards.
func (w *Workspace) ChangeDraft(r DraftRef, c exchange.Change) (DraftRef, error) {
	src, err := w.ReadDraft(r)
	if err != nil {
		return r, err
	}
	switch c.Key {
	case "operation":
		to := r
		to.Operation = fmt.Sprint(c.To)
		to = w.FreeDraft(to, r.Name)
		if err := w.CopyDraft(r, to); err != nil {
			return r, err
		}
		return to, w.DropDraft(r)
	case "header":
		return r, w.putHeader(r, fmt.Sprint(c.To))
	case "namespace":
		d, err := xmltree.Parse(src, xmltree.Limits{})
		if err != nil {
			return r, err
		}
		root := d.Root()
		for a := range root.Attrs() {
			n := root.Name()
			if a.Name.Space == xmltree.XMLNSNamespace &&
				(a.Name.Local == n.Prefix && a.Name.Prefix != "" || n.Prefix == "" && a.Name.Prefix == "") {
				out := string(src[:a.Inner.Start]) + xmltree.EscapeAttr(fmt.Sprint(c.To)) + string(src[a.Inner.End:])
				return r, w.WriteDraft(r, []byte(out))
			}
		}
		at := root.Span().Start + 1 + len(root.Name().Qualified())
		return r, w.WriteDraft(
			r,
			[]byte(string(src[:at])+` xmlns="`+xmltree.EscapeAttr(fmt.Sprint(c.To))+`"`+string(src[at:])),
		)
	}
	if path, ok := strings.CutPrefix(c.Key, "value."); ok {
		o, err := w.OpenDraft(r)
		if err == nil {
			err = o.Body.Set(path, fmt.Sprint(c.To))
		}
		if err != nil {
			return r, err
		}
		return r, w.WriteDraft(r, o.Body.Bytes())
	}
	return r, fmt.Errorf("the change of %s is not known", c.Key)
}
