package exchange

import "slices"

// Clone is a deep copy: whatever the call still does, the copy stays as it is.
// Bytes that crossed the wire are shared, as they are only ever appended to.
func (x *Exchange) Clone() *Exchange {
	c := *x
	c.Stages = slices.Clone(x.Stages)
	for i := range c.Stages {
		c.Stages[i].Facts = slices.Clone(c.Stages[i].Facts)
	}
	c.Settings = slices.Clip(x.Settings) // they are replaced as a whole, and never written to
	c.Findings = slices.Clone(x.Findings)
	for i := range c.Findings {
		c.Findings[i] = c.Findings[i].clone()
	}
	c.Memory = x.Memory.clone()
	// Moments are appended to, and the newest may grow: it is copied.
	c.Moments = slices.Clone(x.Moments)
	c.Changes = slices.Clone(x.Changes)
	c.Inputs = slices.Clone(x.Inputs)
	c.Secrets = slices.Clone(x.Secrets)
	c.Legs = make([]*Leg, len(x.Legs))
	for i, l := range x.Legs {
		c.Legs[i] = l.clone()
	}
	return &c
}

func (l *Leg) clone() *Leg {
	c := *l
	c.Conn = l.Conn.clone()
	c.Request.Fields = slices.Clone(l.Request.Fields)
	c.Response.Fields = slices.Clone(l.Response.Fields)
	c.Out = slices.Clip(l.Out)
	c.RequestBody = slices.Clip(l.RequestBody)
	c.Decrypted = slices.Clip(l.Decrypted)
	c.SecretSpans = slices.Clone(l.SecretSpans)
	c.BodySecrets = slices.Clone(l.BodySecrets)
	c.Cuts = slices.Clone(l.Cuts)
	c.Parts = slices.Clone(l.Parts)
	c.ChunkEnds = slices.Clone(l.ChunkEnds)
	c.Apart = slices.Clone(l.Apart)
	c.spill = Spill{}
	return &c
}

func (c *Connection) clone() Connection {
	n := *c
	n.Resolved = slices.Clone(c.Resolved)
	n.Tried = slices.Clone(c.Tried)
	n.TLS = c.TLS.Clone()
	return n
}

// Clone is a deep copy; of nil, nil.
func (t *TLSInfo) Clone() *TLSInfo {
	if t == nil {
		return nil
	}
	c := *t
	c.Chain, c.Completed = slices.Clone(t.Chain), slices.Clone(t.Completed)
	c.Issuers = slices.Clone(t.Issuers)
	c.HelloIn = slices.Clip(t.HelloIn)
	return &c
}

func (f *Finding) clone() Finding {
	c := *f
	c.Evidence = slices.Clone(f.Evidence)
	c.Hypotheses = slices.Clone(f.Hypotheses)
	c.Remedies = slices.Clone(f.Remedies)
	for i := range c.Remedies {
		r := &c.Remedies[i]
		r.Changes = slices.Clone(r.Changes)
		if r.Change != nil {
			one := *r.Change
			r.Change = &one
		}
	}
	return c
}

// Close gives up the bytes of the record that lie in a storage. Those who read
// them now are waited for by the storage; those who come later find nothing.
// The record's owner calls it, once nobody is to see the bytes any more.
func (x *Exchange) Close() {
	for _, l := range x.Legs {
		for _, b := range []Body{l.In, l.ResponseBody} {
			if b.disk != nil {
				b.disk.close()
			}
		}
	}
}

// Beginning lets only the beginning of a reply that lies in a storage stay, in
// memory: MaxKept bytes of it.
func (l *Leg) Beginning() {
	if l.In.Stored() {
		l.Whole = l.In.Len()
		l.In = NewBody(slices.Clone(l.In.Range(0, MaxKept)))
	}
	if l.ResponseBody.Stored() {
		l.Whole = max(l.Whole, l.In.Len())
		l.ResponseBody = NewBody(slices.Clone(l.ResponseBody.Range(0, MaxKept)))
	}
}

// WithoutBytes is a copy without what crossed the wire, for lists.
func (x *Exchange) WithoutBytes() *Exchange {
	light := *x
	light.Moments, light.Legs = nil, make([]*Leg, len(x.Legs))
	for i, l := range x.Legs {
		one := *l
		one.Out, one.RequestBody, one.Decrypted = nil, nil, nil
		one.In, one.ResponseBody = Body{}, Body{}
		light.Legs[i] = &one
	}
	return light.Clone()
}

// WithBodies is a copy with no more than so many bytes of each body; heads stay whole.
func (x *Exchange) WithBodies(most int64) *Exchange {
	c := x.Clone()
	for _, l := range c.Legs {
		l.Out = l.Out[:min(int64(len(l.Out)), l.Request.Size+most)]
		l.RequestBody = l.RequestBody[:min(int64(len(l.RequestBody)), most)]
		l.Decrypted = l.Decrypted[:min(int64(len(l.Decrypted)), most)]
		if whole := l.In.Len(); whole > l.BodyAt()+most {
			l.Whole = max(l.Whole, whole)
			l.In = NewBody(slices.Clone(l.In.Range(0, l.BodyAt()+most)))
		}
		if l.ResponseBody.Len() > most {
			l.ResponseBody = NewBody(slices.Clone(l.ResponseBody.Range(0, most)))
		}
		l.bodyAt = -1
		inside := func(s Span) bool { return s.Offset+s.Length > most }
		l.BodySecrets = slices.DeleteFunc(l.BodySecrets, inside)
	}
	return c
}
