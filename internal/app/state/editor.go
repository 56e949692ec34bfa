package state

import (
	"cmp"
	"os"
	"os/exec"

	tea "charm.land/bubbletea/v2"
)

// Edit hands a file to $VISUAL or $EDITOR, which has the terminal until it ends;
// then comes what is told of it. It is nil, and said, where neither is set.
func (s *State) Edit(path string, then func(error) tea.Msg) tea.Cmd {
	name := cmp.Or(os.Getenv("VISUAL"), os.Getenv("EDITOR"))
	if name == "" {
		s.Say("$EDITOR is not set")
		return nil
	}
	return tea.ExecProcess(exec.Command("sh", "-c", name+` "$1"`, "sh", path), then)
}
