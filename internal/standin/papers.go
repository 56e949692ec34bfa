package standin

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"orenda/internal/related"
	"strings"

	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

const papersNS = "urn:skerry:papers"

// unpack takes a request apart: its envelope, and the parts beside it. packing is
// how it was packed, "" where it was not.
func unpack(contentType string, body []byte) (envelope []byte, parts []soap.Attached, packing string, no *fault) {
	if !related.Is(contentType) {
		return body, nil, "", nil
	}
	all, err := related.Split(contentType, body)
	if err != nil {
		return nil, nil, "", &fault{code: "Client", reason: "the parts cannot be read: " + err.Error()}
	}
	packing = soap.Attachments
	for i := range all {
		content, err := all[i].Content(body)
		if err != nil {
			return nil, nil, "", &fault{code: "Client", reason: "a part cannot be read: " + err.Error()}
		}
		if all[i].Root {
			envelope = content
			if strings.Contains(all[i].Type, "xop+xml") {
				packing = soap.MTOM
			}
			continue
		}
		parts = append(parts, soap.Attached{ID: all[i].ID, Type: all[i].Type, Name: all[i].Name, Content: content})
	}
	return envelope, parts, packing, nil
}

// inlined is a body with the values of its parts in it, as a program reads it.
func inlined(body xmltree.Node, parts []soap.Attached) xmltree.Node {
	if len(parts) == 0 {
		return body
	}
	src := []byte(message.Alone(body))
	for _, p := range parts {
		for _, href := range []string{`"cid:` + p.ID + `"`, `'cid:` + p.ID + `'`} {
			at := bytes.Index(src, []byte(href))
			if at < 0 {
				continue
			}
			from, to := bytes.LastIndexByte(src[:at], '<'), at+bytes.IndexByte(src[at:], '>')+1
			if bytes.Contains(src[from:at], []byte("Include")) {
				src = append(
					append(append([]byte{}, src[:from]...), base64.StdEncoding.EncodeToString(p.Content)...),
					src[to:]...)
			} else { // beside the envelope: its element is empty
				src = append(append(append([]byte{}, src[:to]...), base64.StdEncoding.EncodeToString(p.Content)...),
					src[to:]...)
			}
		}
	}
	d, err := xmltree.Parse(src, xmltree.Limits{Text: 64 << 20})
	if err != nil {
		return body
	}
	return d.Root()
}

// papers keeps ship's papers and hands them out again.
func papers(h *Harbour, op string, body xmltree.Node) (string, *fault) {
	switch op {
	case "FilePaper":
		text := strings.Join(strings.Fields(body.Child(papersNS, "paper").Text()), "")
		b, err := base64.StdEncoding.DecodeString(text)
		if err != nil || len(b) == 0 {
			return "", &fault{code: "Client", reason: "the paper is empty or no base64"}
		}
		h.mu.Lock()
		h.orders++
		receipt := fmt.Sprintf("P-%04d", h.orders)
		h.papers[receipt] = b
		h.mu.Unlock()
		sum := sha256.Sum256(b)
		return fmt.Sprintf(
			"    <FilePaperResponse "+
				"xmlns=\"%s\"><receipt>%s</receipt><size>%d</size><sha256>%s</sha256></FilePaperResponse>",
			papersNS,
			receipt,
			len(b),
			hex.EncodeToString(sum[:]),
		), nil
	case "FetchPaper":
		receipt := strings.TrimSpace(body.Child(papersNS, "receipt").Text())
		h.mu.Lock()
		b := h.papers[receipt]
		h.mu.Unlock()
		if b == nil {
			return "", &fault{code: "Client", reason: "there is no paper " + receipt}
		}
		return fmt.Sprintf(
			"    <FetchPaperResponse xmlns=\"%s\"><receipt>%s</receipt><paper>%s</paper></FetchPaperResponse>",
			papersNS,
			receipt,
			base64.StdEncoding.EncodeToString(b),
		), nil
	}
	return "", &fault{code: "Client", reason: "no such operation"}
}

// pack lets the papers of a reply travel as parts, packed as the request was.
func (h *Harbour) pack(packing string, v soap.Version, reply []byte) (contentType string, body []byte) {
	var parts []soap.Attached
	open, end := []byte("<paper>"), []byte("</paper>")
	if i, k := bytes.Index(reply, open), bytes.Index(reply, end); i >= 0 && k > i {
		content, err := base64.StdEncoding.DecodeString(string(reply[i+len(open) : k]))
		if err == nil {
			parts = append(
				parts,
				soap.Attached{
					ID:      "paper-1@papers.skerry.test",
					Type:    "application/pdf",
					Name:    "paper.pdf",
					Content: content,
				},
			)
			in := `<paper><xop:Include xmlns:xop="` + soap.XOP + `" href="cid:paper-1@papers.skerry.test"/>`
			if packing == soap.Attachments {
				in = `<paper href="cid:paper-1@papers.skerry.test">`
			}
			reply = append(append(append([]byte{}, reply[:i]...), in...), reply[k:]...)
		}
	}
	contentType, body, _ = soap.Package(packing, v, "utf-8", "", reply, parts)
	return contentType, body
}
