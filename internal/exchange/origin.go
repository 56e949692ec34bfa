package exchange

// Origin is who kept an exchange in a journal that several share.
type Origin struct {
	Person  string `json:"person,omitempty"`  // name of the user of the machine
	Machine string `json:"machine,omitempty"` // its host name
	Relay   string `json:"relay,omitempty"`   // name of the relay that it went through, "" none
}

// String is RELAY@MACHINE, or PERSON@MACHINE.
func (o *Origin) String() string {
	if o == nil {
		return ""
	}
	who := o.Relay
	if who == "" {
		who = o.Person
	}
	if o.Machine != "" {
		who += "@" + o.Machine
	}
	return who
}
