package soap

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"mime/multipart"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/related"
)

// What is packed here is what another reader of multipart finds, byte for byte.
func TestPackagesAreReadByOthers(t *testing.T) {
	sent := []Attached{
		{
			ID:      "one@x",
			Type:    "application/pdf",
			Name:    "tide \"table\" é.pdf",
			Content: []byte("\r\n--orenda\r\n\x00\xff"),
		},
		{ID: "two@x", Type: "text/plain", Content: nil},
	}
	for _, kind := range []string{MTOM, Attachments} {
		for _, v := range []Version{V11, V12} {
			ct, body, at := Package(kind, v, "utf-8", `urn:a"b`, []byte("<e/>"), sent)
			assert.Equal(t, v, VersionOfMedia(ct), ct)
			assert.Equal(t, "<e/>", string(body[at:at+4]))
			media, params, err := mime.ParseMediaType(ct)
			require.NoError(t, err, ct)
			assert.Equal(t, "multipart/related", media)
			if v == V12 {
				assert.Equal(t, `urn:a"b`, params["action"])
			}
			r := multipart.NewReader(bytes.NewReader(body), params["boundary"])
			var contents []string
			for {
				p, err := r.NextRawPart()
				if errors.Is(err, io.EOF) {
					break
				}
				require.NoError(t, err)
				b, err := io.ReadAll(p)
				require.NoError(t, err)
				contents = append(contents, string(b))
				if len(contents) == 1 {
					assert.Equal(t, params["start"], p.Header.Get("Content-ID"))
					_, inner, err := mime.ParseMediaType(p.Header.Get("Content-Type"))
					require.NoError(t, err)
					assert.Equal(t, "utf-8", inner["charset"])
					if kind == MTOM {
						assert.Equal(t, v.MediaType(), inner["type"], "XOP 1.0 §5")
						assert.Equal(t, v.MediaType(), params["start-info"])
					}
				}
				if len(contents) == 2 {
					assert.Equal(t, sent[0].Name, p.FileName())
				}
			}
			assert.Equal(t, []string{"<e/>", string(sent[0].Content), ""}, contents)
			mine, err := related.Split(ct, body)
			require.NoError(t, err)
			require.Len(t, mine, 3)
			assert.True(t, mine[1].Refers("cid:one@x"))
			assert.True(t, mine[1].Refers("cid:one%40x"))
			assert.False(t, mine[1].Refers("one@x"))
			assert.Equal(t, sent[0].Name, mine[1].Name)
		}
	}
}
