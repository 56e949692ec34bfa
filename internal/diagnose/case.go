// Package diagnose names causes. It reads the record of a call and what the
// call knew, and gives findings: one rule, one function, in a table.
//
// A cause is named only on evidence, which the finding points at; what is a
// guess says so.
package diagnose

import (
	"bytes"
	"crypto/x509"
	"fmt"
	"slices"
	"strings"
	"time"

	"orenda/internal/contract"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/soap"
	"orenda/internal/wssec"
	"orenda/internal/xmltree"
)

// Case is a call as the rules see it. Fields are zero where the call did not
// get so far, or where nothing is known.
type Case struct {
	X        *exchange.Exchange // the record
	Err      error              // what stopped the call, typed
	Now      time.Time          // when the case is judged: of an imported exchange, when it began
	Settings *endpoint.Settings // in force

	Contract  *contract.Contract  // nil where none is known
	Port      *contract.Port      // nil where none is known
	Operation *contract.Operation // nil where none is known
	Served    string              // host and port that served the contract, "" for a file

	Environment  string                        // its name
	Environments []string                      // names of all
	Variables    map[string]string             // by name
	Identities   []Identity                    // that the user has
	Shares       func(profile string) []string // endpoints that use a profile
	History      History                       // nil where nothing is kept

	Draft         *message.Draft // as it was sent
	Header        *message.Draft // header blocks; nil where the contract has none and none are set
	Invalid       []schema.Error // of the request
	HeaderInvalid []schema.Error // of its header blocks
	Held          error          // why it is not sent unasked: ErrUnfilled or ErrBreaksSchema
	Size          int64          // of the envelope as built

	Reply        *soap.Envelope       // nil where none came
	ReplyDoc     *xmltree.Document    // what could be read of the reply
	ReplyAt      int                  // where it begins in the response's body, which may have other parts
	ReplyErr     *xmltree.SyntaxError // why it could not be read
	ReplyInvalid []schema.Error       // against the schema
	WholeJudged  bool                 // ReplyInvalid tells of the whole body, of which ReplyDoc is the beginning
	Unmet        []Unmet              // expectations
	Fetch        bool                 // no call: a description is fetched, or a log-in sent
	Description  bool                 // a description is fetched, with GET
	GivenUp      bool                 // of an exchange made elsewhere: the program closed the connection first,
	Waited       time.Duration        // so long after the last byte
	HeadMade     bool                 // the reply of such a one had no head: what stands there is made up
	// Replaced are header fields that an extra header replaces: name, value as it would
	// be, value sent.
	Replaced [][3]string
	Followed []string // redirects that were followed

	Unfit           string              // why the client certificate will hardly do
	Fetched         []*x509.Certificate // issuers that the server did not send and that were fetched
	Completes       bool                // and with which the chain leads to what is trusted
	OtherName       []string            // names of the certificate that the server shows to those who ask for none
	PeerTime        time.Time           // what time it is at the peer, where it was asked
	Chosen          string              // the identity whose client certificate was sent without being set
	NotDecrypted    error               // why an encrypted reply could not be opened
	Signatures      []wssec.Signature   // of the reply
	SignerOver      string              // why the certificate of a signature is outside its dates
	Signer          *x509.Certificate   // whose signature is not trusted
	Unsigned        bool                // a signature is demanded, and none covers the body
	Stale           string              // what is wrong with the reply's timestamp
	StaleAt         xmltree.Span        // where the timestamp stands
	SecretHasSpaces bool                // the secret that is sent begins or ends with white space
	AssertionOver   string              // why the assertion that is sent is not valid now, "" where it does
	SkipVerify      bool                // whatever certificate was accepted
	Imported        bool                // another program made the exchange

	AddsSecurity           bool   // and a relay adds the security that is set here
	Empty                  bool   // it sent nothing where an envelope is due
	Undeclared             bool   // but bytes behind a head that declares no length
	SentDeclared, SentCame int64  // bytes of body that another program declared, and sent
	ProgramLeft            *int64 // after how many bytes of the answer that program took no more; nil: it took all

	Later *exchange.Later // the listener for an answer that comes later; nil: there was none

	SetAside map[string]string // findings that were set aside for this endpoint: reasons, by id

	fault string // the class of the reply's fault, once it was asked for
}

// Identity is what a remedy needs to know of an identity.
type Identity struct {
	Name, User  string            // its name; user name, "" none
	Certificate *x509.Certificate // its client certificate, nil where it has none
}

// Unmet is an expectation that the reply does not meet.
type Unmet struct {
	Path, Expected, Received string       // of the field; value
	Found                    bool         // the field is there
	At                       xmltree.Span // where it stands
	Near                     string       // the one that is meant, likely; "" none is near
}

