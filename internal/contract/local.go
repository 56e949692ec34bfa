package contract

import (
	"fmt"
	"io"
	"os"
	"strings"

	"orenda/internal/schema"
	"orenda/internal/xmltree"
)

// maxLocal is how many bytes of a file are read that a description points to.
const maxLocal = 64 << 20

// ReadLocal reads a file that a local description points to. Only a regular file of
// moderate size whose root is that of a schema or a description is read: a description
// may be a stranger's, and what it points to is copied into the workspace.
func ReadLocal(path string) ([]byte, error) {
	refuse := func(why string) ([]byte, error) {
		return nil, fmt.Errorf("%s is not read: %s", path, why)
	}
	info, err := os.Stat(path)
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return refuse("it is no regular file")
	case info.Size() > maxLocal:
		return refuse(fmt.Sprintf("it is larger than %d MiB", maxLocal>>20))
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	src, err := io.ReadAll(io.LimitReader(f, maxLocal))
	if err != nil {
		return nil, err
	}
	root, err := xmltree.RootOf(src)
	if err != nil || !isPart(root) {
		return refuse("it is neither a schema nor a description")
	}
	return src, nil
}

// isPart tells the root of a schema or of a description.
func isPart(n xmltree.Name) bool {
	return n.Space == schema.XSD && n.Local == "schema" ||
		strings.Contains(n.Space, "/wsdl") && (n.Local == "definitions" || n.Local == "description")
}
