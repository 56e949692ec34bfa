package sounding

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"orenda/internal/call"
	"orenda/internal/compare"
	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/learned"
	"orenda/internal/message"
	"orenda/internal/soap"
	"orenda/internal/xmltree"
)

// Ways are the ways to sound a field.
//
//nolint:gochecknoglobals // a table: it is never written to
var Ways = []string{"length", "value", "count", "date", "size", "characters", "enumeration", "optional",
	"answers", byTime, bySending}

// WayFor is the way that fits a field best.
func WayFor(it *message.Item) string {
	kind := strings.ToLower(it.Type)
	has := func(words ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(kind, w) })
	}
	switch {
	case len(it.Enum) > 0:
		return "enumeration"
	case has("datetime", "duration", "time"):
		return "characters"
	case has("date"):
		return "date"
	case has("int", "decimal", "long", "short", "byte", "double", "float"):
		return "value"
	}
	return "length"
}

// Over makes the Send that calls as a plan says, with other values of one field. accepted is
// what an answer must be (an expectation), "": the call passes. keep is told of each exchange. What the schema
// forbids is sent too.
func Over(plan call.Plan, field string, accepted string, keep func(*exchange.Exchange)) Send {
	sessions := &call.Sessions{}
	if plan.Sessions != nil {
		sessions = plan.Sessions
	}
	return func(ctx context.Context, v Variant) (Answer, error) {
		one := plan
		d, err := varied(plan.Draft, field, v)
		if err != nil {
			return Answer{}, err
		}
		one.Draft, one.Sessions, one.AsItIs = d, sessions, true
		if v.Limit > 0 {
			one.Settings.Set("answer-time", v.Limit.String())
		}
		for _, s := range v.Set {
			one.Settings.Set(s[0], s[1])
		}
		if accepted != "" {
			one.Settings.Set("expect", accepted)
		}
		x := call.New(one, nil).Run(ctx)
		if ctx.Err() != nil {
			return Answer{}, ctx.Err()
		}
		keep(x)
		return answerOf(x), nil
	}
}

// OptionsFor are the options for a field of a draft, by a way; what is not set has its usual value.
func OptionsFor(d *message.Draft, field, by string) (Options, error) {
	it, ok := d.Find(field)
	if !ok && !Whole(by) {
		return Options{}, fmt.Errorf("the message has no field %s; it has %s", field, strings.Join(d.Paths(), ", "))
	}
	o := Options{
		Field: field, By: by, Base: it.Value, Budget: 40, Pause: 100 * time.Millisecond, Schema: it.Type,
		Values: it.Enum,
	}
	for _, other := range d.Items() {
		if other.Present && !other.Required && other.Kind == message.Leaf {
			o.Optional = append(o.Optional, other.Path)
		}
	}
	return o, nil
}

// LimitOf is how long an answer may take by the settings of a plan; 0: it is not limited.
func LimitOf(plan *call.Plan) time.Duration {
	d, err := plan.Settings.Duration("answer-time")
	if err != nil {
		return 0
	}
	return d
}

// varied is a draft with another value of one field.
func varied(d *message.Draft, path string, v Variant) (*message.Draft, error) {
	out := message.NewDraft(d.Schemas, d.Decl, d.Bytes())
	if v.Without != "" {
		path = v.Without
	}
	if v.Limit > 0 || v.Set != nil {
		return out, nil
	}
	it, ok := out.Find(path)
	if !ok {
		return nil, fmt.Errorf("the message has no field %s", path)
	}
	switch {
	case v.Without != "", v.Absent:
		out.LeaveOut(it)
		return out, nil
	case v.Nil:
		return out, out.SetNil(it)
	case v.Count > 0:
		span := it.Node.Span()
		one := string(out.Bytes()[span.Start:span.End])
		src := string(out.Bytes()[:span.Start]) + strings.Repeat(one, v.Count) + string(out.Bytes()[span.End:])
		return message.NewDraft(d.Schemas, d.Decl, []byte(src)), nil
	}
	return out, out.SetValue(it, v.Text)
}

// answerOf is what became of a call.
func answerOf(x *exchange.Exchange) Answer {
	a := Answer{
		Accepted: x.Outcome == exchange.OutcomePassed, Exchange: x.ID, Took: time.Duration(x.TotalNs),
		Call: x,
	}
	status := 0
	if l := x.Leg(); l != nil {
		status = l.Response.Status
	}
	a.Says = learned.Says(x)
	a.Locked = LockedOut(status, a.Says)
	if l := x.Leg(); a.Accepted && l != nil {
		if d, err := xmltree.ParseEncoded(l.Readable(), "", xmltree.Limits{}); err == nil {
			if e := soap.Read(d); e != nil {
				a.Answers = message.Repeats(e.Payload)
			}
		}
	}
	return a
}

// sameReply tells whether two calls were answered the same, but for what is set aside.
func sameReply(a, b *exchange.Exchange) bool {
	return !slices.ContainsFunc(compare.Sides(compare.Exchange(a), compare.Exchange(b), false).Differences,
		func(d compare.Difference) bool {
			return d.Where == exchange.InResponseBody || d.Kind == compare.Reach || d.Kind == compare.Status
		})
}

// Drawing draws what was found; of is the draft and the endpoint.
func (r *Result) Drawing(of string) *draw.Drawing {
	var all []draw.Tried
	for _, s := range r.Ordered() {
		one := draw.Tried{Name: s.Value, Sent: true, Passed: s.Accepted, Says: s.Says}
		if s.Accepted {
			one.Says = "accepted"
		}
		all = append(all, one)
	}
	return draw.Sounding(of+", "+r.Name()+" by "+r.By, r.Sentence, all)
}
