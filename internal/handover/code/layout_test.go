package code

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// Each row is a line that is too long for forty columns, as the formatter of its language breaks it.
func TestLinesThatAreTooLong(t *testing.T) {
	black := &layout{width: 40, indent: "    ", inner: true, quotes: "\"'", remark: "#"}
	prettier := &layout{width: 40, indent: "  ", last: true, quotes: "\"'`", remark: "//"}
	java := &layout{width: 40, indent: "    ", inner: true, hangs: true, quotes: "\"'", remark: "//"}
	for _, row := range []struct {
		by       *layout
		from, to string
	}{
		{black, "short(a)", "short(a)"},
		{black, "reply = self._call(\"urn:of:a:berth\", body, faults)",
			"reply = self._call(\n    \"urn:of:a:berth\", body, faults\n)"},
		{black, "reply = self._call(\"urn:of:a:berth:desk:far\", body, many)",
			"reply = self._call(\n    \"urn:of:a:berth:desk:far\",\n    body,\n    many,\n)"},
		{black, "    def find(self, request: FindBerths) -> Found:",
			"    def find(\n        self, request: FindBerths\n    ) -> Found:"},
		{black, "table = {\"a, (b\": (first, second), \"c\": third}",
			"table = {\n    \"a, (b\": (first, second),\n    \"c\": third,\n}"},
		{black, "# a remark (that is longer, than a line is)", "# a remark (that is longer, than a line is)"},
		{prettier, "  await this.#call(action, body, { first, second });",
			"  await this.#call(action, body, {\n    first,\n    second,\n  });"},
		{prettier, "  return structure(tag, {}, element(\"length\"));",
			"  return structure(\n    tag,\n    {},\n    element(\"length\"),\n  );"},
		{java, "  record Assess(String currency, Vessel vessel) {",
			"  record Assess(\n      String currency, Vessel vessel) {"},
		{java, "  return new Assess(read(n, \"currency\"), read(n, \"vessel\"));",
			"  return new Assess(\n      read(n, \"currency\"),\n      read(n, \"vessel\"));"},
		{java, "  \"a text that holds nothing to break at all\"", "  \"a text that holds nothing to break at all\""},
	} {
		assert.Equal(t, row.to, row.by.fit(row.from))
		assert.Equal(t, row.to, row.by.fit(row.to), "it stays as it is")
	}
}
