package message

import (
	"context"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/contract"
	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

func operation(t testing.TB, file, name string) (*schema.Set, *contract.Operation) {
	t.Helper()
	path := "../standin/contracts/" + file
	src, err := os.ReadFile(path)
	require.NoError(t, err)
	c, err := contract.Load(
		context.Background(),
		path,
		src,
		func(_ context.Context, p string) ([]byte, error) { return os.ReadFile(p) },
	)
	require.NoError(t, err)
	o := c.Ports()[0].Operation(name)
	require.NotNil(t, o)
	return c.Schemas, o
}

func draft(t testing.TB, file, name string, all bool) *Draft {
	set, o := operation(t, file, name)
	return NewDraft(set, o.Input.Element, Sample(set, o.Input.Element, Want{All: all}))
}

func TestSamplesAreValidOnceFilled(t *testing.T) {
	for _, c := range []struct{ file, op string }{{"berths.wsdl", "FindBerths"}, {"berths.wsdl", "ReserveBerth"},
		{"berths.wsdl",
			"LogSighting"}, {"tides.wsdl", "YearTable"}, {"pilots.wsdl", "OrderPilot"}} {
		for _, all := range []bool{false, true} {
			d := draft(t, c.file, c.op, all)
			require.NoError(t, d.Err(), "%s", d.Bytes())
			assert.Empty(t, d.Validate(), "%s\n%s", c.op, d.Bytes())
			assert.NotEmpty(t, d.Unfilled(), c.op)
		}
	}
}

func TestASampleLooksAsOneWouldWriteIt(t *testing.T) {
	d := draft(t, "tides.wsdl", "YearTable", false)
	assert.Equal(t, `<YearTable xmlns="urn:skerry:tides">
  <station><?fill Station?></station>
  <year><?fill Year?></year>
  <datum><?fill Datum?></datum>
  <heights>
    <unit><?fill Unit?></unit>
  </heights>
</YearTable>`, string(d.Bytes()))
	assert.NotContains(t, string(d.Outgoing()), "<?fill", "placeholders are never sent")
	assert.Contains(t, string(d.Outgoing()), "<station></station>")
}

func rows(d *Draft) string {
	var out []string
	for _, it := range d.Items() {
		s := strings.Repeat(" ", it.Depth) + it.Name
		switch {
		case !it.Present:
			s += " -"
		case it.Unfilled:
			s += " ?"
		case it.Kind == Leaf || it.Kind == Attr:
			s += "=" + it.Value
		}
		out = append(out, s)
	}
	return strings.Join(out, "\n")
}

func TestTheOutlineShowsWhatIsAndWhatCouldBe(t *testing.T) {
	d := draft(t, "berths.wsdl", "ReserveBerth", false)
	assert.Equal(
		t,
		"berth ?\nvessel\n name ?\n callSign ?\nnights ?\naccount ◇ cash\n account ?\nneed -\nremark -",
		rows(d),
	)
	nights, _ := d.Find("nights")
	assert.Equal(t, "integer ‹1–60›", nights.Type)
	berth, _ := d.Find("berth")
	assert.Contains(t, berth.Type, "pattern [A-Z][0-9]{2}")
	assert.Equal(t, "Quay letter and number, such as N04.", berth.Doc)
	need, _ := d.Find("need")
	assert.Equal(t, []string{"water", "power", "crane"}, need.Enum)
}

func TestEditsChangeTheBytesAndNothingElse(t *testing.T) {
	set, o := operation(t, "berths.wsdl", "ReserveBerth")
	src := "<!-- mine -->\n<b:ReserveBerth  xmlns:b='urn:skerry:berths' " +
		">\n\n\t<b:berth>N04</b:berth><b:vessel><b:name>Alder</b:name><b:callSign>AL1D</b:callSign></b:vessel>\n\t<b:nights/>\n <b:cash>true</b:cash><!-- end --></b:ReserveBerth>"
	d := NewDraft(set, o.Input.Element, []byte(src))
	require.NoError(t, d.Set("nights", "3"))
	assert.Equal(t, strings.Replace(src, "<b:nights/>", "<b:nights>3</b:nights>", 1), string(d.Bytes()))
	require.NoError(t, d.Set("berth", "<&>"))
	assert.Contains(t, string(d.Bytes()), "<b:berth>&lt;&amp;&gt;</b:berth>")
	it, _ := d.Find("berth")
	assert.Equal(t, "<&>", it.Value)
	assert.NotEmpty(t, it.Errors, "the pattern is checked at once")
}

func TestChoiceKeepsWhatWasTyped(t *testing.T) {
	d := draft(t, "berths.wsdl", "ReserveBerth", false)
	require.NoError(t, d.Set("account", "HT-7"))
	fork := func() Item {
		for _, it := range d.Items() {
			if it.Kind == Fork {
				return it
			}
		}
		t.Fatal("no fork")
		return Item{}
	}
	require.NoError(t, d.Choose(fork(), 1))
	assert.Contains(t, rows(d), "account ◇ cash\n cash ?")
	require.NoError(t, d.Choose(fork(), 0))
	assert.Contains(t, rows(d), " account=HT-7")
}

func TestOptionalRepeatsAndNil(t *testing.T) {
	d := draft(t, "berths.wsdl", "ReserveBerth", false)
	for _, s := range [][2]string{{"berth", "N04"}, {"vessel/name", "Alder"}, {"vessel/callSign", "AL1D"}, {"nights",
		"2"}, {"cash", "true"}, {"need[2]", "crane"}, {"need", "water"}} {
		require.NoError(t, d.Set(s[0], s[1]), s[0])
	}
	assert.Contains(t, rows(d), "need=water\nneed=crane\nremark -")
	assert.Empty(t, d.Validate())
	remark, _ := d.Find("remark")
	require.NoError(t, d.Include(remark))
	remark, _ = d.Find("remark")
	require.NoError(t, d.SetNil(remark))
	assert.Empty(t, d.Validate(), "%s", d.Bytes())
	remark, _ = d.Find("remark")
	assert.True(t, remark.Nil)
	require.NoError(t, d.Set("remark", "late"))
	assert.Empty(t, d.Validate(), "%s", d.Bytes())
	remark, _ = d.Find("remark")
	d.LeaveOut(remark)
	assert.Contains(t, rows(d), "remark -")
	need, _ := d.Find("need[2]")
	d.LeaveOut(need)
	assert.NotContains(t, string(d.Bytes()), "crane")
	err := d.Set("vesel/name", "x")
	assert.ErrorContains(t, err, "vessel/name is meant")
	assert.Len(t, d.Inputs(), 6)
}

func TestAnOptionalPartGoesWhereItBelongs(t *testing.T) {
	d := draft(t, "berths.wsdl", "FindBerths", false)
	require.NoError(t, d.Set("length", "12"))
	require.NoError(t, d.Set("window/until", "2027-05-02"))
	require.NoError(t, d.Set("window/from", "2027-05-01"))
	require.NoError(t, d.Set("draught", "2.5"))
	assert.Empty(t, d.Validate(), "%s", d.Bytes())
	assert.Equal(t, "length=12\ndraught=2.5\nwindow\n from=2027-05-01\n until=2027-05-02", rows(d))
}

// The outline of a very large draft has its beginning; what is to be filled in beyond is
// found all the same, and nothing is said to be missing.
func TestTheOutlineOfALargeDraftIsBounded(t *testing.T) {
	set, o := operation(t, "berths.wsdl", "FindBerths")
	many := strings.Repeat(`<length>12</length>`, maxRows+5)
	d := NewDraft(set, o.Input.Element, []byte(`<FindBerths xmlns="urn:skerry:berths">`+many+
		`<free><?`+Placeholder+` boolean?></free></FindBerths>`))
	assert.True(t, d.Cut())
	assert.Len(t, d.Items(), maxChildren)
	require.Len(t, d.Unfilled(), 1)
	assert.Equal(t, "FindBerths/free", d.Unfilled()[0].Path)
	assert.Len(t, d.Demanded(), 1)
}

func TestWhatTheContractDoesNotKnowIsShown(t *testing.T) {
	set, o := operation(t, "berths.wsdl", "FindBerths")
	d := NewDraft(
		set,
		o.Input.Element,
		[]byte(`<FindBerths xmlns="urn:skerry:berths"><length>1</length><beam>3</beam></FindBerths>`),
	)
	last := d.Items()[len(d.Items())-1]
	assert.Equal(t, Raw, last.Kind)
	assert.NotEmpty(t, last.Errors)
	broken := NewDraft(set, o.Input.Element, []byte(`<FindBerths><length>1</FindBerths>`))
	assert.Error(t, broken.Err())
	assert.Empty(t, broken.Validate())
}

func TestRepliesAreSummedUp(t *testing.T) {
	for src, want := range map[string]string{
		`<r><station>Skerry Sound</station><tide><t>1</t></tide><tide><t>2</t></tide></r>`: "2 × tide · station Skerry Sound",
		`<r><reservation>R7</reservation><until>2027-05-02</until></r>`:                    "reservation R7 · until 2027-05-02",
		`<r/>`: "nothing in it", `<r>yes</r>`: "r yes",
	} {
		d, err := xmltree.Parse([]byte(src), xmltree.Limits{})
		require.NoError(t, err)
		assert.Equal(t, want, Summary(d.Root()))
	}
	d, _ := xmltree.Parse([]byte(`<r><a><b c="1">x</b><b>y</b></a></r>`), xmltree.Limits{})
	for path, want := range map[string]string{"a/b[2]": "y", "b": "x", "a/b/@c": "1"} {
		v, _, ok := Lookup(d.Root(), path)
		assert.True(t, ok, path)
		assert.Equal(t, want, v, path)
	}
	_, _, ok := Lookup(d.Root(), "a/z")
	assert.False(t, ok)
}

func FuzzDraft(f *testing.F) {
	set, o := operation(f, "berths.wsdl", "ReserveBerth")
	f.Add(Sample(set, o.Input.Element, Want{All: true}), "vessel/name", "x")
	f.Add([]byte(`<ReserveBerth xmlns="urn:skerry:berths"/>`), "need[3]", "<")
	f.Fuzz(func(t *testing.T, src []byte, path, value string) {
		d := NewDraft(set, o.Input.Element, src)
		if d.Err() != nil ||
			strings.ContainsFunc(value, func(r rune) bool { return r < ' ' || r == 0xFFFD || r > 0xFFFD }) {
			return
		}
		if err := d.Set(path, value); err == nil && d.Err() != nil {
			t.Fatalf("setting %q to %q broke %q: %v\n%s", path, value, src, d.Err(), d.Bytes())
		}
	})
}
