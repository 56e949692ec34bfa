package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"orenda/internal/app"
	"orenda/internal/call"
	"orenda/internal/draw"
	"orenda/internal/exchange"
	"orenda/internal/identity"
	"orenda/internal/journal/disk"
	"orenda/internal/muster"
	"orenda/internal/safe"
	"orenda/internal/standin"
	"orenda/internal/user"
	"orenda/internal/workspace"
)

func (t *commandLine) demoCommand() *cobra.Command {
	var dir string
	var headless bool
	cmd := &cobra.Command{
		Use:     "demo",
		Example: "  orenda demo\n  orenda demo --headless",
		Short:   "The stand-ins, a fresh workspace on them, and the application",
		Args:    cobra.NoArgs,
		Long: "Starts the Skerry Harbour Trust inside, makes a demo workspace in a temporary\nfolder, opens the " +
			"application on it, and cleans up. With --headless it runs the\nwhole story without a screen: calls, " +
			"failures, repairs, drawings.",
	}
	cmd.Flags().StringVar(&dir, "dir", "", "folder for the demo (kept; default: a temporary one)")
	cmd.Flags().BoolVar(&headless, "headless", false, "run the story without a screen")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error { return t.demo(cmd.Context(), dir, headless) }
	return cmd
}

func (t *commandLine) demo(ctx context.Context, dir string, headless bool) error {
	if dir == "" {
		tmp, err := os.MkdirTemp("", "orenda-demo-")
		if err != nil {
			return unread{err}
		}
		if !headless { // the drawings of the story are kept
			defer os.RemoveAll(tmp)
		}
		dir = tmp
	} else if _, err := os.Stat(filepath.Join(dir, "workspace", workspace.File)); err == nil {
		return unread{fmt.Errorf("%s holds a demo already", dir)}
	}
	h, err := standin.Start(standin.Options{})
	if err != nil {
		return unread{err}
	}
	defer h.Close()
	home := &user.Home{Config: filepath.Join(dir, "config"), State: filepath.Join(dir, "state")}
	w, err := demoWorkspace(ctx, h, filepath.Join(dir, "workspace"), home)
	if err != nil {
		return unread{err}
	}
	j, err := disk.Open(home.State)
	if err != nil {
		return unread{err}
	}
	defer j.Close()
	if !headless {
		t.lingers.Add(1)
		_, err := app.Run(ctx, app.Options{Home: home, Workspace: w, Journal: j, Version: Version, Story: true})
		return err
	}
	t.folders, t.kept = home, nil
	return t.story(ctx, w, j, dir)
}

// demoWorkspace makes the workspace of the harbour's agency, with what is
// wrong in it left in.
func demoWorkspace(
	ctx context.Context,
	h *standin.Harbour,
	dir string,
	home *user.Home,
) (*workspace.Workspace, error) {
	secret := filepath.Join(home.Config, "pilot-desk.secret")
	if err := user.WriteFile(secret, []byte(standin.Password)); err != nil {
		return nil, err
	}
	if err := home.SaveIdentity(identity.Identity{Name: "pilot-desk", User: standin.User, Secret: "file:" + secret,
		Note: "the agency's name at the harbour"}); err != nil {
		return nil, err
	}
	clerk, err := h.Desk.Clerk("Ines Hallam")
	if err != nil {
		return nil, err
	}
	certificate := filepath.Join(home.Config, "manifest-clerk.pem")
	if err := user.WriteFile(certificate, clerk); err != nil {
		return nil, err
	}
	if err := home.SaveIdentity(identity.Identity{Name: "manifest-clerk", Certificate: certificate,
		Note: "signs the agency's manifests"}); err != nil {
		return nil, err
	}
	w := workspace.New("Skerry Harbour Trust", home)
	names := map[string]string{}
	for _, path := range demoContracts {
		f, err := call.Fetch(ctx, "http://"+h.Plain+"/"+path+"?wsdl", call.Plan{Agent: call.Agent}, nil)
		if err != nil {
			return nil, err
		}
		if names[path], err = w.AddContract(f.Contract, f.Served); err != nil {
			return nil, err
		}
	}
	if err := w.SaveTo(dir); err != nil {
		return nil, err
	}
	file := filepath.Join(dir, workspace.File)
	text := fmt.Sprintf(
		demoSettings,
		h.Plain,
		h.TLS,
		h.Plain,
		names["berths"],
		names["berths"],
		names["berths"],
		names["tides"],
		names["tides"],
		names["pilots"],
		names["dues"],
		names["manifests"],
	)
	head := "name = \"Skerry Harbour Trust\"\ndefault-environment = \"model\"\n"
	for _, path := range demoContracts {
		head += fmt.Sprintf(
			"\n[contract.%s]\nsource = \"http://%s/%s?wsdl\"\nserved = \"%s\"\n",
			names[path],
			h.Plain,
			path,
			h.Plain,
		)
	}
	if err := user.WriteFile(file, []byte(head+text)); err != nil {
		return nil, err
	}
	if w, err = workspace.Open(dir, home); err != nil {
		return nil, err
	}
	return w, demoDrafts(w, names)
}

