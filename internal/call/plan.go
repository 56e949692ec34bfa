// Package call runs one call down the path. It is the only place that knows
// the order of the stages.
package call

import (
	"bytes"
	"crypto/tls"
	"net"

	"orenda/internal/contract"
	"orenda/internal/diagnose"
	"orenda/internal/endpoint"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/message"
	"orenda/internal/schema"
	"orenda/internal/wire"
	"orenda/internal/xmltree"
)

// Plan is all that a call needs to know before it begins.
type Plan struct {
	Workspace    string             // folder, or ""
	Contract     *contract.Contract // nil where none is known
	ContractName string             // in the workspace
	Served       string             // host and port that served the contract
	Operation    string             // its name
	Port         *contract.Port     // nil where it could not be settled

	Endpoint    string            // its name, "" where none could be settled
	Settings    endpoint.Settings // in layers, the weakest first
	NoEndpoint  error             // why no endpoint could be settled; stops the call at binding
	Environment string            // its name, "" none
	EnvError    error             // the environment does not exist
	Variables   map[string]string // by name
	// Withheld are variables that the process environment would give a value, and
	// that were not allowed.
	Withheld map[string]string
	Secrets  []string // values that are secret: variables that the process environment gave

	DraftName string         // "" none
	Draft     *message.Draft // only read; SetDraft makes it
	Header    *message.Draft // its header blocks; SetHeader makes it
	Expand    bool           // variables stand in the values of both

	Identity func(name string) (*identity.Identity, error) // gives an identity by its name
	Allowed  func(id, scheme, host, port string) bool      // nil: every host is
	// ProxyOK tells whether a proxy that the workspace names may be used; nil: every one.
	ProxyOK    func(proxy string) bool
	Identities []diagnose.Identity               // that remedies may offer
	ReadFile   func(path string) ([]byte, error) // files that settings name
	Shares     func(profile string) []string     // endpoints that use a profile
	History    diagnose.History                  // what the journal knows; nil nothing
	// Known are addresses of the workspace's endpoints, in all environments; nil: none.
	Known    func() []string
	SetAside map[string]string // findings that were set aside for the endpoint: reasons, by id

	// Candidates are those with a client certificate; one that fits, and that may go
	// there, is sent where it is asked for.
	Candidates func() []*identity.Identity
	SkipVerify bool                   // whatever certificate is shown; for this call, never kept
	KeyLogOK   func(path string) bool // whether keys may be written to a file; nil: to every one
	// AsItIs sends the message also where values are not filled in, or where it breaks
	// its schema; for this call, never kept.
	AsItIs bool

	// Listening is what a listener for an answer over TLS shows, for a host, and the file that whoever
	// calls it has to trust; nil: nothing is listened for over TLS.
	Listening func(host string) (c tls.Certificate, file string, err error)

	Sessions *Sessions                // what log-ins gave; nil: each call logs in
	Keep     func(*exchange.Exchange) // told of log-ins, which are exchanges of their own; may be nil

	Changes     []exchange.Change // since the attempt before
	Peek        bool              // only look: no secret is read, and none is needed
	AddSecurity bool              // of a request of another program: it gets the endpoint's security on its way
	Until       exchange.Stage    // go no further; None: to the end
	Pool        *wire.Pool        // kept connections; nil: a fresh one each time
	Resolver    *net.Resolver     // nil: the system's
	Agent       string            // User-Agent

	Also []string // hosts besides its own from which parts of a description are fetched

	fetch    *fetching // set where a description is fetched
	imported *Imported // set where the exchange was made elsewhere
	probing  bool      // it only looks, for another call

	kept *exchange.Exchange // set where a kept exchange is judged again
}

// SetDraft gives the plan its draft: a body element, or a whole envelope. It is
// parsed here and only read from then on, so one plan may be sent many times.
// Contract, port and operation must be set before.
func (p *Plan) SetDraft(src []byte) { p.setDraft(src, nil) }

// setDraft is SetDraft for bytes that may have been parsed already (message.Limits).
func (p *Plan) setDraft(src []byte, doc *xmltree.Document) {
	set, decl := schema.New(nil), (*schema.Element)(nil)
	if p.Contract != nil {
		set = p.Contract.Schemas
	}
	if p.Port != nil {
		if o := p.Port.Operation(p.Operation); o != nil && o.Input != nil {
			decl = o.Input.Element
		}
	}
	if d := p.Draft; d == nil || d.Decl != decl || d.Schemas != set || !bytes.Equal(d.Bytes(), src) {
		p.Draft = message.NewDraftOf(set, decl, src, doc)
	}
}

// SetHeader gives the plan the header blocks of its draft (message.NewHeader),
// under the same conditions as SetDraft. A draft that is a whole envelope has
// its own.
func (p *Plan) SetHeader(src []byte) {
	set, declared := schema.New(nil), []*schema.Element(nil)
	if p.Contract != nil {
		set = p.Contract.Schemas
	}
	if p.Port != nil {
		if o := p.Port.Operation(p.Operation); o != nil {
			declared = o.Headers
		}
	}
	p.Header = nil
	if len(src) > 0 || len(declared) > 0 {
		p.Header = message.NewHeader(set, declared, src)
	}
}

// fetching makes a call a fetch of a description.
type fetching struct {
	// read takes what came and says why it is no description, if it is none.
	read func(body []byte, location string) error

	post    []byte   // in the place of a GET: a log-in is sent
	secrets []string // that stand in it
}

// Agent is the User-Agent that Orenda sends.
const Agent = "Orenda"
