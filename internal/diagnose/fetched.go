package diagnose

import (
	"fmt"
	"mime"
	"net/http"
	"strings"

	"orenda/internal/contract"
	"orenda/internal/exchange"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// What is true of a description that is fetched with GET, where a call is another thing.

// NotDescriptionError is a fetched document that is no description.
type NotDescriptionError struct {
	Err   error    // what the system or a library said
	Links []string // several descriptions that the page leads to
}

func (e NotDescriptionError) Error() string { return e.Err.Error() }

// ofDescription lets a finding speak of the description that was asked for, not of a call and its reply.
func (c *Case) ofDescription(f *exchange.Finding) {
	if h := c.response(); h != nil && h.BodyWhole && h.Status >= http.StatusBadRequest {
		c.descriptionRefused(f, h)
	}
	swap := strings.NewReplacer("the reply", "the description", "The reply", "The description",
		"its reply", "the description", "the envelope", "the description")
	f.Title, f.Program = swap.Replace(f.Title), swap.Replace(f.Program)
	f.Why = outsideQuotes(f.Why, swap.Replace)
}

// outsideQuotes changes a text but for what is quoted in it: those are the words of others.
func outsideQuotes(text string, change func(string) string) string {
	var out strings.Builder
	for {
		at := strings.IndexAny(text, "“\"")
		if at < 0 {
			out.WriteString(change(text))
			return out.String()
		}
		closes := "”"
		if text[at] == '"' {
			closes = `"`
		}
		out.WriteString(change(text[:at]))
		end := at + len(closes) // both have the length of their counterpart
		for next := 0; next >= 0; {
			if next = strings.Index(text[end:], closes); next < 0 {
				end = len(text)
			} else if end += next + len(closes); text[end-len(closes)-1] != '\\' {
				break // else it is one that stands in the quote itself
			}
		}
		out.WriteString(text[at:end])
		text = text[end:]
	}
}

const (
	checkDescription = "check the address of the description; ?wsdl at its end is usual"
	fileDoes         = "a file of it does as well"
)

// descriptionRefused is what an error says that a GET is answered with.
func (c *Case) descriptionRefused(f *exchange.Finding, h *exchange.Head) {
	fault := faultIn(c.leg().ResponseBody.Bytes())
	answered := fmt.Sprintf("It answered %q to a GET", h.Line)
	switch f.ID {
	case "receive.unauthorized":
		f.Program = "authenticate where it fetches the description itself; " + fileDoes
	case "receive.forbidden":
		f.Title = "the server does not give the description to you"
		f.Program = "ask the service's people for the description; " + fileDoes
	case "receive.not-found":
		f.Title, f.Program = "there is nothing at this path", checkDescription
	case "receive.method-refused":
		f.Title, f.Program = "the server gives no description at this path", descriptionBeside
		f.Why = fmt.Sprintf("%s and allows %s: the service is probably called here, and its description is "+
			"elsewhere.", answered, orNone(h.Get("Allow")))
	case "receive.media-type-refused", "receive.coding-refused", "receive.length-required":
		f.Title, f.Program, f.Remedies = "the server gives no description at this path", descriptionBeside, nil
		f.Why = answered + ": the service is probably called here, and its description is elsewhere."
	case "receive.client-error":
		if _, known := statuses[h.Status]; !known {
			f.Program = checkDescription
		}
	case "receive.server-error":
		f.Program = "ask the service's people for the description; " + fileDoes
		if h.Status == http.StatusNotImplemented {
			f.Program = descriptionBeside
		}
		if _, known := statuses[h.Status]; !known && h.Status < 512 {
			f.Title = fmt.Sprintf("the server failed with %d", h.Status)
		}
		if fault == nil {
			f.Why = strings.Replace(f.Why, noFault, answered+".", 1)
		}
	}
	if fault != nil && f.ID != "receive.unauthorized" && f.ID != "receive.forbidden" && f.ID != "receive.gateway" {
		f.Program = descriptionBeside
		f.Why = fmt.Sprintf("%s with a fault: the service itself answers here. %s", answered, reason(fault))
	}
}

const descriptionBeside = "ask for the address of the description; many services give it at the same path with ?wsdl"

// faultIn is the fault in an answer to a GET; nil there is none.
func faultIn(body []byte) *soap.Fault {
	d, err := xmltree.ParseEncoded(body, "", xmltree.Limits{})
	if err != nil || d.Root().Name().Local != "Envelope" {
		return nil
	}
	if e := soap.Read(d); e != nil {
		return e.Fault
	}
	return nil
}

// notMarkup tells what came in the place of a description that is no XML; nothing where it may be XML.
func (c *Case) notMarkup() likeness {
	l := c.leg()
	if !c.Description || c.ReplyErr == nil || l == nil {
		return likeness{}
	}
	media, _, _ := mime.ParseMediaType(l.Response.Get("Content-Type"))
	return looksLike(media, l.ResponseBody.Bytes())
}

func notDescription(c *Case) []exchange.Finding {
	is := c.notMarkup()
	e, ok := c.Err.(NotDescriptionError)
	if !ok && is.what == "" {
		return nil
	}
	f := exchange.Finding{Title: "what was fetched is no service description", Program: checkDescription}
	body := c.leg().ResponseBody.Bytes()
	f.Evidence = []exchange.Evidence{c.inBody(0, min(len(body), 120))}
	switch {
	case is.kind == packedKind:
		f.Why, f.Side = "It is "+is.what+".", exchange.Theirs
		f.Program = "nothing; the service, or something between, has to say Content-Encoding, or to send it as it is"
	case is.kind == writtenKind:
		f.Why, f.Side = "It is "+is.what+".", exchange.Theirs
		f.Program = "nothing; the service has to send the description as XML"
	case is.what != "":
		f.Why = "It is " + is.what + "."
		if is.what == "plain text" {
			f.Why += " It says: " + quoteTitle(body) + "."
		}
	default:
		f.Why = upperFirst(e.Err.Error()) + "."
		if fault := faultIn(body); fault != nil {
			f.Why += " " + reason(fault)
			f.Program = descriptionBeside
		}
		c.pageWords(&f, body)
	}
	if n := len(e.Links); n > 1 {
		f.Title = fmt.Sprintf("the page leads to %d descriptions", n)
		f.Why = "Each is the description of another service."
		f.Program = ""
		for _, link := range e.Links[:min(n, 20)] {
			f.Remedies = append(f.Remedies, exchange.NewRemedy("take "+link, c.changeHere("address", link)))
		}
	}
	return one(f)
}

// pageWords adds what a page says that came in the place of a description.
func (c *Case) pageWords(f *exchange.Finding, body []byte) {
	if !contract.LooksLikeHTML(body) {
		return
	}
	title := quoteTitle(body)
	if title != "" {
		f.Why += " It says: " + title + "."
	}
	if logIn.MatchString(title) || logInPage.MatchString(c.address()) {
		f.Why += " Where a page asks who comes, the service is not reached."
		f.Program = "log in as the service wants programs to, where it fetches the description itself; " + fileDoes
	}
}
