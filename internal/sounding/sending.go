package sounding

import "context"

// bySending sounds in which ways a message may be sent.
const bySending = "sending"

// Whole tells whether a way sounds the call as it is, and no field of it.
func Whole(by string) bool { return by == byTime || by == bySending }

// Name says what is sounded: the field, or what of the whole call.
func (o *Options) Name() string { return named(o.Field, o.By) }

// Name says what was sounded.
func (r *Result) Name() string { return named(r.Field, r.By) }

func named(field, by string) string {
	switch by {
	case byTime:
		return "the answer"
	case bySending:
		return "the message"
	}
	return field
}

// sendings are the ways to send the same message, the plain one first: old servers take fewer of them.
//
//nolint:gochecknoglobals // a table: it is never written to
var sendings = []Variant{
	{Label: "with its length", Set: [][2]string{{"transfer", "length"}, {"expect-continue", "false"},
		{"request-coding", "none"}}},
	{Label: "in chunks", Set: [][2]string{{"transfer", "chunked"}, {"expect-continue", "false"},
		{"request-coding", "none"}}},
	{Label: "in chunks, with a trailer", Set: [][2]string{{"transfer", "chunked"}, {"trailer", "Checked: yes"},
		{"expect-continue", "false"}, {"request-coding", "none"}}},
	{Label: "after leave to (Expect)", Set: [][2]string{{"transfer", "length"}, {"expect-continue", "true"},
		{"request-coding", "none"}}},
	{Label: "compressed (gzip)", Set: [][2]string{{"transfer", "length"}, {"expect-continue", "false"},
		{"request-coding", "gzip"}}},
}

// sendings sends the same message in each way.
func (s *sounder) sendings(ctx context.Context) error {
	for i, v := range sendings {
		a, err := s.try(ctx, v)
		if err != nil {
			return err
		}
		if i == 0 && !a.Accepted {
			s.refused(a)
			return nil
		}
		s.r.Characters = append(s.r.Characters, Character{Of: v.Label, Taken: a.Accepted, Says: a.Says})
	}
	return nil
}
