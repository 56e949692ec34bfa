package ui

// Copy is something that can be copied, with what it is.
type Copy struct {
	What string        // in a word or two
	Text func() string // made when it is copied
}

// Copier is a view with something to copy: the first is what stands at the cursor.
type Copier interface{ Copies() []Copy }

// Text is a Copy of a text that is at hand; one of "" is left out of what is offered.
func Text(what, text string) Copy { return Copy{what, func() string { return text }} }
