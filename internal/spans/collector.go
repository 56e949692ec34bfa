package spans

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strings"

	tracepb "go.opentelemetry.io/proto/otlp/trace/v1"
	"google.golang.org/protobuf/encoding/protowire"
	"google.golang.org/protobuf/proto"
)

// collector is where spans are sent (OTLP 1.x over HTTP, in protobuf). The exporter that
// OpenTelemetry has for it brings the whole of gRPC along.
type collector struct {
	address string
	fields  http.Header
	client  http.Client
}

// newCollector takes further fields of the head from OTEL_EXPORTER_OTLP_HEADERS, as other programs do.
func newCollector(address string) *collector {
	c := &collector{address: address, fields: http.Header{"Content-Type": {"application/x-protobuf"}}}
	c.client.Timeout = sendTime
	c.client.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	for pair := range strings.SplitSeq(os.Getenv("OTEL_EXPORTER_OTLP_HEADERS"), ",") {
		if name, value, ok := strings.Cut(pair, "="); ok {
			if text, err := url.PathUnescape(strings.TrimSpace(value)); err == nil {
				c.fields.Set(strings.TrimSpace(name), text)
			}
		}
	}
	return c
}

// Start implements otlptrace.Client.
func (c *collector) Start(context.Context) error { return nil }

// Stop implements otlptrace.Client.
func (c *collector) Stop(context.Context) error {
	c.client.CloseIdleConnections()
	return nil
}

// UploadTraces implements otlptrace.Client. What the collector did not take is an error.
func (c *collector) UploadTraces(ctx context.Context, spans []*tracepb.ResourceSpans) error {
	// In bytes it is the same as ExportTraceServiceRequest.
	body, err := proto.Marshal(&tracepb.TracesData{ResourceSpans: spans})
	if err != nil {
		return err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, c.address, bytes.NewReader(body))
	if err != nil {
		return err
	}
	r.Header = c.fields.Clone()
	answer, err := c.client.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	const most = 64 << 10
	said, err := io.ReadAll(io.LimitReader(answer.Body, most))
	switch {
	case answer.StatusCode/100 != 2:
		return fmt.Errorf("the collector answered %s", answer.Status)
	case err != nil:
		return err
	}
	if n := rejected(said); n > 0 {
		return fmt.Errorf("the collector did not take %d spans", n)
	}
	return nil
}

// rejected is how many spans an answer says were not taken (ExportTraceServiceResponse:
// partial_success, 1; in it rejected_spans, 1).
func rejected(answer []byte) (n uint64) {
	for _, kind := range []protowire.Type{protowire.BytesType, protowire.VarintType} {
		found := false
		for len(answer) > 0 && !found {
			field, of, head := protowire.ConsumeTag(answer)
			if head < 0 {
				return 0
			}
			long := protowire.ConsumeFieldValue(field, of, answer[head:])
			if long < 0 {
				return 0
			}
			if field == 1 && of == kind {
				found = true
				if kind == protowire.VarintType {
					n, _ = protowire.ConsumeVarint(answer[head:])
					return n
				}
				answer, _ = protowire.ConsumeBytes(answer[head:])
				continue
			}
			answer = answer[head+long:]
		}
	}
	return 0
}
