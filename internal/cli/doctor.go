package cli

import (
	"cmp"
	"context"
	"crypto/x509"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"orenda/internal/identity"
	"orenda/internal/journal"
	"orenda/internal/marks"
	"orenda/internal/safe"
	"orenda/internal/user"
)

// sign is one thing that this machine offers, or does not.
type sign struct {
	What string `json:"what"`          // the thing
	Says string `json:"says"`          // how it is
	OK   bool   `json:"ok"`            // nothing is wrong with it
	Try  string `json:"try,omitempty"` // what helps where it is not
}

// built is the version with the commit and the Go that it was built of.
func built() string {
	out := Version
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return out
	}
	for _, s := range info.Settings {
		if s.Key == "vcs.revision" {
			out += ", commit " + s.Value[:min(len(s.Value), 12)]
		}
	}
	return out + ", " + info.GoVersion
}

// doctorCommand says what this machine offers.
func (t *commandLine) doctorCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use: "doctor", Short: "What this machine offers, and what is wrong with it", Args: cobra.NoArgs,
		Long: "Looks at the terminal, the clipboard, the key ring, the proxy, the trust store, your\nfolders and the " +
			"journal. Nothing is sent. Exit status 1 where\nsomething is wrong.",
		Example: "  orenda doctor\n  orenda doctor --json",
	}
	t.jsonFlag(cmd)
	cmd.RunE = func(*cobra.Command, []string) error {
		all := t.signs()
		wrong := false
		for _, s := range all {
			wrong = wrong || !s.OK
		}
		if t.asJSON {
			if err := t.printJSON(all); err != nil {
				return err
			}
		} else if err := t.tellSigns(all); err != nil {
			return err
		}
		if wrong {
			return status(exitNo)
		}
		return nil
	}
	return cmd
}

func (t *commandLine) tellSigns(all []sign) error {
	tw := tabwriter.NewWriter(t.out, 0, 0, 2, ' ', 0)
	for _, s := range all {
		mark := " "
		if !s.OK {
			mark = "!"
		}
		fmt.Fprintf(tw, "%s %s\t%s\n", mark, s.What, safe.Line(s.Says))
		if s.Try != "" {
			fmt.Fprintf(tw, "  \t%s\n", safe.Line(s.Try))
		}
	}
	return tw.Flush()
}

func (t *commandLine) signs() []sign {
	out := []sign{{What: "orenda", Says: built() + ", " + runtime.GOOS + "/" + runtime.GOARCH, OK: true}}
	out = append(out, terminalSigns()...)
	out = append(out, clipboardSign(), keyringSign(), proxySign(), trustSign())
	return append(out, t.homeSigns()...)
}

// terminalSigns are about the terminal: whether there is one, its size, its colours and its
// characters.
func terminalSigns() []sign {
	const least = 20
	if !term.IsTerminal(int(os.Stdout.Fd())) {
		return []sign{
			{What: "terminal", Says: "none: output goes to a file or a pipe; the application needs one", OK: true},
		}
	}
	w, h, err := term.GetSize(int(os.Stdout.Fd()))
	name := cmp.Or(os.Getenv("TERM"), "not said")
	s := sign{
		What: "terminal",
		Says: fmt.Sprintf("%s, %d columns, %d rows", name, w, h),
		OK:   err == nil && w >= least && name != "dumb",
	}
	if !s.OK {
		s.Try = "set TERM to what your terminal is, as xterm-256color, and make it at least 80 columns wide"
	}
	colours := "by TERM"
	switch {
	case os.Getenv("NO_COLOR") != "":
		colours = "none: NO_COLOR is set; nothing depends on them"
	case os.Getenv("COLORTERM") != "":
		colours = os.Getenv("COLORTERM")
	}
	letters := sign{What: "characters", OK: true}
	letters.Says = cmp.Or(os.Getenv("LC_ALL"), os.Getenv("LC_CTYPE"), os.Getenv("LANG"), "no locale is set")
	if up := strings.ToUpper(letters.Says); !strings.Contains(up, "UTF-8") && !strings.Contains(up, "UTF8") &&
		runtime.GOOS != "windows" {
		letters.OK, letters.Try = false, "set LANG to a UTF-8 locale, as C.UTF-8: marks and lines may look wrong"
	}
	if marks.WantsPlain() {
		letters.Says += ": signs are drawn in ASCII"
		letters.OK, letters.Try = true, ""
	}
	return []sign{s, {What: "colours", Says: colours, OK: true}, letters}
}

