package app

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"orenda/internal/app/state"
	"orenda/internal/exchange"
	"orenda/internal/pac"
)

// readPAC asks for a proxy auto-configuration file, tells which rule of it chooses what for the chosen
// endpoint, and sets that if the person wants it. Nothing of the file is run.
func (m *model) readPAC() tea.Cmd {
	end := m.s.Chosen.Endpoint
	if end == "" {
		m.s.Say("choose an endpoint first")
		return nil
	}
	return state.AskOn("proxy file (PAC)", "", false, func(name string) tea.Cmd {
		r, address, err := m.pacOf(name, end)
		if err != nil {
			m.s.Say("%v", err)
			return nil
		}
		options := []string{"leave the proxy as it is"}
		if proxy := r.Proxy(); proxy != "" {
			options = append([]string{"set proxy to " + proxy}, options...)
		}
		for _, rule := range r.Rules {
			if rule.Holds == pac.Unknown {
				why := fmt.Sprintf("leave it: line %d could not be decided, %s", rule.Line, rule.Why)
				options = append(options, why)
			}
		}
		return func() tea.Msg {
			return state.Pick{Prompt: r.Says(address), Options: options, Take: func(i int) tea.Cmd {
				if proxy := r.Proxy(); i == 0 && proxy != "" {
					err := m.s.Change(exchange.Change{Where: "workspace", Key: "endpoint." + end + ".proxy", To: proxy})
					if err != nil {
						m.s.Say("%v", err)
					}
				}
				return nil
			}}
		}
	})
}

// pacOf reads a proxy file for the address of an endpoint.
func (m *model) pacOf(name, end string) (r *pac.Reading, address string, err error) {
	if address, err = m.s.W.Resolved(end, m.s.Environment); err != nil {
		return nil, "", err
	}
	r, err = pac.ReadFile(name, address)
	return r, address, err
}
