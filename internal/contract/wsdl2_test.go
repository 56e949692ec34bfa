package contract

import (
	"context"
	"errors"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/soap"
)

func TestWSDL20IsReadAsWSDL11Is(t *testing.T) {
	one, two := load(t, dir+"berths.wsdl"), load(t, dir+"berths-2.wsdl")
	assert.Empty(t, two.Unread)
	assert.Equal(t, "The berth desk once more, described in WSDL 2.0.", two.Documentation)
	assert.Equal(t, 2, two.PortTypes)
	p := two.Port("BerthDesk2")
	require.NotNil(t, p)
	assert.Equal(t, soap.V12, p.Version)
	assert.Equal(t, "http://berths.skerry.test/berths12", p.Address)
	assert.Equal(
		t,
		[]string{"FindBerths", "ReserveBerth", "LogSighting"},
		two.OperationNames(),
		"those of the interface that it extends are last",
	)
	for _, name := range one.OperationNames() {
		a, b := one.Port("BerthDesk12").Operation(name), p.Operation(name)
		assert.Equal(t, a.Signature(), b.Signature())
		assert.Equal(t, a.OneWay(), b.OneWay())
	}
	assert.Equal(t, "urn:skerry:berths:FindBerths", p.Operation("FindBerths").Action)
	assert.False(t, p.Operation("LogSighting").HasAction)
	require.Len(t, p.Operation("ReserveBerth").Faults, 1)
	assert.Equal(t, "BerthTaken", p.Operation("ReserveBerth").Faults[0].Element.Name.Local)
	assert.Len(t, two.Files, 3)
}

func TestWhatWSDL20LeavesOpenIsNamed(t *testing.T) {
	src := `<description xmlns="http://www.w3.org/ns/wsdl" xmlns:t="urn:t" xmlns:s="http://www.w3.org/ns/wsdl/soap" xmlns:v="urn:v" targetNamespace="urn:t">
<include location="gone.wsdl"/><v:x xmlns:w="http://www.w3.org/ns/wsdl" w:required="true"/><types><v:types/></types>
<interface name="I" extends="t:I t:Gone"><operation name="A"><input element="#any"/><output element="t:None"/><outfault ref="t:F"/></operation><operation name="B"><input element="#none"/></operation></interface>
<binding name="S" interface="t:I" type="http://www.w3.org/ns/wsdl/soap" s:version="1.1"><operation ref="t:A"><input><s:header element="t:H"/></input></operation><operation ref="t:C"/></binding>
<binding name="H" interface="t:I" type="http://www.w3.org/ns/wsdl/http"/><binding name="O" interface="t:I" type="urn:other"/>
<service name="S" interface="t:I"><endpoint name="one" binding="t:S" address=" http://h.test/ "/><endpoint name="two" binding="t:H"/><endpoint name="three" binding="t:O"/><endpoint name="four" binding="t:Nope"/></service></description>`
	c, err := Load(
		context.Background(),
		"/x/d.wsdl",
		[]byte(src),
		func(context.Context, string) ([]byte, error) { return nil, errors.New("it is not there") },
	)
	require.NoError(t, err)
	var all []string
	for _, u := range c.Unread {
		all = append(all, u.What+": "+u.Why)
	}
	text := strings.Join(all, "\n")
	for _, want := range []string{"gone.wsdl: it is not there", "v:x: an extension that the description says is " +
		"required", "v:types: a type system other", "its interface {urn:t}Gone is not defined", "operation A: its " +
		"input is #any",
		"{urn:t}None of its output is not declared", "fault F: it is not defined", "header of A: its element " +
			"{urn:t}H", "operation C: the interface I has no such operation", "port two: a plain HTTP binding",
		"port three: its binding is of no kind", "port four: its binding {urn:t}Nope"} {
		assert.Contains(t, text, want)
	}
	assert.Equal(t, soap.V11, c.Port("one").Version)
	assert.Equal(t, "http://h.test/", c.Port("one").Address)
	assert.Equal(t, soap.Unset, c.Port("two").Version)
	assert.True(t, c.Port("one").Operation("B").OneWay())
	assert.Equal(t, "B()", c.Port("one").Operation("B").Signature())

	// Without a service its bindings are offered all the same.
	c, err = Load(context.Background(), "/x/d.wsdl", []byte(src[:strings.Index(src, "<service")]+"</description>"), nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"A", "B"}, c.OperationNames())
}