// demoContracts are the descriptions of the demo, by their paths.
//
//nolint:gochecknoglobals // a table: it is never written to
var demoContracts = []string{"berths", "tides", "pilots", "dues", "manifests"}

const demoSettings = `
# Where the harbour's model runs. Names of variables are case-sensitive.
[environment.model]
berthHost = "%s"
tidehost = "%s"
pilotHost = "%s"

[environment.production]
berthHost = "berths.skerry.test"
pilotHost = "pilots.skerry.test"

# The limits of the agency's own program: it refuses what is larger, and
# insists that both limits are the same.
[profile.harbour-11]
receive-limit = 65536
buffer-limit = 65536
strict-buffer = true

[endpoint.berths-11]
contract = "%s"
port = "BerthDesk11"
address = "http://${berthHost}/berths"

[endpoint.berths-12]
contract = "%s"
port = "BerthDesk12"
address = "http://${berthHost}/berths12"

[endpoint.berths-tls]
contract = "%s"
port = "BerthDeskTLS"
address = "https://${tidehost}/berths"

[endpoint.tides]
contract = "%s"
port = "TideTables"
address = "http://${berthHost}/tides"
profile = "harbour-11"

[endpoint.tides-tls]
contract = "%s"
port = "TideTablesTLS"
address = "https://${tideHost}/tides"
profile = "harbour-11"

[endpoint.pilots]
contract = "%s"
port = "PilotOrders"
address = "http://${pilotHost}/pilots"

[endpoint.dues]
contract = "%s"
port = "HarbourDues"
address = "http://${berthHost}/dues"

[endpoint.manifests]
contract = "%s"
port = "Manifests"
address = "http://${berthHost}/manifests"
`

