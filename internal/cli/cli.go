package cli

import (
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/source"
)

// Exit codes, as diff and grep have them.
const (
	exitNothing = 0 // nothing to report
	exitFound   = 1 // something was found
	exitTrouble = 2 // bad usage, unreadable input, no server
)

// errFound ends a command that found something and has told it.
var errFound = errors.New("something was found")

// told ends a command that could not answer, because of problems that it has told.
type told []source.Problem

// Error is what is said of problems that were told one by one.
func (told) Error() string { return "there are problems that must be mended first" }

// app is one run of the program.
type app struct {
	// set by flags
	output    string
	policyDir string
	fleetFile string
	server    string
	tokenFile string
	caFile    string
	complete  bool // the dumps given are all there is

	command     *cobra.Command // that is run
	stdin       io.Reader
	out, errOut *shown
	raw         io.Writer // for what is no text for people: protocols between programs
	getenv      func(string) string
}

// Main runs the program and gives its exit code.
func Main(args []string, stdin io.Reader, out, errOut io.Writer, getenv func(string) string) int {
	a := &app{stdin: stdin, raw: out, getenv: getenv}
	a.out, a.errOut = a.show(out), a.show(errOut)
	a.errOut.json = func() bool { return false }
	defer a.out.flush()
	defer a.errOut.flush()
	root := a.root()
	root.SetArgs(args)
	root.SetIn(stdin)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(context.Background())
	switch {
	case err == nil:
		return exitNothing
	case errors.Is(err, errFound):
		return exitFound
	}
	var problems told
	if errors.As(err, &problems) {
		if a.output == "json" && !a.out.wrote {
			_ = a.print(map[string]any{"version": api.Version, "error": err.Error(), "problems": []source.Problem(problems)}, nil)
		}
		return exitTrouble
	}
	said := err.Error()
	var authority x509.UnknownAuthorityError
	var name x509.HostnameError
	switch {
	case errors.As(err, &authority) && a.caFile == "":
		said += "; if the authority is your own, give its certificate with --ca-file FILE"
	case errors.As(err, &authority):
		said += "; it is not of the authorities in " + a.caFile
	case errors.As(err, &name):
		said += "; name the service as its certificate does"
	}
	_, _ = fmt.Fprintf(a.errOut, "yfence: %s\n", said)
	if a.output == "json" && !a.out.wrote { // one document stands there, whatever happens
		_ = a.print(map[string]any{"version": api.Version, "error": said}, nil)
	}
	return exitTrouble
}

// root makes the program: all commands, in groups, with the options that many have.
func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "yfence",
		Short: "Firewall policy for fleets",
		Long: `Yellow Fence keeps one policy for a fleet of hosts grouped by role, writes it as
each host's packet filter rules, and finds where what is in force differs.

Begin with yfence new DIR: a small policy that is sound as it is, and says what its lines are for.

On files: in a policy's folder, with its fleet in fleet.json, fleet.yaml or fleet.csv
there, nothing need be said; else give --policy and --fleet. On a running service, give
--server and --token-file, or set YFENCE_SERVER and YFENCE_TOKEN.`,
		SilenceErrors: true,
		SilenceUsage:  true,
		PersistentPreRunE: func(cmd *cobra.Command, args []string) error {
			a.command = cmd
			if err := refuseForeign(cmd); err != nil {
				return err
			}
			if a.output == "sarif" && cmd.Name() == "check" {
				return a.locate(cmd, args)
			}
			if a.output != "text" && a.output != "json" {
				return fmt.Errorf("--output is text or json, not %q", a.output)
			}
			return a.locate(cmd, args)
		},
	}
	f := root.PersistentFlags()
	f.StringVar(&a.output, "output", "text", "text, or json: one document on standard output")
	f.StringVar(&a.policyDir, "policy", "", "the policy: a folder of .fence files")
	f.StringVar(&a.fleetFile, "fleet", "", "the fleet file, - for standard input")
	f.StringVar(&a.server, "server", "", "the URL of the service (YFENCE_SERVER)")
	f.StringVar(&a.tokenFile, "token-file", "", "a file with the token for the service (else YFENCE_TOKEN)")
	f.StringVar(&a.caFile, "ca-file", "", "CA certificates to verify the service with, a file (YFENCE_CA_FILE; default: the system's)")
	_ = root.MarkPersistentFlagDirname("policy")
	_ = root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"text", "json"}, cobra.ShellCompDirectiveNoFileComp))
	for _, g := range []struct {
		id, title string
		commands  []*cobra.Command
	}{
		{"policy", "What a policy says, on files or with the service:",
			[]*cobra.Command{a.newCommand(), a.checkCommand(), a.tidyCommand(), a.askCommand(), a.compareCommand(), a.rulesCommand(),
				a.driftCommand(), a.liveCommand(), a.adoptCommand(), a.lspCommand()}},
		{"service", "With the service:", []*cobra.Command{a.attentionCommand(), a.reachCommand(), a.publishCommand(),
			a.proposeCommand(), a.proposalsCommand(),
			a.revisionsCommand(), a.wavesCommand(), a.fleetCommand(),
			a.listsCommand(), a.probeCommand(), a.listenersCommand(), a.connectionsCommand(), a.trafficCommand(), a.copiesCommand(),
			a.pastCommand(), a.cloudsCommand(),
			a.pauseCommand(),
			a.resumeCommand(), a.tokensCommand(), a.loginCommand(), a.logoutCommand(), a.peopleCommand(), a.recordCommand(),
			a.eventsCommand(),
			a.serveCommand(), a.configCommand(), a.storeCommand()}},
		{"host", "On a host, as root:", []*cobra.Command{a.settleCommand(), a.keepCommand(), a.undoCommand(), a.reportCommand(),
			a.attendCommand(), a.unitsCommand(), a.bootCommand(), a.refillCommand(), a.watchdogCommand(), a.rehearseCommand()}},
	} {
		root.AddGroup(&cobra.Group{ID: g.id, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = g.id
			root.AddCommand(c)
		}
	}
	root.AddCommand(a.versionCommand())
	for _, c := range root.Commands() {
		wantSubcommand(c)
	}
	root.SetHelpCommand(a.helpCommand())
	exampled(root)
	helpOwn(root)
	a.completions(root)
	return root
}

