package cli

import (
	"errors"
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"orenda/internal/safe"
	"orenda/internal/xmltree"
)

func (t *commandLine) xmlCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "xml", Short: "XML itself: well-formedness and the canonical form"}
	check := &cobra.Command{
		Use:     "check FILE...",
		Example: "  orenda xml check sent.xml came.xml",
		Short:   "Well-formedness, with the position",
		Args:    cobra.MinimumNArgs(1),
	}
	check.RunE = func(_ *cobra.Command, args []string) error {
		bad := false
		for _, name := range args {
			src, err := readByTwo(name)
			if err != nil {
				return unread{err}
			}
			err = xmltree.CheckAlone(src, xmltree.Limits{})
			var e *xmltree.SyntaxError
			if errors.As(err, &e) {
				bad = true
				fmt.Fprintf(t.out, "%s:%d:%d: %s\n", safe.Line(name), e.Line, e.Column, safe.Line(e.Msg))
				continue
			}
			fmt.Fprintf(t.out, "%s: well-formed\n", safe.Line(name))
		}
		if bad {
			return status(exitNo)
		}
		return nil
	}
	canon := &cobra.Command{
		Use:     "canon FILE",
		Example: "  orenda xml canon sent.xml",
		Short:   "Exclusive canonical form (Exclusive XML Canonicalization 1.0)",
		Args:    cobra.ExactArgs(1),
	}
	comments := canon.Flags().Bool("with-comments", false, "keep comments")
	canon.RunE = func(_ *cobra.Command, args []string) error {
		src, err := os.ReadFile(args[0])
		if err != nil {
			return unread{err}
		}
		d, err := xmltree.Parse(src, xmltree.Limits{})
		if err != nil {
			t.complain(fmt.Errorf("%s: %w", args[0], err))
			return status(exitNo)
		}
		_, err = t.out.Write(xmltree.Canonical(d.Document(), *comments))
		return err
	}
	cmd.AddCommand(check, canon)
	return cmd
}

// readByTwo reads a file, a long one by two at once: the memory that it goes into is made meanwhile.
func readByTwo(name string) ([]byte, error) {
	const long = 8 << 20
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() || info.Size() < long {
		return os.ReadFile(name)
	}
	all := make([]byte, info.Size())
	half := len(all) / 2
	second := make(chan error, 1)
	go func() {
		_, err := f.ReadAt(all[half:], int64(half))
		second <- err
	}()
	_, err = f.ReadAt(all[:half], 0)
	if err = errors.Join(err, <-second); err != nil { // it is written to just now
		return os.ReadFile(name)
	}
	return all, nil
}
