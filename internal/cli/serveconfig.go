package cli

import (
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/source"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
)

// maxConfig is how long the service's configuration may be, in bytes.
const maxConfig = 1 << 20

// serviceConfig is what the configuration of the service says besides the options of serve.
type serviceConfig struct {
	Approvals    approve.Rules
	Destinations []service.Destination
	SignIn       *service.SignIn
}

// A Setting is one of the service's, and where it comes from.
type Setting struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	From  string `json:"from" doc:"option, variable, file or built in"`
}

// variableOf is the variable that a setting of serve may be given by.
func variableOf(name string) string {
	return "YFENCE_SERVE_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

// configured gives a command's options what the variables and a configuration file say of them; what is
// typed counts first, then variables, then the file. It tells where each comes from.
func (a *app) configured(flags *pflag.FlagSet, file string) (c serviceConfig, all []Setting, err error) {
	said, err := a.configFile(file)
	if err != nil {
		return c, nil, err
	}
	from := map[string]string{}
	flags.VisitAll(func(f *pflag.Flag) {
		if err != nil || f.Name == "config" || f.Name == "help" {
			return
		}
		value, inFile := said[f.Name]
		variable := a.getenv(variableOf(f.Name))
		switch from[f.Name] = "built in"; {
		case f.Changed:
			from[f.Name] = "option"
		case variable != "":
			from[f.Name] = "variable " + variableOf(f.Name)
			err = setFlag(flags, f, variable, variableOf(f.Name))
		case inFile:
			from[f.Name] = file
			err = setFlag(flags, f, value, file)
		}
		delete(said, f.Name)
	})
	if err != nil {
		return c, nil, err
	}
	if rules, ok := said["approvals"]; ok {
		if c.Approvals, err = readApprovals(file, rules); err != nil {
			return c, nil, err
		}
		delete(said, "approvals")
		for i, r := range c.Approvals {
			value := fmt.Sprintf("%s: %s", r.When, approve.Need{People: r.People, Holding: r.Holding})
			all = append(all, Setting{fmt.Sprintf("approvals, rule %d", i+1), value, file})
		}
	}
	if to, ok := said["events"]; ok {
		if c.Destinations, err = readDestinations(file, to); err != nil {
			return c, nil, err
		}
		delete(said, "events")
		for _, d := range c.Destinations {
			value := d.URL
			if d.Secret != nil {
				value += ", signed"
			}
			if len(d.Only) > 0 {
				value += ", only " + strings.Join(d.Only, " ")
			}
			all = append(all, Setting{"events, to " + d.Name, value, file})
		}
	}
	if how, ok := said["sign-in"]; ok {
		if c.SignIn, err = readSignIn(file, how); err != nil {
			return c, nil, err
		}
		delete(said, "sign-in")
		all = append(all, Setting{"sign-in", fmt.Sprintf("through %s as %s", c.SignIn.Issuer, c.SignIn.ClientID), file})
	}
	for key := range said {
		return c, nil, unknownSetting(flags, file, key)
	}
	flags.VisitAll(func(f *pflag.Flag) {
		if from[f.Name] != "" {
			all = append(all, Setting{f.Name, f.Value.String(), from[f.Name]})
		}
	})
	slices.SortFunc(all, func(x, y Setting) int { return strings.Compare(x.Name, y.Name) })
	return c, all, nil
}

// unknownSetting says that there is no such setting, and which may be meant.
func unknownSetting(flags *pflag.FlagSet, file, key string) error {
	names := []string{"approvals", "events", "sign-in"}
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Name != "config" && f.Name != "help" {
			names = append(names, f.Name)
		}
	})
	hint := ""
	if near := source.Nearest(key, names); near != "" {
		hint = fmt.Sprintf("; did you mean %q?", near)
	}
	return fmt.Errorf("%s: there is no setting %q%s\nits settings are approvals, events, sign-in, and the options of yfence serve, "+
		"without the "+
		"dashes "+
		"before them",
		file, key, hint)
}

