package message

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/schema"
)

func TestHeaderBlocksAreADraftOfTheirOwn(t *testing.T) {
	s := set(
		t,
		`<xs:element name="clerk"><xs:complexType><xs:sequence><xs:element name="name" type="xs:string"/><xs:element name="desk" type="xs:int" minOccurs="0"/></xs:sequence></xs:complexType></xs:element><xs:element name="trace" type="xs:string"/>`,
	)
	clerk, trace := s.Element(schema.QName{Space: "urn:s", Local: "clerk"}), s.Element(
		schema.QName{Space: "urn:s", Local: "trace"},
	)
	h := NewHeader(s, []*schema.Element{clerk, trace}, nil)
	require.NoError(t, h.Err())
	assert.Empty(t, h.Blocks())
	assert.Equal(t, []schema.QName{clerk.Name, trace.Name}, h.LeftOut())
	require.NoError(t, h.Set("clerk/name", "Ines & Co"))
	assert.Equal(t, []schema.QName{trace.Name}, h.LeftOut())
	require.Len(t, h.Blocks(), 1)
	assert.Contains(t, string(h.Blocks()[0]), `<clerk xmlns="urn:s">`)
	assert.Contains(t, string(h.Blocks()[0]), `<name>Ines &amp; Co</name>`)
	assert.Empty(t, h.Validate())

	// A placeholder never leaves; what the contract does not know may.
	require.True(t, h.Put(trace.Name))
	assert.Len(t, h.Unfilled(), 1)
	assert.NotContains(t, string(h.Blocks()[1]), "<?fill")
	assert.Contains(t, string(h.Samples()[1]), "<?fill")
	assert.False(t, h.Put(schema.QName{Local: "other"}))

	// What is optional and was never filled in is left out; a block that was put in is not.
	h = NewHeader(
		s,
		[]*schema.Element{clerk, trace},
		[]byte(`<headers xmlns:a="urn:s"><a:clerk><a:name>x</a:name><a:desk><?fill int?></a:desk></a:clerk></headers>`),
	)
	assert.Len(t, h.Unfilled(), 1)
	assert.Empty(t, h.Demanded())
	assert.NotContains(t, string(h.Blocks()[0]), "desk")
	require.True(t, h.Put(trace.Name))
	assert.Len(t, h.Demanded(), 1)

	// Prefixes that the root declares go with the blocks that need them.
	h = NewHeader(
		s,
		[]*schema.Element{clerk},
		[]byte(
			`<headers xmlns:a="urn:s" xmlns:b="urn:b"><a:clerk xmlns:b="urn:own"><a:name>x</a:name></a:clerk><b:odd/></headers>`,
		),
	)
	require.Len(t, h.Blocks(), 2)
	assert.Equal(
		t,
		`    <a:clerk xmlns:a="urn:s" xmlns:b="urn:own"><a:name>x</a:name></a:clerk>`,
		string(h.Blocks()[0]),
	)
	assert.Equal(t, `    <b:odd xmlns:a="urn:s" xmlns:b="urn:b"/>`, string(h.Blocks()[1]))
	assert.NotEmpty(t, h.Validate(), "b:odd is not declared")
	assert.Nil(t, (*Draft)(nil).Blocks())
}
