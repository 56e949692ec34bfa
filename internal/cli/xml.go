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
			src, err := os.ReadFile(name)
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