func clipboardSign() sign {
	for _, tool := range []string{"wl-copy", "xclip", "xsel", "pbcopy", "clip.exe"} {
		if path, err := exec.LookPath(tool); err == nil {
			return sign{What: "clipboard", Says: "by the terminal (OSC 52); " + path + " is there too", OK: true}
		}
	}
	return sign{What: "clipboard", Says: "by the terminal (OSC 52), where it allows that", OK: true}
}

func keyringSign() sign {
	if err := identity.KeyringThere(context.Background()); err == nil {
		return sign{What: "key ring", Says: "there", OK: true}
	}
	return sign{What: "key ring", Says: "none here; secrets can come from env:, file:, command: and age:", OK: true}
}

func proxySign() sign {
	to := &http.Request{URL: &url.URL{Scheme: "https", Host: "service.skerry.example"}}
	u, err := http.ProxyFromEnvironment(to)
	switch {
	case err != nil:
		return sign{What: "proxy", Says: err.Error(), Try: "correct HTTPS_PROXY, or set proxy = none at endpoints"}
	case u == nil:
		return sign{What: "proxy", Says: "none by the environment", OK: true}
	}
	return sign{What: "proxy", Says: u.Redacted() + " by the environment; not for " + cmp.Or(os.Getenv("NO_PROXY"),
		os.Getenv("no_proxy"), "anything else"), OK: true}
}

func trustSign() sign {
	pool, err := x509.SystemCertPool()
	if err != nil || pool.Equal(x509.NewCertPool()) {
		return sign{What: "trust store", Says: "the system trusts no authority",
			Try: "install its certificates (Debian: ca-certificates), or name files with trust at endpoints"}
	}
	return sign{What: "trust store", Says: "the system's", OK: true}
}

// homeSigns are about the person's folders and the journal.
func (t *commandLine) homeSigns() []sign {
	h, err := t.home()
	if err != nil {
		return []sign{{What: "folders", Says: err.Error(), Try: "set ORENDA_HOME to a folder of your own"}}
	}
	out := []sign{folderSign("configuration", h.Config), folderSign("state", h.State)}
	set := sign{What: "settings", OK: true}
	s, err := h.Settings()
	if set.Says = h.SettingsFile() + ": ground " + s.Ground; err != nil {
		set = sign{What: "settings", Says: err.Error(), Try: "correct the file: docs/cli.md has its keys"}
	}
	out = append(out, set)
	j, err := t.journal()
	if err != nil {
		return append(
			out,
			sign{What: "journal", Says: err.Error(), Try: "make room, or move the folder away: another is begun"},
		)
	}
	list, err := j.List(journal.Query{Max: 1})
	if err != nil {
		return append(out, sign{What: "journal", Says: err.Error(), Try: "move the folder away: another is begun"})
	}
	says := "empty"
	if len(list) > 0 {
		says = "the last exchange is of " + list[0].Started.Format("2006-01-02 15:04")
	}
	return append(out, sign{What: "journal", Says: says + ", " + sizeOf(h.State), OK: true})
}

// folderSign tells whether a folder can be written to.
func folderSign(what, dir string) sign {
	probe := filepath.Join(dir, ".orenda-doctor")
	err := user.WriteFile(probe, nil)
	_ = os.Remove(probe)
	if err != nil {
		return sign{What: what, Says: dir + ": " + err.Error(), Try: "let yourself write there, or set ORENDA_HOME"}
	}
	return sign{What: what, Says: dir, OK: true}
}

// sizeOf is what the files of a folder take.
func sizeOf(dir string) string {
	var sum int64
	_ = filepath.WalkDir(dir, func(_ string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			if info, ierr := d.Info(); ierr == nil {
				sum += info.Size()
			}
		}
		return nil
	})
	const mebi = 1 << 20
	return fmt.Sprintf("%.1f MiB", float64(sum)/mebi)
}
