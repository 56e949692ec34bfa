package workspace

import (
	"fmt"
	"strings"

	"orenda/internal/endpoint"
	"orenda/internal/exchange"
)

// OutdatedError is a repair that was planned for other settings than hold now.
type OutdatedError struct {
	Change exchange.Change // that does not fit
	Now    string          // what is set now, "" nothing
	Done   bool            // it is set so already
}

func (e *OutdatedError) Error() string {
	now := e.Now
	if now == "" {
		now = "not set"
	}
	key := e.Change.Key[strings.LastIndexByte(e.Change.Key, '.')+1:]
	if e.Done {
		return fmt.Sprintf("%s is %s already", key, now)
	}
	return fmt.Sprintf(
		"%s is %s now, and was %s when this repair was planned; send again for one that fits",
		key,
		now,
		e.Change.Was(),
	)
}

// Fits tells whether a repair of an exchange fits what is set now: whether each value
// that it changes still is what it was when the repair was planned. The error is an
// *OutdatedError.
func (w *Workspace) Fits(x *exchange.Exchange, r *exchange.Remedy) error {
	cfg := w.Config()
	for _, c := range r.All() {
		if err := w.fits(cfg, x, c); err != nil {
			return err
		}
	}
	return nil
}

func (w *Workspace) fits(cfg *Config, x *exchange.Exchange, c exchange.Change) error {
	if c.Where == "draft" {
		return nil
	}
	parts := strings.SplitN(c.Key, ".", 3)
	switch {
	case len(parts) == 3 && (parts[0] == "endpoint" || parts[0] == "profile"):
		return w.fitsSetting(cfg, x, c, parts[0], parts[1], parts[2])
	case len(parts) == 3 && parts[0] == "environment":
		vars, _ := cfg.Variables(parts[1])
		return compareTo(c, vars[parts[2]])
	case len(parts) == 2 && parts[0] == "allow" && w.Home != nil && w.Home.Allowed(w.ID(), parts[1], fmt.Sprint(c.To)):
		return &OutdatedError{Change: c, Now: "allowed", Done: true}
	case c.Key == "default-environment":
		return compareTo(c, cfg.Environment)
	}
	return nil
}

// fitsSetting compares a setting of an endpoint, or of the profile that its value
// came from.
func (w *Workspace) fitsSetting(cfg *Config, x *exchange.Exchange, c exchange.Change, kind, name, key string) error {
	end := cfg.Endpoint(name)
	if kind == "profile" {
		end = cfg.Endpoint(x.Endpoint)
	}
	switch {
	case end == nil && (key == "contract" || key == "port"): // they make it
		return nil
	case end == nil:
		return &OutdatedError{Change: c, Now: "gone with its endpoint"}
	case key == "default":
		return compareTo(c, truth(end.Default))
	case key == "off":
		return compareTo(c, truth(end.Off))
	case key == "profile":
		return compareTo(c, end.Profile)
	case endpoint.KeyOf(key) == nil:
		return nil
	}
	set := w.settingsOf(cfg, end.Name)
	v := set.Get(key)
	if kind == "profile" && !strings.HasPrefix(v.Source, "profile "+name) {
		return &OutdatedError{Change: c, Now: v.Text}
	}
	if key == "token" && v.Key.Check(v.Text) != nil { // people put the password there: it is compared with nothing
		return nil
	}
	err := compareTo(c, v.Text)
	if err == nil || !strings.Contains(v.Text, "$") {
		return err
	}
	vars, _ := cfg.Variables(x.Environment)
	if plain, eerr := endpoint.Expand(v.Text, x.Environment, vars); eerr == nil {
		return compareTo(c, plain)
	}
	return err
}

func truth(b bool) string {
	if b {
		return "true"
	}
	return ""
}

// compareTo holds what a change was planned for against what is set now.
func compareTo(c exchange.Change, now string) error {
	was := exchange.TextOf(c.From)
	if was == "false" {
		was = ""
	}
	if was == now {
		return nil
	}
	return &OutdatedError{Change: c, Now: now, Done: now != "" && exchange.TextOf(c.To) == now}
}
