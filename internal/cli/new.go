package cli

import (
	"context"
	_ "embed" // the files that a new folder gets
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/adopt"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/host/inventory"
	"yellowfence.example/yfence/internal/live"
)

//go:embed new/policy.fence
var newPolicy string

//go:embed new/fleet.yaml
var newFleet string

// newCommand makes `yfence new`.
func (a *app) newCommand() *cobra.Command {
	var on bool
	var host string
	c := &cobra.Command{
		Use:   "new DIR",
		Short: "Begin a policy: its folder, with a fleet of three hosts, or of this machine",
		Long: `New makes the folder DIR with a small policy and a fleet file, which are sound as they
are and say in comments what each line is for. Change them to what you have. DIR must not
hold anything yet; its name is the policy's.

With --here they are those of the machine that it runs on, as root: its interfaces and
addresses, a guard for where you are logged in from, and for whatever listens a statement that
waits in a comment. Where rules are in force already the policy is made of these, as adopt does.
Nothing is changed.`,
		Example: "  yfence new harbour && yfence check harbour\n  yfence new --here /etc/yfence/policy",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			dir := filepath.Clean(args[0])
			name, err := policyName(dir)
			if err != nil {
				return err
			}
			if there, err := os.ReadDir(dir); err == nil && len(there) > 0 {
				return fmt.Errorf("%s holds %s already: name a folder that is new, or empty", dir, there[0].Name())
			} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return err
			}
			files := map[string]string{"policy.fence": strings.Replace(newPolicy, "policy example ", "policy "+name+" ", 1),
				"fleet.yaml": newFleet}
			next := [][2]string{
				{"yfence check " + dir, "tells what is wrong with it"},
				{"yfence ask --policy " + dir + " 'everywhere -> db : postgresql'", "tells what becomes of traffic"},
				{"yfence rules web-01 --policy " + dir, "prints a host's rules"},
				{"yfence tidy -w " + dir, "lays it out"},
			}
			if on {
				if files["policy.fence"], files["fleet.yaml"], err = a.machine(cmd.Context(), name, host); err != nil {
					return mustBeRoot(err)
				}
				next = [][2]string{
					{"yfence check " + dir, "tells what is wrong with it"},
					{"yfence settle --policy " + dir, "puts it in force; it is undone unless you keep it"},
					{"yfence keep", "over a new log-in: it stays"},
					{"yfence drift --here", "tells whether it is still in force"},
				}
			}
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return err
			}
			made := []string{filepath.Join(dir, "policy.fence"), filepath.Join(dir, "fleet.yaml")}
			for _, file := range made {
				if err := os.WriteFile(file, []byte(files[filepath.Base(file)]), 0o644); err != nil {
					return err
				}
			}
			return a.print(map[string]any{"version": api.Version, "files": made}, func(w io.Writer) {
				_, _ = fmt.Fprintf(w, "wrote %s and %s; what is next:\n\n", made[0], made[1])
				wide := 0
				for _, n := range next {
					wide = max(wide, len(n[0]))
				}
				for _, n := range next {
					_, _ = fmt.Fprintf(w, "  %-*s  %s\n", wide, n[0], n[1])
				}
			})
		},
	}
	c.Flags().BoolVar(&on, "here", false, "of the machine that this runs on, without a service")
	c.Flags().StringVar(&host, "host", "", "with --here, the machine's name in the fleet file, if that is not its own")
	return c
}

// machine makes the policy and the fleet file of this machine: of the rules that are in force, or
// where nothing filters, of what listens and who is logged in.
func (a *app) machine(ctx context.Context, name, host string) (text, fleetText string, err error) {
	if host == "" {
		if host, err = os.Hostname(); err != nil {
			return "", "", err
		}
		host = strings.ToLower(host)
	}
	// What the machine is: without its addresses or listeners a first policy would be a guess.
	seen := inventory.Facts(ctx, "/")
	for _, what := range []string{"interfaces", "listeners"} {
		if why := seen.Untold[what]; why != "" {
			return "", "", fmt.Errorf("the machine's %s are not known: %s", what, why)
		}
	}
	m := adopt.Machine{Name: host, Dialect: "nft", Interfaces: []fleet.Interface{}, Listeners: seen.Listeners}
	for _, i := range seen.Interfaces {
		if len(i.Addresses) > 0 {
			m.Interfaces = append(m.Interfaces, fleet.Interface{Name: i.Name, Addresses: i.Addresses})
		}
	}
	// What filters already, and who is logged in: over that connection the way in is.
	f, _, err := inventory.InForce(ctx)
	if err != nil {
		return "", "", err
	}
	sockets, err := inventory.OpenSockets()
	if err != nil {
		return "", "", err
	}
	for _, c := range sockets.LogIns() {
		m.LogIns = append(m.LogIns, adopt.LogIn{Local: c.Local, Remote: c.Remote})
	}
	bare := false
	if err := reading(f, func(_ *packet.Space, rs *kernel.Ruleset) { bare = rs.Bare() }); err != nil {
		return "", "", err
	}
	// Where nothing filters, a policy to begin with; else one that says what is in force.
	text, fl := adopt.Begin(name, m)
	if !bare {
		h := *fl.Hosts[0]
		r, err := adopt.Policy(&fleet.Fleet{Hosts: []*fleet.Host{&h}}, name, []adopt.Host{{Name: h.Name,
			Read: func(sp *packet.Space) (*kernel.Ruleset, error) { return live.Read(sp, f) }}}, time.Now().Unix())
		if err != nil {
			return "", "", err
		}
		text, fl = r.Text, r.Fleet
		left := ""
		if len(r.Left) > 0 {
			left = fmt.Sprintf("; %s that it does not say stand at its end", plural(len(r.Left), "difference"))
		}
		a.say("the policy is made of the rules that are in force: %s%s", plural(r.Lines, "statement"), left)
	}
	data, err := fleet.Write(fl, fleet.YAML)
	return text, string(data), err
}

// noName is what cannot stand in a policy's name.
var noName = regexp.MustCompile(`[^a-z0-9]+`)

// policyName is a name made of a folder's.
func policyName(dir string) (string, error) {
	whole, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	name := strings.Trim(noName.ReplaceAllString(strings.ToLower(filepath.Base(whole)), "-"), "-0123456789")
	if name = name[:min(len(name), 60)]; name == "" {
		return "", errors.New("a policy has its folder's name, and this one holds no letter: name the folder as the policy is to be called")
	}
	if !fence.IsName(name) { // a word of the language
		name += "-1"
	}
	return name, nil
}
