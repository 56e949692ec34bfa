package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/standin"
	"orenda/internal/user"
)

func TestAWorkspaceFromADescriptionAndItsRefreshing(t *testing.T) {
	l := at(t)
	src := filepath.Join(l.dir, "src")
	require.NoError(t, os.Mkdir(src, 0o700))
	require.NoError(t, standin.WriteContracts(src))
	dues, ws := filepath.Join(src, "dues.wsdl"), filepath.Join(l.dir, "ws")
	code, out, errOut := l.run("add", dues, "-w", ws)
	require.Equal(t, 0, code, errOut)
	assert.Equal(t, "harbour-dues: 3 operations\n  endpoint HarbourDues\n", out)
	code, _, errOut = l.run("add", filepath.Join(src, "berths.wsdl"), "-w", ws)
	require.Equal(t, 0, code, errOut)
	code, _, errOut = l.run("refresh", "-w", ws)
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errOut, "name one of harbour-dues, berth-desk")

	code, out, _ = l.run("refresh", "harbour-dues", "-w", ws)
	assert.Equal(t, 0, code)
	assert.Equal(t, "harbour-dues: nothing changed for a client\n", out)
	b, err := os.ReadFile(dues)
	require.NoError(t, err)
	newer := strings.Replace(string(b), `<xs:element name="invoice" type="d:Invoice"/>
          <xs:element name="amount"`, `<xs:element name="invoice" type="d:Invoice"/><xs:element name="purse" type="xs:string"/>
          <xs:element name="amount"`, 1)
	require.NotEqual(t, string(b), newer)
	require.NoError(t, os.WriteFile(dues, []byte(newer), 0o600))
	var r refreshed
	l.json(1, &r, "refresh", "harbour-dues", "-w", ws)
	assert.False(t, r.Taken)
	require.Len(t, r.Changes, 1)
	assert.Equal(t, "Pay input purse: field added, string", r.Changes[0].String())
	assert.True(t, r.Changes[0].Breaking)

	// It still works from the snapshot until it is taken over.
	require.NoError(t, os.Rename(dues, dues+".away"))
	code, _, _ = l.run("refresh", "harbour-dues", "-w", ws)
	assert.Equal(t, exitUnread, code)
	code, out, _ = l.run("draft", "list", "-w", ws)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "Pay/first")
	require.NoError(t, os.Rename(dues+".away", dues))
	code, out, errOut = l.run("refresh", "harbour-dues", "--take", "-w", ws)
	assert.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "breaking  Pay input purse")
	assert.Contains(t, out, "taken over")
	code, out, _ = l.run("refresh", "harbour-dues", "-w", ws)
	assert.Equal(t, 0, code, out)
	files, _ := filepath.Glob(filepath.Join(ws, "contracts", "harbour-dues", "*.wsdl"))
	assert.Len(t, files, 1, "the file that nothing names any more is gone")
}

func TestHeaderBlocksOnTheCommandLine(t *testing.T) {
	l := at(t)
	dues := "http://" + l.h.Plain + "/dues?wsdl"
	code, out, errOut := l.run("call", "CloseLedger", "day=2027-03-01", "header:Clerk/name=Ines", "--contract", dues)
	assert.Equal(t, 0, code, out+errOut)
	code, _, errOut = l.run("call", "CloseLedger", "day=2027-03-01", "--contract", dues)
	assert.Equal(t, 20, code)
	assert.Contains(t, errOut, "a declared header block is left out")
	code, _, errOut = l.run("call", "CloseLedger", "header:Clerk/nmae=Ines", "--contract", dues)
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errOut, "Clerk/name is meant, perhaps")
	code, _, errOut = l.run(
		"call",
		"FindBerths",
		"header:Clerk/name=Ines",
		"--contract",
		l.berths(),
		"--port",
		"BerthDesk11",
	)
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errOut, "the contract declares no header block for FindBerths")
	code, out, _ = l.run("sample", dues, "Pay", "--all")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "<soap:Header>")
	assert.Contains(t, out, "<name><?fill string?></name>")
}