// History is what the journal knows of earlier replies.
type History interface {
	// ReplySizes are the sizes of the kept replies of like's service, or of all where it
	// is nil, to an operation in bytes, the newest first; announced ones where a reply was cut off.
	ReplySizes(operation string, like *exchange.Exchange) []int64
	// Passed is the newest kept call of an operation over an endpoint of a
	// workspace that passed, without its bytes, or nil.
	Passed(workspace, operation, endpoint string) *exchange.Exchange
	// Repaired are kept calls that passed after a change, where the attempt before
	// had failed with a finding as its cause: the newest first, without their bytes.
	Repaired(finding string) []*exchange.Exchange
}

// Rule is one row of the catalogue.
type Rule struct {
	ID       string                         // stable name: stage.cause
	Severity exchange.Severity              // stop, warn or note
	Side     exchange.Side                  // who can mend it
	Find     func(*Case) []exchange.Finding // gives what it finds, none where it does not hold
}

// Stage is the stage at which the rule's cause lives.
func (r *Rule) Stage() exchange.Stage {
	name, _, _ := strings.Cut(r.ID, ".")
	s, _ := exchange.ParseStage(name)
	return s
}

// Rules is the catalogue, in order of stages.
//
//nolint:gochecknoglobals // a table: it is never written to
var Rules = slices.Concat(
	offlineRules,
	shapeRules,
	reachRules,
	receiveRules,
	readRules,
	attachmentRules,
	tokenRules, ticketRules,
	relayedRules,
)

// nonStopping are the rules that stop nothing.
//
//nolint:gochecknoglobals // a table: it is never written to
var nonStopping = slices.DeleteFunc(slices.Clone(Rules), func(r Rule) bool { return r.Severity == exchange.Stop })

func one(f exchange.Finding) []exchange.Finding { return []exchange.Finding{f} }

func (c *Case) leg() *exchange.Leg { return c.X.Leg() }

// response is the head of the newest response, or nil where none was complete.
func (c *Case) response() *exchange.Head {
	if l := c.leg(); l != nil && l.Response.Complete {
		return &l.Response
	}
	return nil
}

// change is a change of a setting, in the layer where its value stands.
func (c *Case) change(key string, to any) exchange.Change {
	v := c.Settings.Get(key)
	where := "endpoint." + c.X.Endpoint
	p, shared := strings.CutPrefix(v.Source, "profile ")
	if shared {
		where = "profile." + strings.TrimSuffix(p, endpoint.Yours)
	}
	ch := c.changeAt(where, key, to)
	if strings.HasSuffix(p, endpoint.Yours) {
		ch.Where = "user"
	}
	return ch
}

// changeHere is the same change for this endpoint alone.
func (c *Case) changeHere(key string, to any) exchange.Change {
	return c.changeAt("endpoint."+c.X.Endpoint, key, to)
}

func (c *Case) changeAt(where, key string, to any) exchange.Change {
	ch := exchange.Change{Where: "workspace", Key: where + "." + key, To: to}
	v := c.Settings.Get(key)
	switch {
	case key == "token" && v.Key.Check(v.Text) != nil: // people put the password there
		ch.From = "(not shown)"
	case v.IsSet() || v.Text != "":
		ch.From = v.Text
	}
	return ch
}

// remedies offers a change where the values stand, and for this endpoint alone
// where others share them.
func (c *Case) remedies(title string, keys []string, to any) []exchange.Remedy {
	var shared, here []exchange.Change
	profile := ""
	for _, k := range keys {
		ch := c.change(k, to)
		if strings.HasPrefix(ch.Key, "profile.") {
			profile = strings.TrimPrefix(c.Settings.Get(k).Source, "profile ")
		}
		shared, here = append(shared, ch), append(here, c.changeHere(k, to))
	}
	if profile == "" {
		return []exchange.Remedy{exchange.NewRemedy(title, here...)}
	}
	also := ""
	if c.Shares != nil {
		var others []string
		for _, e := range c.Shares(profile) {
			if e != c.X.Endpoint {
				others = append(others, e)
			}
		}
		if len(others) > 0 {
			also = ", for " + strings.Join(others, ", ") + " too"
		}
	}
	return []exchange.Remedy{
		exchange.NewRemedy(fmt.Sprintf("%s, in the profile %s%s", title, profile, also), shared...),
		exchange.NewRemedy(title+", for this endpoint only", here...),
	}
}

// inSettings is evidence that points at a setting.
func (c *Case) inSettings(key string, offset, length int) exchange.Evidence {
	v := c.Settings.Get(key)
	return exchange.Evidence{
		In:      exchange.InSettings,
		Key:     key,
		Offset:  int64(offset),
		Length:  int64(length),
		Line:    1,
		Column:  offset + 1,
		Excerpt: fmt.Sprintf("%s = %s  (%s)", key, v.Text, v.Source),
	}
}

func named(key, excerpt string) exchange.Evidence {
	return exchange.Evidence{
		In:      exchange.InSettings,
		Key:     key,
		Length:  int64(len(excerpt)),
		Line:    1,
		Column:  1,
		Excerpt: excerpt,
	}
}

