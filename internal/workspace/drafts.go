package workspace

import (
	"slices"
	"strings"

	"orenda/internal/call"
	"orenda/internal/message"
)

// Opened is a draft with its header blocks, which may be nil.
type Opened struct {
	Body   *message.Draft // the body element, or a whole envelope
	Header *message.Draft // nil where there can be none
}

// OpenDraft parses a draft and its header blocks.
func (w *Workspace) OpenDraft(r DraftRef) (o Opened, err error) {
	c, err := w.Contract(r.Contract)
	if err != nil {
		return o, err
	}
	src, err := w.ReadDraft(r)
	if err != nil {
		return o, err
	}
	blocks, err := w.ReadHeader(r)
	if err != nil {
		return o, err
	}
	p := call.Plan{Contract: c, Operation: r.Operation}
	if ports := c.PortsWith(r.Operation); len(ports) > 0 {
		p.Port = ports[0]
	}
	p.SetDraft(src)
	p.SetHeader(blocks)
	return Opened{p.Draft, p.Header}, nil
}

// Differences are what two drafts of one operation differ in: the values of their fields
// and header blocks, and what else belongs to each.
func (w *Workspace) Differences(a, b DraftRef, was, is Opened) []message.Difference {
	out := message.Differences(was.Body, is.Body)
	headers := [2]*message.Draft{was.Header, is.Header}
	for i := range headers {
		if headers[i] == nil {
			headers[i] = message.NewDraft(is.Body.Schemas, nil, []byte(message.NoHeader))
		}
	}
	for _, d := range message.Differences(headers[0], headers[1]) {
		d.Path = "header:" + d.Path
		out = append(out, d)
	}
	cfg := w.Config()
	for _, key := range DraftKeys {
		out = append(out, ownDiffer(key, cfg.DraftSettings[a.ID()].Own[key], cfg.DraftSettings[b.ID()].Own[key])...)
	}
	return out
}

// ownDiffer are the items of a setting that one of two drafts has alone. Fields and files
// are told by their names.
func ownDiffer(key string, a, b []string) (out []message.Difference) {
	words := map[string]string{"header": "HTTP field", "attach": "file", "expect": "expected", "secret": "secret"}
	split := func(item string) (path, value string) {
		mark := map[string]string{"header": ":", "attach": "="}[key]
		if name, value, ok := strings.Cut(item, mark); mark != "" && ok {
			return words[key] + " " + strings.TrimSpace(name), strings.TrimSpace(value)
		}
		return words[key], item
	}
	there := map[string]int{}
	for _, item := range a {
		if slices.Contains(b, item) {
			continue
		}
		path, value := split(item)
		there[path] = len(out)
		out = append(out, message.Difference{Path: path, A: value, HasA: true})
	}
	for _, item := range b {
		if slices.Contains(a, item) {
			continue
		}
		path, value := split(item)
		if i, ok := there[path]; ok && !out[i].HasB && path != words[key] {
			out[i].B, out[i].HasB = value, true
			continue
		}
		out = append(out, message.Difference{Path: path, B: value, HasB: true})
	}
	return out
}
