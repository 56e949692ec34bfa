package workspace

import (
	"os"

	"golang.org/x/sys/unix"
)

// flushes tells whether flush waits until all that was written is on disk.
const flushes = true

// flush waits until the disk of a folder has all that was written to it.
func flush(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return unix.Syncfs(int(d.Fd()))
}
