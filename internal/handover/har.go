package handover

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"
	"unicode/utf8"

	"orenda/internal/exchange"
)

// HAR is exchanges as an HTTP archive (HAR 1.2), each leg an entry, without any secret. The
// texts of messages are without transfer and content codings, as the format has it.
func HAR(list []*exchange.Exchange, version string) ([]byte, error) {
	type pair struct {
		Name  string `json:"name"`
		Value string `json:"value"`
	}
	fields := func(h *exchange.Head) []pair {
		out := []pair{}
		for _, f := range h.Fields {
			out = append(out, pair{f.Name, f.Value})
		}
		return out
	}
	text := func(b []byte) (s, encoding string) {
		if utf8.Valid(b) {
			return string(b), ""
		}
		return base64.StdEncoding.EncodeToString(b), "base64"
	}
	ms := func(ns int64) float64 { return float64(ns) / float64(time.Millisecond) }
	entries := []any{}
	for _, full := range list {
		x := full.Redact(nil)
		for _, l := range x.Legs {
			method, path, _ := strings.Cut(l.Request.Line, " ")
			path, _, _ = strings.Cut(path, " ")
			address := path
			if strings.HasPrefix(path, "/") {
				scheme := "http"
				if l.Conn.TLS != nil {
					scheme = "https"
				}
				address = scheme + "://" + l.Request.Get("Host") + path
			}
			body, encoding := text(l.RequestBody)
			request := map[string]any{
				"method": method, "url": address, "httpVersion": "HTTP/1.1", "cookies": []any{}, "queryString": []any{},
				"headers": fields(&l.Request), "headersSize": l.Request.Size, "bodySize": len(l.RequestBody),
			}
			if len(l.RequestBody) > 0 {
				post := map[string]any{"mimeType": l.Request.Get("Content-Type"), "text": body}
				if encoding != "" {
					post["encoding"] = encoding
				}
				request["postData"] = post
			}
			came, encoding := text(l.ResponseBody.Bytes())
			content := map[string]any{
				"size": len(l.ResponseBody.Bytes()), "mimeType": l.Response.Get("Content-Type"), "text": came,
			}
			if encoding != "" {
				content["encoding"] = encoding
			}
			response := map[string]any{
				"status": l.Response.Status, "statusText": http.StatusText(l.Response.Status),
				"httpVersion": "HTTP/1.1", "cookies": []any{}, "headers": fields(&l.Response), "content": content,
				"redirectURL": l.Response.Get("Location"),
				"headersSize": l.Response.Size, "bodySize": l.Response.WireSize,
			}
			comment := x.ID + " " + x.Ending()
			if c := x.Cause(); c != nil {
				comment += ": " + c.Title
			}
			entries = append(entries, map[string]any{
				"startedDateTime": x.Started.Format(time.RFC3339Nano), "time": ms(x.TotalNs), "request": request,
				"response": response, "cache": map[string]any{}, "comment": comment,
				"timings": map[string]any{
					"connect": ms(x.Stage(exchange.Connect).DurationNs + x.Stage(exchange.TLS).DurationNs),
					"ssl":     ms(x.Stage(exchange.TLS).DurationNs),
					"send":    ms(x.Stage(exchange.Send).DurationNs), "wait": ms(x.Stage(exchange.Wait).DurationNs),
					"receive": ms(x.Stage(exchange.Receive).DurationNs),
				},
			})
		}
	}
	b, err := json.MarshalIndent(map[string]any{"log": map[string]any{
		"version": "1.2", "creator": map[string]string{"name": "Orenda", "version": version}, "entries": entries,
	}}, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("the archive: %w", err)
	}
	return append(b, '\n'), nil
}