// configFile reads the file's settings as they stand; nothing where no file is named.
func (a *app) configFile(file string) (said map[string]any, err error) {
	said = map[string]any{}
	if file == "" {
		return said, nil
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	text, err := io.ReadAll(io.LimitReader(f, maxConfig+1))
	if err == nil && len(text) > maxConfig {
		err = fmt.Errorf("%s is longer than the %d kB that are read", file, maxConfig>>10)
	}
	if err != nil {
		return nil, err
	}
	if err := yaml.Unmarshal(text, &said); err != nil {
		return nil, fmt.Errorf("%s: %w\nit is written as YAML, a setting a line: report-every: 1m", file, err)
	}
	return said, nil
}

// setFlag gives an option what a variable or the file says: a word, or a list of them.
func setFlag(flags *pflag.FlagSet, f *pflag.Flag, value any, where string) error {
	words := []any{value}
	if list, is := value.([]any); is {
		words = list
	}
	for _, w := range words {
		switch w.(type) {
		case map[string]any, []any, nil:
			return fmt.Errorf("%s: %s takes a word, or a list of words", where, f.Name)
		}
		if err := flags.Set(f.Name, fmt.Sprint(w)); err != nil {
			return fmt.Errorf("%s: %s: %w", where, f.Name, errors.Unwrap(err))
		}
	}
	return nil
}

// readApprovals reads which changes need whose approval.
func readApprovals(file string, said any) (rules approve.Rules, err error) {
	text, err := yaml.Marshal(said)
	if err == nil {
		err = yaml.UnmarshalWithOptions(text, &rules, yaml.Strict())
	}
	if err != nil {
		return nil, fmt.Errorf("%s: approvals is a list, each with when, people and holding, as\n"+
			"approvals:\n  - {when: opens-to-strangers, people: 2, holding: [gate]}", file)
	}
	if err := rules.Check(); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return rules, nil
}

// mostDestinations is how many there may be.
const mostDestinations = 20

// readDestinations reads where events are delivered to.
func readDestinations(file string, said any) (to []service.Destination, err error) {
	var list []struct {
		Name       string   `yaml:"name"`
		URL        string   `yaml:"url"`
		SecretFile string   `yaml:"secret-file"`
		Only       []string `yaml:"only"`
		Internal   bool     `yaml:"internal"`
	}
	text, err := yaml.Marshal(said)
	if err == nil {
		err = yaml.UnmarshalWithOptions(text, &list, yaml.Strict())
	}
	if err != nil {
		return nil, fmt.Errorf("%s: events is a list, each with name, url, and if wanted secret-file, only and internal, as\n"+
			"events:\n  - {name: pager, url: https://pager.example/hook, secret-file: /etc/yfence/pager, only: [host.state]}\n"+
			"(a secret stands in a file of its own)", file)
	}
	if len(list) > mostDestinations {
		return nil, fmt.Errorf("%s: events go to %d destinations at most, not %d", file, mostDestinations, len(list))
	}
	seen := map[string]bool{}
	for i, d := range list {
		at := fmt.Sprintf("%s: events: destination %d", file, i+1)
		u, err := url.Parse(d.URL)
		switch {
		case d.Name == "" || len(d.Name) > 63 || strings.Trim(d.Name, "abcdefghijklmnopqrstuvwxyz0123456789-") != "":
			return nil, fmt.Errorf("%s: a name is of small letters, digits and dashes, not %q", at, d.Name)
		case seen[d.Name]:
			return nil, fmt.Errorf("%s: the name %s is another's already", at, d.Name)
		case err != nil || u.Host == "" || u.Scheme != "https" && !(u.Scheme == "http" && d.Internal):
			return nil, fmt.Errorf("%s: url is an https address, as https://pager.example/hook (http only with internal: true)", at)
		case u.User != nil:
			return nil, fmt.Errorf("%s: no secret stands in url; name a file with secret-file", at)
		}
		seen[d.Name] = true
		for _, o := range d.Only {
			if !slices.ContainsFunc(api.EventKinds, func(k api.EventKind) bool { return k.Type == o || strings.HasPrefix(k.Type, o+".") }) {
				return nil, fmt.Errorf("%s: there is no event %q; docs/events.md lists them", at, o)
			}
		}
		one := service.Destination{Destination: store.Destination{Name: d.Name, Only: d.Only}, URL: d.URL, Internal: d.Internal}
		if d.SecretFile != "" {
			text, err := os.ReadFile(d.SecretFile)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", at, err)
			}
			if one.Secret = []byte(strings.TrimSpace(string(text))); len(one.Secret) < 16 {
				return nil, fmt.Errorf("%s: the secret in %s has %d bytes; 16 are the least", at, d.SecretFile, len(one.Secret))
			}
		}
		to = append(to, one)
	}
	return to, nil
}

