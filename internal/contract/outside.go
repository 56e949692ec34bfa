package contract

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"orenda/internal/xmltree"
)

// WithPolicies is the same description with policies that are attached to it from outside (WS-PolicyAttachment
// 1.5 §3.4): files of policies, or of attachments that say to which parts they apply. A policy that stands
// alone applies to all of it.
func (c *Contract) WithPolicies(ctx context.Context, policies ...File) (*Contract, error) {
	files := append(slices.Clone(c.Files), policies...)
	read := func(_ context.Context, location string) ([]byte, error) {
		for _, f := range files {
			if f.Location == location {
				return f.Bytes, nil
			}
		}
		return nil, errors.New("it was not fetched")
	}
	all := slices.Clone(c.Policies)
	for _, p := range policies {
		d, err := xmltree.ParseContract(p.Bytes, xmltree.Limits{Depth: 256})
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.Location, err)
		}
		if !holdsPolicy(d.Root()) {
			return nil, fmt.Errorf("%s holds no policy: its root element is %s", p.Location,
				d.Root().Name().Qualified())
		}
		if !slices.Contains(all, p.Location) {
			all = append(all, p.Location)
		}
	}
	return Load(ctx, c.Source, c.Files[0].Bytes, read, all...)
}

// PolicyFile reads a file with policies, which the person names.
func PolicyFile(path string) (File, error) {
	info, err := os.Stat(path)
	if err == nil && (!info.Mode().IsRegular() || info.Size() > maxLocal) {
		err = fmt.Errorf("%s is not read: it is no regular file of up to %d MiB", path, maxLocal>>20)
	}
	if err != nil {
		return File{}, err
	}
	b, err := os.ReadFile(path)
	return File{Location: filepath.ToSlash(path), Bytes: b}, err
}

// holdsPolicy tells whether a document is a policy, or holds attachments of some.
func holdsPolicy(n xmltree.Node) bool {
	if isPolicyNS(n.Name().Space) && (n.Name().Local == "Policy" || n.Name().Local == "PolicyAttachment") {
		return true
	}
	for c := range n.Children() {
		if isPolicyNS(c.Name().Space) && c.Name().Local == "PolicyAttachment" {
			return true
		}
	}
	return false
}

// outside reads policies from files beside the description.
func (r *policyReader) outside(locations []string) {
	for _, at := range locations {
		src, err := r.l.get(at)
		if err != nil {
			r.l.unread("policy "+at, at, "%s", err.Error())
			continue
		}
		d, err := xmltree.ParseContract(src, xmltree.Limits{Depth: 256})
		if err != nil {
			r.l.unread("policy "+at, at, "%s", err.Error())
			continue
		}
		root := d.Root()
		r.collect(root, at)
		switch {
		case isPolicyNS(root.Name().Space) && root.Name().Local == "Policy":
			r.used[at+"#"+policyID(root)] = true
			r.l.policy(r, root, nil, false, at, 0)
		case isPolicyNS(root.Name().Space) && root.Name().Local == "PolicyAttachment":
			r.attachment(root, at)
		default:
			for n := range root.Children() {
				if isPolicyNS(n.Name().Space) && n.Name().Local == "PolicyAttachment" {
					r.attachment(n, at)
				}
			}
		}
	}
}

// attachment attaches policies to the parts that they say they apply to.
func (r *policyReader) attachment(n xmltree.Node, source string) {
	var to []subject
	for a := range n.Children() {
		if isPolicyNS(a.Name().Space) && a.Name().Local == "AppliesTo" {
			for expression := range a.Children() {
				to = append(to, r.appliesTo(expression, source)...)
			}
		}
	}
	for c := range n.Children() {
		if !isPolicyNS(c.Name().Space) {
			continue
		}
		for _, at := range to {
			switch c.Name().Local {
			case "Policy":
				r.used[source+"#"+policyID(c)] = true
				r.l.policy(r, c, at, false, source, 0)
			case "PolicyReference":
				uri, _ := c.Attr("", "URI")
				r.follow(uri, source, at, false, 0)
			}
		}
	}
}