func TestTheCatalogueIsSharedAndSearched(t *testing.T) {
	l := at(t)
	code, out, errOut := l.run("catalogue", "add", l.berths())
	require.Equal(t, 0, code, errOut)
	assert.Equal(t, "berth-desk: 3 operations\n", out)
	for range 2 { // again is no second one
		code, _, errOut = l.run("catalogue", "add", "http://"+l.h.Plain+"/dues?wsdl", "--name", "money")
		require.Equal(t, 0, code, errOut)
	}
	var list []catalogued
	l.json(0, &list, "catalogue", "list")
	require.Len(t, list, 2)
	assert.Equal(t, "money", list[1].Name)
	assert.Equal(t, []string{"Assess", "Pay", "CloseLedger"}, list[1].Operations)
	l.h.Close() // from here on without the service
	var hits []found
	l.json(0, &hits, "catalogue", "search", "GROSSTON")
	require.Len(t, hits, 1)
	assert.Equal(t, found{"money", "Assess", hits[0].Signature, []string{"vessel/grossTonnage"}}, hits[0])
	code, _, _ = l.run("catalogue", "search", "nothing of the kind")
	assert.Equal(t, 1, code)
	code, out, _ = l.run("sample", "catalogue:money", "Pay")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "<Pay xmlns=")
	code, out, _ = l.run("add", "catalogue:berth-desk", "-w", filepath.Join(l.dir, "ws"))
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "endpoint BerthDesk12")
	code, _, errOut = l.run("describe", "catalogue:mony")
	assert.Equal(t, exitUnread, code)
	assert.Contains(t, errOut, "the catalogue has no mony; money is in it")
	code, _, _ = l.run("catalogue", "remove", "money")
	assert.Equal(t, 0, code)
	l.json(0, &list, "catalogue", "list")
	assert.Len(t, list, 1)
	code, _, errOut = l.run("catalogue", "add", filepath.Join(l.dir, "gone.wsdl"))
	assert.Equal(t, exitUnread, code, errOut)
}

func TestAWSDL20DescriptionIsCalled(t *testing.T) {
	l := at(t)
	code, out, errOut := l.run("call", "FindBerths", "length=60", "--contract", "http://"+l.h.Plain+"/berths-2.wsdl")
	assert.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "E07")
	code, out, _ = l.run("describe", "http://"+l.h.Plain+"/berths-2.wsdl")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "port BerthDesk2  (SOAP 1.2, document)")
	assert.Contains(t, out, "fault BerthTaken(berth: BerthCode, until: date)")
}

// Nobody is kept from calling by a journal that is damaged, or that cannot be.
func TestACallGoesWithoutItsJournal(t *testing.T) {
	l := at(t)
	h, err := user.Find()
	require.NoError(t, err)
	state := h.State
	require.NoError(t, os.MkdirAll(state, 0o700))
	require.NoError(
		t,
		os.WriteFile(filepath.Join(state, "journal.db"), []byte(strings.Repeat("no journal ", 100)), 0o600),
	)
	code, out, errOut := l.run("call", "FindBerths", "length=12", "--contract", l.berths(), "--port", "BerthDesk11")
	assert.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "FindBerthsResponse")
	assert.Contains(t, errOut, "the one before was damaged, and is now "+filepath.Join(state, "journal-damaged-"))
	_, out, errOut = l.run("journal", "list")
	assert.Contains(t, out, "FindBerths")
	assert.Empty(t, errOut)

	require.NoError(t, os.RemoveAll(state))
	require.NoError(t, os.WriteFile(state, nil, 0o600))
	code, out, errOut = l.run("call", "FindBerths", "length=12", "--contract", l.berths(), "--port", "BerthDesk11")
	assert.Equal(t, 0, code, errOut)
	assert.Contains(t, out, "FindBerthsResponse")
	assert.Contains(t, errOut, "the journal cannot be opened")
	assert.Contains(t, errOut, "what is sent now is not kept")
}
