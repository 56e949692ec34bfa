package diagnose

import (
	"errors"
	"fmt"

	"orenda/internal/endpoint"
	"orenda/internal/xmltree"
)

// readerRefusals tells which of the reader's limits a body goes beyond: the
// first that a reader would meet.
func readerRefusals(body []byte, s *endpoint.Settings) []Refusal {
	if len(body) == 0 {
		return nil
	}
	limits := xmltree.Limits{}
	limits.Depth, _ = s.Count("depth-limit")
	limits.Repeats, _ = s.Count("repeat-limit")
	limits.Names, _ = s.Count("name-limit")
	text, _ := s.Size("text-limit")
	limits.Text = int(text)
	_, err := xmltree.ParseEncoded(body, "", limits)
	e, ok := errors.AsType[*xmltree.SyntaxError](err)
	if !ok {
		return nil
	}
	key, limit := "", int64(0)
	switch e.Code {
	case xmltree.DepthLimit:
		key, limit = "depth-limit", int64(limits.Depth)
	case xmltree.TextLimit:
		key, limit = "text-limit", int64(limits.Text)
	case xmltree.RepeatLimit:
		key, limit = "repeat-limit", int64(limits.Repeats)
	case xmltree.NameLimit:
		key, limit = "name-limit", int64(limits.Names)
	default:
		return nil
	}
	return []Refusal{
		{
			key,
			limit,
			limit + 1,
			int64(e.Offset),
			fmt.Sprintf("its %s falls at line %d: %s", endpoint.KeyOf(key).Label(), e.Line, e.Msg),
		},
	}
}
