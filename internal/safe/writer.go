package safe

import (
	"io"
	"unicode/utf8"
)

// Writer writes text of several lines to a terminal, made safe as Block makes it. A
// character that comes in two writes is put together.
type Writer struct {
	To   io.Writer // the terminal
	rest []byte    // the beginning of a character
}

// Write implements io.Writer.
func (w *Writer) Write(p []byte) (int, error) {
	all := append(w.rest, p...)
	end := len(all)
	for i := 1; i < utf8.UTFMax && i <= len(all); i++ {
		if b := all[len(all)-i]; utf8.RuneStart(b) {
			if !utf8.FullRune(all[len(all)-i:]) {
				end = len(all) - i
			}
			break
		}
	}
	w.rest = append([]byte(nil), all[end:]...)
	_, err := io.WriteString(w.To, Block(string(all[:end])))
	return len(p), err
}
