package contract

import (
	"bytes"
	"net/url"
	"slices"
	"strconv"

	"orenda/internal/xmltree"
)

// PartQuery is the query by which ServedFrom names the documents of a description: its value is
// the number of the document.
const PartQuery = "orenda-part"

// ServedFrom is a document of the description as a relay at an address serves it: the services'
// addresses are there, and what documents lead to is found there too. The first document is the
// description itself; ok is false where there is none of that number.
func (c *Contract) ServedFrom(address string, part int) (document []byte, ok bool) {
	if part < 0 || part >= len(c.Files) {
		return nil, false
	}
	file := c.Files[part]
	d := c.docs[file.Location]
	if d == nil {
		var err error
		if d, err = xmltree.ParseContract(file.Bytes, xmltree.Limits{}); err != nil {
			return file.Bytes, true // as it is: the program's own reader says what is wrong
		}
	}
	type edit struct {
		at   xmltree.Span
		text string
	}
	var edits []edit
	for i := 1; i <= d.Len(); i++ {
		n := d.NodeAt(i)
		if n.Kind() != xmltree.StartElement {
			continue
		}
		for a := range n.Attrs() {
			if to := c.leads(n, a, file.Location, address); to != "" {
				edits = append(edits, edit{a.Inner, xmltree.EscapeAttr(to)})
			}
		}
	}
	var out bytes.Buffer
	from := 0
	if end := bytes.Index(d.Src, []byte("?>")); end >= 0 && bytes.HasPrefix(d.Src, []byte("<?xml ")) {
		from = end + len("?>") // it was decoded: what it is written in is UTF-8 now
	}
	for _, e := range edits {
		out.Write(d.Src[from:e.at.Start])
		out.WriteString(e.text)
		from = e.at.End
	}
	out.Write(d.Src[from:])
	return out.Bytes(), true
}

// leads is what an attribute is to say where the description is served from another address;
// "" it stays.
func (c *Contract) leads(n xmltree.Node, a xmltree.Attribute, location, address string) string {
	local := n.Name().Local
	switch {
	case local == "address" && a.Name.Is("", "location"), local == "endpoint" && a.Name.Is("", "address"):
		return address
	case a.Name.Is("", "schemaLocation") && (local == "import" || local == "include" || local == "redefine"),
		a.Name.Is("", "location") && (local == "import" || local == "include"):
		at, err := Resolve(location, a.Value)
		if err != nil {
			return ""
		}
		i := slices.IndexFunc(c.Files, func(f File) bool { return f.Location == at })
		if u, err := url.Parse(address); i >= 0 && err == nil {
			u.RawQuery = PartQuery + "=" + strconv.Itoa(i)
			return u.String()
		}
	}
	return ""
}
