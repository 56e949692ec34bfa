package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"orenda/internal/standin"
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
	code, _, errOut = l.run("call", "FindBerths", "header:Clerk/name=Ines", "--contract", l.berths(), "--port", "BerthDesk11")
	assert.Equal(t, exitUsage, code)
	assert.Contains(t, errOut, "the contract declares no header block for FindBerths")
	code, out, _ = l.run("sample", dues, "Pay", "--all")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "<soap:Header>")
	assert.Contains(t, out, "<name><?fill string?></name>")
}
