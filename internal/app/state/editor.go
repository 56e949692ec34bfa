package state

import (
	"cmp"
	"os"
	"os/exec"

	"orenda/internal/user"

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

// Drawing is what can be written as SVG or PDF, by the ending of a name.
type Drawing interface {
	Write(name string) ([]byte, error)
}

// AskDrawing asks for a file, and writes a drawing into it; over no other file. name is the
// beginning of what is offered.
func (s *State) AskDrawing(name string, made func() (Drawing, error)) tea.Cmd {
	return AskFor("write the drawing to (.svg or .pdf)", name+".svg", func(file string) {
		d, err := made()
		var b []byte
		if err == nil {
			b, err = d.Write(file)
		}
		if err == nil {
			err = user.WriteNew(file, b)
		}
		if err != nil {
			s.Say("%v", err)
			return
		}
		s.Say("written: %s", file)
	})
}
