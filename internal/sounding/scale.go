package sounding

import (
	"errors"
	"fmt"
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"

	"orenda/internal/exchange"
)

// scale is what is sounded: whole steps, and the value of each.
type scale struct {
	base, from, to int64
	make           func(n int64) Variant
	text           func(n int64) string
	unit           string
}

// variant is how the field is sent for a step of the scale.
func (sc *scale) variant(n int64) Variant {
	v := sc.make(n)
	v.At, v.Label = n, sc.text(n)
	return v
}

// scale is what is counted, and how a value of it is made.
func (s *sounder) scale() (*scale, error) {
	o := s.o
	sc := &scale{text: func(n int64) string { return strconv.FormatInt(n, 10) }}
	switch o.By {
	case "length", "size":
		text := []rune(o.Base)
		if len(text) == 0 {
			return nil, errors.New("the field is empty: give it a value that is accepted first")
		}
		sc.base, sc.to, sc.unit = int64(len(text)), int64(max(4*len(text), 64)), "characters"
		if o.By == "size" {
			sc.from, sc.to = sc.base, 1<<20
		}
		sc.make = func(n int64) Variant { return Variant{Text: stretched(text, int(n))} }
	case byTime:
		return timeScale(o)
	case "count":
		sc.base, sc.to, sc.unit = 1, 100, "repeats"
		sc.make = func(n int64) Variant { return Variant{Count: int(n), Text: o.Base, Absent: n == 0} }
	case "date":
		day, err := time.Parse("2006-01-02", o.Base)
		if err != nil {
			return nil, fmt.Errorf("%q is no date", o.Base)
		}
		const years = 10 * 366
		sc.from, sc.to, sc.unit = -years, years, ""
		sc.text = func(n int64) string { return day.AddDate(0, 0, int(n)).Format("2006-01-02") }
		sc.make = func(n int64) Variant { return Variant{Text: sc.text(n)} }
		return sc, sc.ends(o, func(text string) (int64, error) {
			at, err := time.Parse("2006-01-02", text)
			return int64(at.Sub(day).Hours() / 24), err
		})
	case "value":
		return valueScale(o)
	default:
		return nil, fmt.Errorf("%q is no way to sound: by %s", o.By, strings.Join(Ways, ", "))
	}
	return sc, sc.ends(o, func(text string) (int64, error) { return strconv.ParseInt(text, 10, 64) })
}

// ends are those that a person names.
func (sc *scale) ends(o Options, read func(string) (int64, error)) (err error) {
	if o.From != "" {
		if sc.from, err = read(o.From); err != nil {
			return fmt.Errorf("--from %s: %w", o.From, err)
		}
	}
	if o.To != "" {
		if sc.to, err = read(o.To); err != nil {
			return fmt.Errorf("--to %s: %w", o.To, err)
		}
	}
	if sc.from > sc.base || sc.to < sc.base {
		return fmt.Errorf(
			"the draft's own value lies outside: %s is not between %s and %s",
			sc.text(sc.base),
			sc.text(sc.from),
			sc.text(sc.to),
		)
	}
	return nil
}

// valueScale counts a number in steps of its last digit.
func valueScale(o Options) (*scale, error) {
	_, fraction, _ := strings.Cut(o.Base, ".")
	digits := min(len(fraction), 6)
	unit := int64(1)
	for range digits {
		unit *= 10
	}
	read := func(text string) (int64, error) {
		v, ok := new(big.Rat).SetString(text)
		if !ok {
			return 0, fmt.Errorf("%q is no number", text)
		}
		v.Mul(v, new(big.Rat).SetInt64(unit))
		f, _ := v.Float64()
		return int64(f), nil
	}
	base, err := read(o.Base)
	if err != nil {
		return nil, err
	}
	sc := &scale{base: base, from: min(0, base), to: max(1000*unit, 100*base)}
	sc.text = func(n int64) string { return big.NewRat(n, unit).FloatString(digits) }
	sc.make = func(n int64) Variant { return Variant{Text: sc.text(n)} }
	return sc, sc.ends(o, read)
}

// byTime sounds how long the answer must be waited for.
const byTime = "time"

// timeSteps are the steps of a doubled time: each is some 9 per cent longer.
const timeSteps = 8

// timeScale counts times in steps that grow: from a millisecond to what is set now.
func timeScale(o Options) (*scale, error) {
	at := func(n int64) time.Duration {
		d := time.Duration(float64(time.Millisecond) * math.Exp2(float64(n)/timeSteps))
		return min(d.Round(100*time.Microsecond), o.Limit)
	}
	step := func(d time.Duration) int64 {
		return int64(math.Ceil(timeSteps * math.Log2(float64(d)/float64(time.Millisecond))))
	}
	if o.Limit <= time.Millisecond {
		return nil, errors.New("no time is set that an answer may take: set answer-time first")
	}
	sc := &scale{from: 0, base: step(o.Limit), to: step(o.Limit)}
	sc.text = func(n int64) string { return exchange.Took(int64(at(n))) }
	sc.make = func(n int64) Variant { return Variant{Limit: at(n), Text: o.Base} }
	return sc, sc.ends(o, func(text string) (int64, error) {
		d, err := time.ParseDuration(text)
		if err == nil && (d < time.Millisecond || d > o.Limit) {
			err = fmt.Errorf("it must be between 1ms and %s", o.Limit)
		}
		if err != nil {
			return 0, err
		}
		return step(d), nil
	})
}

// stretched is a text of n characters: the beginning of another, or that one repeated.
func stretched(text []rune, n int) string {
	out := make([]rune, 0, n)
	for len(out) < n {
		out = append(out, text[:min(len(text), n-len(out))]...)
	}
	return string(out)
}