// inHead is evidence that points at a line of the response head; "" is the
// status line.
func (c *Case) inHead(field string) []exchange.Evidence {
	h := c.response()
	if h == nil {
		return nil
	}
	span, line := exchange.Span{Length: int64(len(h.Line))}, 1
	excerpt := h.Line
	if field != "" {
		f := h.Field(field)
		if f == nil {
			return nil
		}
		span, excerpt = f.Span, f.Name+": "+f.Value
		for i := range h.Fields {
			if &h.Fields[i] == f {
				line = i + 2
			}
		}
	}
	return []exchange.Evidence{
		{
			In:      exchange.InResponseHead,
			Leg:     len(c.X.Legs),
			Offset:  span.Offset,
			Length:  span.Length,
			Line:    line,
			Column:  1,
			Excerpt: cut(excerpt, 200),
		},
	}
}

// inReply is evidence that points into the reply's body.
func (c *Case) inReply(s xmltree.Span) exchange.Evidence {
	e := inDoc(exchange.InResponseBody, len(c.X.Legs), c.ReplyDoc, s)
	if l := c.leg(); c.ReplyAt > 0 && l != nil && int64(c.ReplyAt) <= l.ResponseBody.Len() {
		e.Offset += int64(c.ReplyAt)
		_ = l.ResponseBody.Use(func(all []byte) error {
			line, _ := xmltree.Position(all, c.ReplyAt)
			e.Line += line - 1
			return nil
		})
	}
	return e
}

// inWhole is evidence of what a schema found in a reply of which only the beginning is a document.
func (c *Case) inWhole(e *schema.Error) exchange.Evidence {
	out := exchange.Evidence{In: exchange.InResponseBody, Leg: len(c.X.Legs), Line: e.Line, Column: e.Column,
		Offset: int64(e.Span.Start), Length: int64(e.Span.Len())}
	if l := c.leg(); l != nil {
		text := l.ResponseBody.Range(out.Offset, min(out.Offset+out.Length, out.Offset+1000))
		out.Excerpt = cut(string(bytes.TrimSpace(text)), 200)
	}
	return out
}

// inBody is evidence in the reply's body where no document could be read.
func (c *Case) inBody(offset, length int) exchange.Evidence {
	e := exchange.Evidence{In: exchange.InResponseBody, Leg: len(c.X.Legs), Line: 1, Column: 1}
	l := c.leg()
	if l == nil {
		return e
	}
	_ = l.ResponseBody.Use(func(src []byte) error {
		at := min(max(offset, 0), max(len(src)-1, 0)) // what ended too early ends at its last byte
		end := min(at+max(length, 1), len(src))
		e.Offset, e.Length = int64(at), int64(end-at)
		e.Line, e.Column = xmltree.Position(src, at)
		e.Excerpt = cut(string(src[at:min(at+max(length, 80), len(src))]), 200)
		return nil
	})
	return e
}

func inDoc(in exchange.Part, leg int, d *xmltree.Document, s xmltree.Span) exchange.Evidence {
	e := exchange.Evidence{In: in, Leg: leg}
	if d == nil {
		return e
	}
	s.Start, s.End = min(s.Start, len(d.Src)), min(max(s.End, s.Start), len(d.Src))
	e.Line, e.Column = xmltree.Position(d.Src, s.Start)
	e.Excerpt = cut(string(bytes.TrimSpace(d.Src[s.Start:s.End])), 200)
	e.Offset = int64(d.SourceOffset(s.Start))
	e.Length = int64(d.SourceOffset(s.End)) - e.Offset
	return e
}

// inDraft is evidence that points into the draft; of another program into what it sent.
func (c *Case) inDraft(s xmltree.Span) exchange.Evidence {
	return c.sameAsSent(inDoc(exchange.InDraft, 0, c.Draft.Doc(), s))
}

// inHeader is evidence that points into the draft's header blocks.
func (c *Case) inHeader(s xmltree.Span) exchange.Evidence {
	e := inDoc(exchange.InDraft, 0, c.Header.Doc(), s)
	e.Key = "header"
	return e
}

// inContract is evidence that points at a component of the contract.
func (c *Case) inContract(at schema.Place, excerpt string) exchange.Evidence {
	e := exchange.Evidence{
		In:      exchange.InContract,
		Key:     at.Source,
		Offset:  int64(at.Offset),
		Length:  1,
		Line:    1,
		Column:  1,
		Excerpt: excerpt,
	}
	if c.Contract != nil {
		if src := c.Contract.Text(at.Source); src != nil {
			e.Line, e.Column = xmltree.Position(src, at.Offset)
		}
	}
	return e
}

// Excerpt is a piece of a message in one line.
func Excerpt(b []byte) string { return cut(string(b), 200) }

func cut(s string, most int) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}
