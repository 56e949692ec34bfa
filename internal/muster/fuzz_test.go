package muster

import (
	"testing"
)

// FuzzTable reads any table as the cases of a muster: each row is a case, or the whole is refused.
func FuzzTable(f *testing.F) {
	f.Add("t.csv", []byte("name,sign,expect\none,SKAL4,vessel=Alder\ntwo;,\"SK\nAL\",\n"))
	f.Add("t.csv", []byte("\xef\xbb\xbfname;sign\none;\"a;b\"\n"))
	f.Add("t.jsonl", []byte("{\"name\":\"one\",\"sign\":3}\n{\"sign\":null}\n\n[1]"))
	f.Fuzz(func(t *testing.T, name string, b []byte) {
		kind := "t.csv"
		if len(name)%2 == 1 {
			kind = "t.jsonl"
		}
		m, err := Read("m", []byte("[[case]]\ndraft = \"LookUp/one\"\ntable = \""+kind+"\"\n"),
			func(string) ([]byte, error) { return b, nil })
		if err != nil {
			return
		}
		n := 0
		for i, c := range m.Cases.All() {
			if again := m.Cases.At(i); again.Name != c.Name || c.Name == "" {
				t.Fatalf("case %d is %q, and %q", i, c.Name, again.Name)
			}
			n++
		}
		if n != m.Cases.Len() {
			t.Fatalf("%d cases, and %d are said", n, m.Cases.Len())
		}
	})
}
