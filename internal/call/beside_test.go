package call

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever a service answers to a GET of its own address, its description is looked for beside it.
func TestTheDescriptionIsLookedForBesideTheService(t *testing.T) {
	wsdl, err := os.ReadFile("../standin/contracts/tides-abstract.wsdl")
	require.NoError(t, err)
	for name, answer := range map[string]func(http.ResponseWriter){
		"nothing": func(http.ResponseWriter) {},
		"nothing, and says so": func(w http.ResponseWriter) {
			w.WriteHeader(http.StatusNoContent)
		},
		"a fault with 200": func(w http.ResponseWriter) {
			_, _ = w.Write([]byte(`<e:Envelope xmlns:e="http://schemas.xmlsoap.org/soap/envelope/"><e:Body/></e:Envelope>`))
		},
		"a word":      func(w http.ResponseWriter) { _, _ = w.Write([]byte("Tide desk: use POST")) },
		"405":         func(w http.ResponseWriter) { w.WriteHeader(http.StatusMethodNotAllowed) },
		"a page only": func(w http.ResponseWriter) { _, _ = w.Write([]byte("<html><body>tides</body></html>")) },
	} {
		t.Run(name, func(t *testing.T) {
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.URL.RawQuery == "wsdl" {
					_, _ = w.Write(wsdl)
					return
				}
				answer(w)
			}))
			defer server.Close()
			f, err := Fetch(context.Background(), server.URL+"/tides", Plan{Agent: "test"}, nil)
			require.NoError(t, err)
			assert.Contains(t, f.Contract.OperationNames(), "YearTable")
		})
	}
}
