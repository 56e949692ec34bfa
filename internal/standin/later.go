package standin

import (
	"bytes"
	"net/http"
	"slices"
	"strings"
	"time"

	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// replyTo is where an answer is to go by the message's ReplyTo or, for a fault, FaultTo; "" over the
// same connection (WS-Addressing 1.0 Core §3.4).
func replyTo(body []byte, fault bool) string {
	d, err := xmltree.ParseEncoded(body, "", xmltree.Limits{Depth: 256})
	if err != nil {
		return ""
	}
	e := soap.Read(d)
	if e == nil {
		return ""
	}
	to := ""
	for _, ns := range soap.AddressingNS {
		for _, name := range []string{"ReplyTo", "FaultTo"} {
			at := strings.TrimSpace(e.Header.Child(ns, name).Child(ns, "Address").Text())
			if at != "" && (name == "ReplyTo" || fault) {
				to = at
			}
		}
	}
	if strings.HasSuffix(to, "/anonymous") {
		return ""
	}
	return to
}

// answerLater sends an answer to where the message asked for it.
func (h *Harbour) answerLater(to, mediaType string, reply []byte) {
	q, err := http.NewRequest(http.MethodPost, to, bytes.NewReader(reply))
	if err != nil {
		return
	}
	q.Header.Set("Content-Type", mediaType+"; charset=utf-8")
	const patience = 5 * time.Second
	c := &http.Client{Timeout: patience, Transport: &http.Transport{DisableKeepAlives: true}}
	if r, err := c.Do(q); err == nil {
		r.Body.Close()
	}
}

// relating is a reply that says which message it answers: a fault is made without that.
func relating(reply, asked []byte) []byte {
	at := bytes.Index(reply, []byte("<soap:Body"))
	d, err := xmltree.ParseEncoded(asked, "", xmltree.Limits{Depth: 256})
	if err != nil || at < 0 || bytes.Contains(reply, []byte("RelatesTo")) {
		return reply
	}
	e := soap.Read(d)
	if e == nil {
		return reply
	}
	blocks := replyAddressing(e, bytes.Contains(reply, []byte(":Fault")))
	header := append([]byte("<soap:Header>"), bytes.Join(blocks, nil)...)
	return slices.Concat(reply[:at], header, []byte("</soap:Header>"), reply[at:])
}
