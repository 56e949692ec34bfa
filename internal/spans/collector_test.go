package spans

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	collectorpb "go.opentelemetry.io/proto/otlp/collector/trace/v1"
	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/proto"
)

// Spans are sent as the protocol has them, and what the collector does not take is told.
func TestSpansAreSentToACollector(t *testing.T) {
	answer := func(w http.ResponseWriter) {}
	var got *http.Request
	var said collectorpb.ExportTraceServiceRequest
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = r
		b, err := io.ReadAll(r.Body)
		assert.NoError(t, err)
		assert.NoError(t, proto.Unmarshal(b, &said))
		answer(w)
	}))
	defer s.Close()
	t.Setenv("OTEL_EXPORTER_OTLP_HEADERS", "x-quay=north%20one, Authorization=Bearer slack")
	c := newCollector(s.URL + "/v1/traces")
	spans := []*tracepb.ResourceSpans{{SchemaUrl: "urn:skerry"}}
	require.NoError(t, c.UploadTraces(t.Context(), spans))
	assert.Equal(t, "application/x-protobuf", got.Header.Get("Content-Type"))
	assert.Equal(t, "north one", got.Header.Get("X-Quay"))
	assert.Equal(t, "Bearer slack", got.Header.Get("Authorization"))
	require.Len(t, said.ResourceSpans, 1)
	assert.Equal(t, "urn:skerry", said.ResourceSpans[0].SchemaUrl)

	for _, of := range []int64{0, 3} {
		b, err := proto.Marshal(&collectorpb.ExportTraceServiceResponse{
			PartialSuccess: &collectorpb.ExportTracePartialSuccess{RejectedSpans: of, ErrorMessage: "full"}})
		require.NoError(t, err)
		answer = func(w http.ResponseWriter) { _, _ = w.Write(b) }
		err = c.UploadTraces(t.Context(), spans)
		if of == 0 {
			assert.NoError(t, err)
			continue
		}
		assert.ErrorContains(t, err, fmt.Sprint(of))
		for n := range b {
			_ = rejected(b[:n]) // cut short, and no panic
		}
	}
	answer = func(w http.ResponseWriter) {
		http.Redirect(w, &http.Request{}, "http://elsewhere.example", http.StatusFound)
	}
	assert.ErrorContains(t, c.UploadTraces(t.Context(), spans), "302")
	assert.NoError(t, c.Stop(t.Context()))
}
