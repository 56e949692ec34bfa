package call

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"orenda/internal/exchange"
	"orenda/internal/related"
)

// har is what is read of an HTTP archive, version 1.2.
type har struct {
	Log struct {
		Version string
		Entries []struct {
			Request struct {
				Method, URL string
				Headers     []pair
				PostData    struct{ Text, Encoding string }
			}
			Response struct {
				Status      int
				StatusText  string
				HTTPVersion string
				Headers     []pair
				Content     struct {
					Size     int64
					Text     string
					Encoding string
				}
				BodySize int64
				Error    any `json:"_error"` // a text, as browsers write it where no answer came
			}
		}
	}
}

type pair struct{ Name, Value string }

// Entry is an exchange of an archive, by its number in it, counted from 1.
type Entry struct {
	Number int // from 1
	*Imported

	Keep func(*exchange.Exchange) error // what is done with the exchange that it becomes; nil: nothing
}

// FromHAR takes from an HTTP archive (HAR 1.2) the exchanges that carry XML in
// their request or their reply.
func FromHAR(b []byte) ([]Entry, error) {
	var h har
	if err := json.Unmarshal(bytes.TrimPrefix(b, bom), &h); err != nil {
		return nil, fmt.Errorf("it is no HTTP archive: %w", err)
	}
	if h.Log.Version == "" && h.Log.Entries == nil {
		return nil, fmt.Errorf("it is no HTTP archive: there is no log in it")
	}
	var out []Entry
	for i, e := range h.Log.Entries {
		w := &Imported{Method: e.Request.Method, URL: e.Request.URL, Header: fieldsOf(e.Request.Headers)}
		var err error
		if w.Body, err = textOf(e.Request.PostData.Text, e.Request.PostData.Encoding); err != nil {
			return nil, fmt.Errorf("entry %d: the request: %w", i+1, err)
		}
		reply, err := textOf(e.Response.Content.Text, e.Response.Content.Encoding)
		if err != nil {
			return nil, fmt.Errorf("entry %d: the reply: %w", i+1, err)
		}
		inParts := related.Is(field(w.Header, "Content-Type")) ||
			related.Is(field(fieldsOf(e.Response.Headers), "Content-Type"))
		if !inParts && !looksLikeXML(w.Body) && (!looksLikeXML(reply) || w.Method == "GET") {
			continue
		}
		var fields [][2]string
		for _, f := range fieldsOf(e.Response.Headers) {
			switch strings.ToLower(f[0]) {
			case "content-length", "content-encoding", "transfer-encoding": // the text is without codings
			default:
				fields = append(fields, f)
			}
		}
		if len(reply) == 0 && e.Response.Content.Size > 0 {
			w.Made = "the body of the reply, which the archive leaves out"
		}
		if e.Response.Status > 0 {
			w.Reply = ReplyOf(
				strings.TrimSpace(fmt.Sprintf("HTTP/1.1 %d %s", e.Response.Status, e.Response.StatusText)),
				fields,
				reply,
			)
		} else {
			said, _ := e.Response.Error.(string)
			w.unseen = errors.New(said)
		}
		out = append(out, Entry{Number: i + 1, Imported: w})
	}
	return out, nil
}

func fieldsOf(pairs []pair) (out [][2]string) {
	for _, p := range pairs {
		if !strings.HasPrefix(p.Name, ":") { // HTTP/2 writes its request line so
			out = append(out, [2]string{p.Name, p.Value})
		}
	}
	return out
}

func textOf(text, encoding string) ([]byte, error) {
	if text == "" {
		return nil, nil
	}
	if encoding == "base64" {
		return base64.StdEncoding.DecodeString(text)
	}
	return []byte(text), nil
}

func looksLikeXML(b []byte) bool {
	b = bytes.TrimSpace(bytes.TrimPrefix(b, bom))
	return bytes.HasPrefix(b, []byte("<")) && !bytes.HasPrefix(bytes.ToLower(b), []byte("<!doctype html")) &&
		!bytes.HasPrefix(bytes.ToLower(b), []byte("<html"))
}
