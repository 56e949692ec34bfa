package diagnose

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestQuotesOfOthersStayAsTheyAre: what is said in other words of a description is not what somebody else said.
func TestQuotesOfOthersStayAsTheyAre(t *testing.T) {
	for text, want := range map[string]string{
		"":                                 "",
		"plain":                            "PLAIN",
		"it says: “as it is”, and more":    "IT SAYS: “as it is”, AND MORE",
		`it answered "as \"it\" is" to us`: `IT ANSWERED "as \"it\" is" TO US`,
		`open "to the end`:                 `OPEN "to the end`,
		"“one” and “two”":                  "“one” AND “two”",
		`“with " in it” and`:               `“with " in it” AND`,
	} {
		assert.Equal(t, want, outsideQuotes(text, strings.ToUpper))
	}
}
