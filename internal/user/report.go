package user

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"time"

	"orenda/internal/safe"
)

// Fault is a fault of Orenda's own: a panic, with where it came from.
type Fault struct {
	Value any    // that was panicked with
	Stack []byte // of the goroutine, as runtime/debug gives it
}

func (f *Fault) Error() string { return "a fault of Orenda's own: " + safe.Line(fmt.Sprint(f.Value)) }

// Report writes a fault down in the person's folder, and gives the file. It holds no
// message and no setting, only what the program is and where it was.
func (h *Home) Report(f *Fault, version string) (file string, err error) {
	now := time.Now().UTC()
	dir := os.TempDir()
	if h != nil {
		dir = filepath.Join(h.State, "reports")
	}
	file = filepath.Join(dir, "orenda-fault-"+now.Format("20060102-150405.000")+".txt")
	text := fmt.Sprintf(
		"Orenda %s · %s %s/%s · %s\n\n%s\n\n%s",
		version,
		runtime.Version(),
		runtime.GOOS,
		runtime.GOARCH,
		now.Format(time.RFC3339),
		f.Error(),
		f.Stack,
	)
	return file, WriteFile(file, []byte(text))
}