func demoDrafts(w *workspace.Workspace, names map[string]string) error {
	for _, d := range w.Drafts() {
		if err := w.DropDraft(d); err != nil {
			return err
		}
	}
	for _, d := range []struct{ contract, portType, op, name, xml string }{
		{"berths", "BerthDesk", "FindBerths", "small craft", "<FindBerths xmlns=\"urn:skerry:berths\">\n  " +
			"<length>12.5</length>\n</FindBerths>\n"},
		{"berths", "BerthDesk", "FindBerths", "deep draught", "<FindBerths xmlns=\"urn:skerry:berths\">\n  " +
			"<length>60</length>\n  <draught>6.5</draught>\n</FindBerths>\n"},
		{"berths", "BerthDesk", "ReserveBerth", "two nights", "<ReserveBerth xmlns=\"urn:skerry:berths\">\n  " +
			"<berth>N02</berth>\n  <vessel>\n    <name>Alder</name>\n    <callSign>SKAL4</callSign>\n  </vessel>\n  " +
			"<nights>2</nights>\n  <account>HT-207</account>\n</ReserveBerth>\n"},
		{"berths", "BerthDesk", "LogSighting", "in the roads", "<LogSighting xmlns=\"urn:skerry:berths\">\n  " +
			"<vessel>\n    <name>Alder</name>\n    <callSign>SKAL4</callSign>\n  </vessel>\n  " +
			"<at>2027-03-01T06:40:00Z</at>\n</LogSighting>\n"},
		{"tides", "TideTables", "YearTable", "Skerry 2027", "<YearTable xmlns=\"urn:skerry:tides\">\n  " +
			"<station>Skerry Sound</station>\n  <year>2027</year>\n  <datum>chart datum</datum>\n  <heights>\n    " +
			"<unit>metre</unit>\n  </heights>\n</YearTable>\n"},
		{"tides", "TideTables", "DayTable", "first of March", "<DayTable xmlns=\"urn:skerry:tides\">\n  " +
			"<station>Skerry Sound</station>\n  <day>2027-03-01</day>\n</DayTable>\n"},
		{"pilots", "PilotOrders", "OrderPilot", "Alder inbound", "<OrderPilot xmlns=\"urn:skerry:pilots\">\n  " +
			"<callSign>SKAL4</callSign>\n  <boarding>outer ground</boarding>\n  " +
			"<at>2027-03-01T08:00:00Z</at>\n</OrderPilot>\n"},
		{"dues", "Dues", "Assess", "Alder lands salt", "<Assess xmlns=\"urn:skerry:dues\">\n  <vessel>\n    " +
			"<name>Alder</name>\n    <callSign>SKAL4</callSign>\n    <grossTonnage>1200</grossTonnage>\n  " +
			"</vessel>\n  <nights>3</nights>\n  <cargo xmlns:xsi=\"http://www.w3.org/2001/XMLSchema-instance\" " +
			"xmlns:d=\"urn:skerry:dues\" xsi:type=\"d:Bulk\">\n    <goods>salt</goods>\n    <tonnes>10.5</tonnes>\n  " +
			"</cargo>\n  <cargo xmlns:xsi=\"http://www.w3.org/2001/XMLSchema-instance\" xmlns:d=\"urn:skerry:dues\" " +
			"xsi:type=\"d:Containers\">\n    <goods>nets</goods>\n    <count>2</count>\n    <length>20 ft</length>\n " +
			" </cargo>\n  <rebate>home fleet</rebate>\n  <remark " +
			"xmlns:xsi=\"http://www.w3.org/2001/XMLSchema-instance\" xsi:nil=\"true\"/>\n</Assess>\n"},
		{"dues", "Dues", "Pay", "first invoice", "<Pay xmlns=\"urn:skerry:dues\">\n  <invoice>D-1000</invoice>\n  " +
			"<amount>216.13</amount>\n  <cash>true</cash>\n</Pay>\n"},
		{"manifests", "Manifests", "FileManifest", "Alder lands salt", "<FileManifest " +
			"xmlns=\"urn:skerry:manifests\">\n  <callSign>SKAL4</callSign>\n  <line>\n    <goods>salt</goods>\n    " +
			"<tonnes>10.5</tonnes>\n  </line>\n  <line>\n    <goods>nets</goods>\n    <tonnes>2</tonnes>\n  " +
			"</line>\n</FileManifest>\n"},
	} {
		if err := w.WriteDraft(workspace.DraftRef{Contract: names[d.contract], PortType: d.portType, Operation: d.op,
			Name: d.name}, []byte(d.xml)); err != nil {
			return err
		}
	}
	dues := workspace.DraftRef{
		Contract:  names["dues"],
		PortType:  "Dues",
		Operation: "Assess",
		Name:      "Alder lands salt",
	}
	if err := w.WriteHeader(dues, []byte("<headers>\n  <Clerk xmlns=\"urn:skerry:dues\">\n    <name>Ines "+
		"Hallam</name>\n    <desk>quay</desk>\n  </Clerk>\n</headers>\n")); err != nil {
		return err
	}
	if err := user.WriteFile(filepath.Join(w.Dir(), muster.Folder, "harbour.toml"), []byte(harbourCases)); err != nil {
		return err
	}
	return w.SetNote(
		names["dues"],
		"Assess",
		"vessel/callSign",
		"a hyphen and a letter mean a tender; it pays nothing",
	)
}

