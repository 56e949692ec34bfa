package handover

import (
	"errors"
	"fmt"
	"io/fs"
	"mime"
	"os"
	"path/filepath"
	"strings"

	"orenda/internal/related"

	"orenda/internal/exchange"
	"orenda/internal/safe"
)

// PartName is a safe name for the file of the i-th part, counted from 0.
func PartName(p *related.Part, i int) string {
	name := p.Name
	if name == "" {
		name = p.Location[strings.LastIndexByte(p.Location, '/')+1:]
	}
	if name = filepath.Base(strings.ReplaceAll(name, `\`, "/")); name == "." || name == "/" {
		name = fmt.Sprintf("part-%d", i+1)
	}
	name = safe.FileName(name)
	if filepath.Ext(name) == "" {
		if all, err := mime.ExtensionsByType(p.Type); err == nil && len(all) > 0 {
			name += all[len(all)-1]
		}
	}
	return name
}

// SaveParts writes the parts of a response beside its envelope into a folder,
// under safe names, and nowhere else: what is there is not overwritten, another
// name is taken. It gives the names.
func SaveParts(l *exchange.Leg, dir string) (saved []string, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	for i := range l.Parts {
		p := &l.Parts[i]
		if p.Root {
			continue
		}
		b, err := p.Content(l.ResponseBody.Bytes())
		if err != nil {
			return saved, fmt.Errorf("part %d: %w", i+1, err)
		}
		base := PartName(p, i)
		ext := filepath.Ext(base)
		name := base
		var f *os.File
		for n := 2; ; n++ {
			f, err = root.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
			if !errors.Is(err, fs.ErrExist) {
				break
			}
			name = fmt.Sprintf("%s %d%s", strings.TrimSuffix(base, ext), n, ext)
		}
		if err != nil {
			return saved, err
		}
		_, err = f.Write(b)
		if err := errors.Join(err, f.Close()); err != nil {
			return saved, err
		}
		saved = append(saved, name)
	}
	return saved, nil
}
