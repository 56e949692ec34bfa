package wire

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNamesInAHostsFile(t *testing.T) {
	const file = "# of the quay\n127.0.0.1 localhost\n\n10.1.2.3\tquay.skerry.test  Desk # the desk\n::1 ip6 # 10.0.0.9 tides\n10.9"
	for host, want := range map[string]string{
		"quay.skerry.test": "10.1.2.3", "QUAY.skerry.test.": "10.1.2.3", "desk": "10.1.2.3", "localhost": "127.0.0.1",
		"tides": "", "10.1.2.3": "", "quay": "", "": "",
	} {
		assert.Equal(t, want, inHosts(strings.NewReader(file), host), host)
	}
}
