package workspace

import (
	"bytes"
	"errors"
	"fmt"

	"orenda/internal/message"
)

// merge puts two changes of the same text together, each taken as one region:
// where they do not touch, both hold. ok is false where they do.
func merge(base, mine, theirs []byte) (out []byte, ok bool) {
	if bytes.Equal(mine, theirs) || bytes.Equal(base, theirs) {
		return mine, true
	}
	if bytes.Equal(base, mine) {
		return theirs, true
	}
	region := func(b []byte) (from, to int) { // of base: what b has in another way
		for from < min(len(base), len(b)) && base[from] == b[from] {
			from++
		}
		end := 0
		for end < min(len(base), len(b))-from && base[len(base)-1-end] == b[len(b)-1-end] {
			end++
		}
		return from, len(base) - end
	}
	mf, mt := region(mine)
	tf, tt := region(theirs)
	part := func(b []byte, from, to int) []byte { return b[from : len(b)-(len(base)-to)] }
	switch {
	case mt < tf:
		return bytes.Join(
			[][]byte{base[:mf], part(mine, mf, mt), base[mt:tf], part(theirs, tf, tt), base[tt:]},
			nil,
		), true
	case tt < mf:
		return bytes.Join(
			[][]byte{base[:tf], part(theirs, tf, tt), base[tt:mf], part(mine, mf, mt), base[mt:]},
			nil,
		), true
	}
	return nil, false
}

// ConflictError is a draft that was changed on disk in the same place in which
// it was changed here. What is here was kept as another draft.
type ConflictError struct{ Draft, Kept DraftRef } // that was changed on disk; what was written here

func (e *ConflictError) Error() string {
	return fmt.Sprintf(
		"%s was changed on disk in the same place meanwhile; what was written here is kept as %s",
		e.Draft,
		e.Kept,
	)
}

// SaveDraft keeps a draft and its header blocks that were read as base. Where
// another program changed the files meanwhile, both changes are put together;
// where that cannot be, theirs stays and what is here becomes a draft beside it:
// a *ConflictError says so. What is kept now comes back.
func (w *Workspace) SaveDraft(
	r DraftRef,
	base, body, baseHeader, header []byte,
) (nowBody, nowHeader []byte, err error) {
	onDisk, err := w.ReadDraft(r)
	if err != nil {
		onDisk = base // it is gone, or never was: what is here is what there is
	}
	headOnDisk, err := w.ReadHeader(r)
	if err != nil {
		return body, header, err
	}
	mergedBody, ok1 := merge(base, body, onDisk)
	mergedHeader, ok2 := merge(blocks(baseHeader), blocks(header), blocks(headOnDisk))
	if bytes.Equal(mergedHeader, blocks(header)) {
		mergedHeader = header
	}
	if !ok1 || !ok2 {
		beside := r
		beside.Name = w.freeName(r.Name+" mine", func(n string) bool {
			t := r
			t.Name = n
			return w.hasDraft(t)
		})
		if err := errors.Join(w.WriteHeader(beside, header), w.WriteDraft(beside, body)); err != nil {
			return body, header, err
		}
		return onDisk, headOnDisk, &ConflictError{r, beside}
	}
	return mergedBody, mergedHeader, errors.Join(w.WriteDraft(r, mergedBody), w.WriteHeader(r, mergedHeader))
}

// blocks are header blocks as a document; a file of none is not written.
func blocks(b []byte) []byte {
	if len(b) == 0 {
		return []byte(message.NoHeader)
	}
	return b
}

// Stale tells whether the settings file holds something else than was read from
// it.
func (w *Workspace) Stale() bool {
	src, err := w.store().read(File)
	return err == nil && !bytes.Equal(src, w.Config().src)
}
