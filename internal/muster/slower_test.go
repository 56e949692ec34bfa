package muster

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// What took longer by more than chance is told, and noise is not.
func TestSlowerIsToldByATest(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	run := func(factor float64, count int) (*Run, *Last) {
		now, last := &Run{}, &Last{names: map[string]int32{}}
		for i := range count {
			name := fmt.Sprint("case ", i)
			took := func() float64 { return 1e6 * (1 + r.ExpFloat64()) }
			last.add(Result{Name: name, Operation: "LookUp", Exchange: fmt.Sprint("a", i), TotalNs: int64(took())})
			now.Cases.Add(Result{
				Name: name, Operation: "LookUp", Exchange: fmt.Sprint("b", i), TotalNs: int64(took() * factor),
			})
		}
		return now, last
	}
	false1 := 0
	for range 200 {
		now, last := run(1, 40)
		false1 += len(now.SlowerThan(last))
	}
	assert.LessOrEqual(t, false1, 6, "of 200 runs that are the same, about two may look slower")
	found := 0
	for range 50 {
		now, last := run(2, 40)
		found += len(now.SlowerThan(last))
	}
	assert.GreaterOrEqual(t, found, 48)
	now, last := run(5, 5)
	assert.Empty(t, now.SlowerThan(last), "five calls are too few to tell")
	now, last = run(1.05, 5000)
	assert.Empty(t, now.SlowerThan(last), "a little slower is not worth a word")
}