// readSignIn reads how people sign in.
func readSignIn(file string, said any) (*service.SignIn, error) {
	var in struct {
		Issuer     string                 `yaml:"issuer"`
		ClientID   string                 `yaml:"client-id"`
		SecretFile string                 `yaml:"client-secret-file"`
		URL        string                 `yaml:"url"`
		Groups     string                 `yaml:"groups-claim"`
		Rights     map[string][]api.Right `yaml:"rights"`
	}
	text, err := yaml.Marshal(said)
	if err == nil {
		err = yaml.UnmarshalWithOptions(text, &in, yaml.Strict())
	}
	if err != nil {
		return nil, fmt.Errorf("%s: sign-in has issuer, client-id, url and rights, and if wanted client-secret-file and groups-claim, as\n"+
			"sign-in:\n  issuer: https://id.example\n  client-id: fence\n  url: https://fence.example\n  rights:\n    ops: [read, "+
			"settle]\n"+
			"    gatekeepers: [read, \"approve:gate\"]\n(a secret stands in a file of its own; rights with roles are quoted)", file)
	}
	c := &service.SignIn{Issuer: in.Issuer, ClientID: in.ClientID, URL: strings.TrimSuffix(in.URL, "/"), GroupsClaim: in.Groups,
		Rights: in.Rights}
	if in.SecretFile != "" {
		text, err := os.ReadFile(in.SecretFile)
		if err != nil {
			return nil, fmt.Errorf("%s: sign-in: %w", file, err)
		}
		c.ClientSecret = strings.TrimSpace(string(text))
	}
	if err := c.Check(); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return c, nil
}

// configCommand makes `yfence config`, which has `show` under it.
func (a *app) configCommand() *cobra.Command {
	noun := &cobra.Command{Use: "config", Short: "Which settings the service has, and where each comes from"}
	show := &cobra.Command{
		Use: "show", Short: "Show the settings of the service, and where each comes from: option, variable, file", Args: cobra.NoArgs,
		Long: `Show takes the options that yfence serve takes, and says which settings the service would have with them:
what is typed counts first, then a variable, then the file that --config names.`,
		Example: "  yfence config show --config /etc/yfence/service.yaml",
	}
	var f serveFlags
	f.of(show)
	show.RunE = func(cmd *cobra.Command, _ []string) error {
		_, all, err := a.configured(show.LocalNonPersistentFlags(), f.config)
		if err != nil {
			return err
		}
		return a.print(map[string]any{"version": api.Version, "settings": all}, func(w io.Writer) {
			t := tabwriter.NewWriter(w, 0, 0, 3, ' ', 0)
			_, _ = fmt.Fprintln(t, "SETTING\tVALUE\tFROM")
			for _, s := range all {
				_, _ = fmt.Fprintf(t, "%s\t%s\t%s\n", s.Name, s.Value, s.From)
			}
			_ = t.Flush()
		})
	}
	noun.AddCommand(show, a.configSchemaCommand())
	return noun
}