// appliesTo are the parts that an expression means: by their identifiers, or by the address of their port.
func (r *policyReader) appliesTo(n xmltree.Node, source string) (out []subject) {
	text := strings.TrimSpace(n.Text())
	switch n.Name().Local {
	case "URI":
		s, err := r.designated(text)
		if err != nil {
			r.l.unread("policy attachment", source, "it applies to %s: %s", text, err.Error())
			return nil
		}
		return []subject{s}
	case "EndpointReference":
		address := ""
		for a := range n.Children() {
			if a.Name().Local == "Address" {
				address = strings.TrimSpace(a.Text())
			}
		}
		for _, p := range r.l.c.Ports() {
			if p.Address != address {
				continue
			}
			s := subject{{"port", p.Name}}
			if p.Service != nil {
				s = append(s, subjectPart{"service", p.Service.Name})
			}
			out = append(out, s)
		}
		if out == nil {
			r.l.unread("policy attachment", source, "it applies to %s, where the description has no port", address)
		}
		return out
	}
	r.l.unread("policy attachment", source, "it says what it applies to by %s, which is not known here",
		n.Name().Qualified())
	return nil
}

var (
	errOther    = errors.New("that is another description")
	errNoSyntax = errors.New("that is no identifier of a part (WSDL 1.1 element identifiers, WSDL 2.0 appendix A)")
)

// partKinds are what the identifiers of parts name, from the outermost on (WSDL 1.1 element identifiers §2.1,
// WSDL 2.0 appendix A.2).
//
//nolint:gochecknoglobals // a table: it is never written to
var partKinds = map[string][]string{
	"wsdl11.definitions": {}, "wsdl11.service": {"service"}, "wsdl11.port": {"service", "port"},
	"wsdl11.binding": {"binding"}, "wsdl11.portType": {"portType"}, "wsdl11.message": {"message"},
	"wsdl11.bindingOperation":         {"binding", "operation"},
	"wsdl11.bindingOperation.input":   {"binding", "operation", "input"},
	"wsdl11.bindingOperation.output":  {"binding", "operation", "output"},
	"wsdl11.bindingOperation.fault":   {"binding", "operation", "fault"},
	"wsdl11.portTypeOperation":        {"portType", "operation"},
	"wsdl11.portTypeOperation.input":  {"portType", "operation", "input"},
	"wsdl11.portTypeOperation.output": {"portType", "operation", "output"},
	"wsdl11.portTypeOperation.fault":  {"portType", "operation", "fault"},
	"wsdl.description":                {}, "wsdl.service": {"service"}, "wsdl.endpoint": {"service", "endpoint"},
	"wsdl.binding": {"binding"}, "wsdl.interface": {"interface"},
	"wsdl.bindingOperation": {"binding", "operation"}, "wsdl.interfaceOperation": {"interface", "operation"},
}

// designated is the part that an identifier names.
func (r *policyReader) designated(uri string) (subject, error) {
	base, fragment, _ := strings.Cut(uri, "#")
	if base != "" && !slices.ContainsFunc(r.l.docs, func(d *wsdlDoc) bool {
		return d.target == base || d.source == base || strings.HasSuffix(d.source, "/"+base)
	}) {
		return nil, errOther
	}
	if fragment == "" {
		return nil, nil
	}
	kind, inner, ok := strings.Cut(strings.TrimSuffix(fragment, ")"), "(")
	kinds, known := partKinds[kind]
	if !ok || !known || !strings.HasSuffix(fragment, ")") {
		return nil, errNoSyntax
	}
	names := strings.Split(inner, "/")
	if inner == "" {
		names = nil
	}
	if len(names) < min(len(kinds), 2) {
		return nil, errNoSyntax
	}
	var out subject
	for i, k := range kinds {
		name := "" // of a message of an operation it says nothing more
		if i < len(names) {
			name = names[i]
		}
		out = append(subject{{k, name}}, out...)
	}
	if !r.there(out) {
		return nil, fmt.Errorf("there is no %s", out)
	}
	return out, nil
}

// there tells whether the description has a part.
func (r *policyReader) there(s subject) bool {
	for _, part := range s {
		if part.name == "" {
			continue
		}
		is := part.kind == "message" || part.kind == "input" || part.kind == "output" || part.kind == "fault"
		for _, p := range r.l.c.Ports() {
			switch part.kind {
			case "service":
				is = is || p.Service != nil && p.Service.Name == part.name
			case "port", "endpoint":
				is = is || p.Name == part.name
			case "binding":
				is = is || p.Binding.Local == part.name
			case "portType", "interface":
				is = is || p.PortType.Local == part.name
			case "operation":
				is = is || p.Operation(part.name) != nil
			}
		}
		if !is {
			return false
		}
	}
	return true
}