// harbourCases is the muster of the demo: two of its cases come back otherwise than expected.
const harbourCases = `# Cases of the harbour, with what each must come back with.

[[case]]
name = "a berth for small craft"
draft = "FindBerths/small craft"
endpoint = "berths-11"
expect = ["count(berth)>=1", "valid", "within=2s"]

[[case]]
name = "a berth for deep draught"
draft = "FindBerths/deep draught"
endpoint = "berths-11"
expect = ["count(berth)>=3"]

[[case]]
name = "the same over SOAP 1.2"
draft = "FindBerths/deep draught"
endpoint = "berths-12"
expect = ["count(berth)=2", "valid"]

[[case]]
name = "a berth that is held already"
draft = "ReserveBerth/two nights"
endpoint = "berths-11"
expect = ["fault*=held already"]

[[case]]
name = "tides of the first of March"
draft = "DayTable/first of March"
endpoint = "tides"
expect = ["valid", "size<=64KiB"]

[[case]]
name = "a berth over TLS"
draft = "FindBerths/small craft"
endpoint = "berths-tls"
expect = ["valid"]
`

// story runs the yearly tide table from its first failure to its answer, each
// repair being the remedy that is offered.
func (t *commandLine) story(ctx context.Context, w *workspace.Workspace, j *disk.Journal, dir string) error {
	ref, err := w.FindDraft("YearTable/Skerry 2027")
	if err != nil {
		return unread{err}
	}
	var changes []exchange.Change
	// The stand-ins are Orenda's own: everything may be trusted and told there.
	repairs, err := newRepairing([]string{"trust", "secrecy", "log-in", "message", "repeats"})
	if err != nil {
		return err
	}
	for attempt := 1; attempt <= maxRepairs; attempt++ {
		p, err := w.Plan(ref, "tides-tls", "")
		if err != nil {
			return unread{err}
		}
		p.History, p.Changes = j, changes
		x := call.New(p, nil).Run(ctx)
		if err := j.Add(x); err != nil {
			return unread{err}
		}
		fmt.Fprintf(t.out, "attempt %d  %s  %s  %s\n", attempt, t.letters(x.Ticks()), x.Ending(), safe.Line(x.Result))
		for _, s := range exchange.Stages {
			st := x.Stage(s)
			if st.State == exchange.Waiting {
				break
			}
			fmt.Fprintf(
				t.out,
				"    %2d %-9s %-9s %-9s %s\n",
				s,
				s,
				st.State,
				exchange.Took(st.DurationNs),
				safe.Line(st.Note),
			)
		}
		name := filepath.Join(dir, fmt.Sprintf("attempt-%d", attempt))
		for _, ending := range []string{".svg", ".pdf"} {
			if err := keepDrawing(draw.Path(x), name+ending); err != nil {
				return err
			}
		}
		if x.Outcome == exchange.OutcomePassed {
			fmt.Fprintf(
				t.out,
				"\nthe answer came at attempt %d; drawings of all attempts: %s\n",
				attempt,
				filepath.Join(dir, "attempt-*.svg, .pdf"),
			)
			return nil
		}
		r, _ := repairs.next(x)
		if r == nil {
			return errors.Join(status(x.StoppedAt.ExitCode()))
		}
		f := x.Findings[0]
		fmt.Fprintf(t.out, "    why     %s (%s)\n", safe.Line(f.Title), f.ID)
		for _, l := range wrap(safe.Line(f.Why), 84) {
			fmt.Fprintf(t.out, "            %s\n", l)
		}
		fmt.Fprintf(t.out, "    repair  %s\n", safe.Line(r.Title))
		for _, c := range r.All() {
			fmt.Fprintf(t.out, "            %s\n", safe.Line(cutTo(c.String(), 100)))
		}
		fmt.Fprintln(t.out, strings.Repeat(" ", 4))
		if _, _, err := applyRemedy(w, ref, r.All()); err != nil {
			return unread{err}
		}
		changes = r.All()
	}
	return status(exitNo)
}
