package diagnose

import (
	"fmt"
	"slices"
	"strings"

	"orenda/internal/exchange"
)

// Survey is a whole workspace as the rules see it that look at no single call.
type Survey struct {
	Endpoints []SurveyEndpoint // all of the workspace
	Variables []SurveyVariable // all of the workspace
	Unread    []string         // what the settings file holds and nobody knows, in words
}

// SurveyEndpoint is one endpoint.
type SurveyEndpoint struct {
	Name, Contract, Port string   // its name; name of the contract; name of its port
	Off                  bool     // it is switched off
	Gone                 string   // why the port cannot be used: the contract has none of that name, "" else
	NotWhole             bool     // the contract could not be read, or not whole: that is why
	Near                 string   // a port that was meant, perhaps
	Values               string   // contract, port and all settings, so that two that are the same can be told
	Unresolved           []string // environments in which the address is no URL, each with the reason
}

// SurveyVariable is one variable.
type SurveyVariable struct {
	Name   string   // its name
	Set    []string // environments that set it
	Unset  []string // environments that do not
	UsedBy []string // endpoints, profiles and drafts, in words
}

// SurveyRule is a row of the catalogue whose cause lies in the workspace as a
// whole.
type SurveyRule struct {
	ID       string                           // stable name: stage.cause
	Severity exchange.Severity                // stop, warn or note
	Stage    exchange.Stage                   // at which it takes effect, or happened
	Find     func(*Survey) []exchange.Finding // gives what it finds, none where it does not hold
}

// SurveyRules are those rows, in order of stages.
//
//nolint:gochecknoglobals // a table: it is never written to
var SurveyRules = []SurveyRule{
	{"address.unresolved-elsewhere", exchange.Warn, exchange.Address, unresolvedElsewhere},
	{"address.variable-unused", exchange.Note, exchange.Address, variableUnused},
	{"binding.port-gone", exchange.Stop, exchange.Binding, portGone},
	{"binding.endpoints-same", exchange.Note, exchange.Binding, endpointsSame},
	{"binding.setting-unknown", exchange.Warn, exchange.Binding, settingUnknown},
}

// Run applies all of them. About names the endpoint that each is about.
func (s *Survey) Run() []exchange.Finding {
	var out []exchange.Finding
	for _, r := range SurveyRules {
		for _, f := range r.Find(s) {
			f.ID, f.Stage, f.Severity, f.Side = r.ID, r.Stage, r.Severity, exchange.Yours
			complete(&f)
			out = append(out, f)
		}
	}
	sorted(out)
	return out
}

func unresolvedElsewhere(s *Survey) (out []exchange.Finding) {
	for _, e := range s.Endpoints {
		if len(e.Unresolved) == 0 || e.Off {
			continue
		}
		out = append(out, exchange.Finding{About: e.Name,
			Title:    fmt.Sprintf("the address of %s is not a URL in every environment", e.Name),
			Why:      strings.Join(e.Unresolved, "; ") + ".",
			Evidence: []exchange.Evidence{named("address", "endpoint."+e.Name+".address")}})
	}
	return out
}

func variableUnused(s *Survey) (out []exchange.Finding) {
	for _, v := range s.Variables {
		if len(v.UsedBy) > 0 {
			continue
		}
		out = append(out, exchange.Finding{About: v.Name,
			Title: fmt.Sprintf("the variable %s is used nowhere", v.Name),
			Why: fmt.Sprintf(
				"It is set in %s, and no setting and no draft holds ${%s}.",
				strings.Join(v.Set, ", "),
				v.Name,
			),
			Evidence: []exchange.Evidence{named("environment", "environment."+v.Set[0]+"."+v.Name)}})
	}
	return out
}

func portGone(s *Survey) (out []exchange.Finding) {
	for _, e := range s.Endpoints {
		if e.Gone == "" || e.Off {
			continue
		}
		f := exchange.Finding{
			About:    e.Name,
			Title:    fmt.Sprintf("the endpoint %s has no port", e.Name),
			Why:      e.Gone + ".",
			Evidence: []exchange.Evidence{named("port", "endpoint."+e.Name+".port = "+e.Port)},
		}
		if e.NotWhole { // whether the port is gone is not known
			f.Title = fmt.Sprintf("the contract of the endpoint %s is not whole", e.Name)
			out = append(out, f)
			continue
		}
		if e.Near != "" {
			f.Remedies = append(
				f.Remedies,
				exchange.NewRemedy(
					"take the port "+e.Near,
					exchange.Change{Where: "workspace", Key: "endpoint." + e.Name + ".port", From: e.Port, To: e.Near},
				),
			)
		}
		f.Remedies = append(
			f.Remedies,
			exchange.NewRemedy(
				"switch the endpoint off",
				exchange.Change{Where: "workspace", Key: "endpoint." + e.Name + ".off", To: true},
			),
		)
		out = append(out, f)
	}
	return out
}

func endpointsSame(s *Survey) (out []exchange.Finding) {
	for i, e := range s.Endpoints {
		j := slices.IndexFunc(s.Endpoints[:i], func(o SurveyEndpoint) bool { return o.Values == e.Values && !o.Off })
		if j < 0 || e.Off || e.Values == "" {
			continue
		}
		out = append(out, exchange.Finding{About: e.Name,
			Title: fmt.Sprintf("the endpoints %s and %s are the same", s.Endpoints[j].Name, e.Name),
			Why:   "They have the same port and the same settings; one of them is enough.",
			Evidence: []exchange.Evidence{
				named("endpoint", "endpoint."+s.Endpoints[j].Name),
				named("endpoint", "endpoint."+e.Name),
			},
			Remedies: []exchange.Remedy{
				exchange.NewRemedy(
					"switch "+e.Name+" off",
					exchange.Change{Where: "workspace", Key: "endpoint." + e.Name + ".off", To: true},
				),
			}})
	}
	return out
}

func settingUnknown(s *Survey) (out []exchange.Finding) {
	for _, u := range s.Unread {
		out = append(
			out,
			exchange.Finding{
				Title:    "the settings file holds something that is not known",
				Why:      u + ". It is kept as it is, and has no effect.",
				Evidence: []exchange.Evidence{named("orenda.toml", u)},
			},
		)
	}
	return out
}