// wantSubcommand has a command that only holds others refuse what is none of them.
func wantSubcommand(c *cobra.Command) {
	if c.Runnable() || !c.HasSubCommands() {
		return
	}
	c.Args = cobra.ArbitraryArgs
	c.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return cmd.Help()
		}
		hint := ""
		if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
			hint = fmt.Sprintf("; did you mean %q?", near[0])
		}
		return fmt.Errorf("%q is no command of yfence %s%s; yfence %s --help lists them", args[0], cmd.Name(), hint, cmd.Name())
	}
}

// listing has a noun alone list what there is, as a command that does would.
func listing(noun, list *cobra.Command) *cobra.Command {
	if _, args, takes := strings.Cut(list.Use, " "); takes {
		noun.Use += " " + args
	}
	noun.Long, noun.Example, noun.Args, noun.RunE, noun.ValidArgsFunction = list.Long, list.Example, list.Args, list.RunE,
		list.ValidArgsFunction
	noun.Flags().AddFlagSet(list.Flags())
	return noun
}

// service is a client of the service that flags, environment or config file name.
func (a *app) service() (*client.Client, error) {
	server, token, err := a.address()
	if err != nil {
		return nil, err
	}
	if server == "" {
		return nil, errors.New("no service is named: give --server URL (or set YFENCE_SERVER)" + otherwise(a.command))
	}
	if token == "" {
		return nil, errors.New("no token is given: name a file that holds it with --token-file, set YFENCE_TOKEN, or sign in with yfence " +
			"login")
	}
	authorities, err := a.authorities()
	if err != nil {
		return nil, err
	}
	c, err := a.client(server, token, authorities)
	if err != nil {
		return nil, err
	}
	return c.Insist(3), nil // what a person does is done once, also where the connection breaks
}

// print writes text, or v as a JSON document if that is asked for.
func (a *app) print(v any, text func(io.Writer)) error {
	if a.output == "json" {
		enc := json.NewEncoder(a.out)
		enc.SetEscapeHTML(false)
		enc.SetIndent("", "  ")
		a.out.wrote = true
		return enc.Encode(v)
	}
	text(a.out)
	return nil
}

// say writes a message, which is never part of the output.
func (a *app) say(format string, args ...any) {
	_, _ = fmt.Fprintf(a.errOut, format+"\n", args...)
}

// readFile reads a file, or standard input if its name is -.
func (a *app) readFile(name string) ([]byte, error) {
	if name == "-" {
		return readBounded("standard input", a.stdin)
	}
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	return readBounded(name, file)
}

// maxInput is how much is read of a file or of standard input, in bytes.
const maxInput = 256 << 20

// readBounded reads all of something, maxInput at most.
func readBounded(name string, r io.Reader) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(r, maxInput+1))
	if err == nil && len(data) > maxInput {
		err = fmt.Errorf("%s is longer than the %d MiB that are read", name, maxInput>>20)
	}
	return data, err
}

// readRegular reads a file that was found and not named: what is no plain file may never end.
func readRegular(root *os.Root, name string) ([]byte, error) {
	file, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer func() { _ = file.Close() }()
	if info, err := file.Stat(); err != nil {
		return nil, err
	} else if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s is no plain file", filepath.Join(root.Name(), name))
	}
	return readBounded(name, file)
}
