package inventory

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"syscall"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/nft"
)

// ToolTime bounds how long one of the kernel's tools may take.
const ToolTime = 30 * time.Second

// InForce is all that is in force now, without what counters stand at, and that.
func InForce(ctx context.Context) (f api.InForce, counts []api.Count, err error) {
	listing, err := Run(ctx, nil, "nft", "-j", "list", "ruleset")
	if err != nil {
		return f, nil, err
	}
	text, err := Run(ctx, nil, "nft", "-a", "list", "ruleset") // it says what the other form leaves out
	if err != nil {
		return f, nil, err
	}
	counts = countsOf(listing)
	listing = counted.ReplaceAll(listing, []byte(`"packets": 0, "bytes": 0`))
	text = countedText.ReplaceAll(text, []byte("packets 0 bytes 0"))
	f.Dumps = append(f.Dumps, api.Dump{Kind: nft.ListingJSON, Text: string(listing)}, api.Dump{Kind: nft.ListingText, Text: string(text)})
	others, more, err := otherTools(ctx, listing)
	if err != nil {
		return f, nil, err
	}
	f.Dumps, counts = append(f.Dumps, others...), append(counts, more...)
	routed, err := routes(ctx, f.Dumps)
	if err != nil {
		return f, nil, err
	}
	f.Dumps = append(f.Dumps, routed...)
	// A listing that cannot be read has no names, and is the service's to tell.
	if f.Names, err = names(listing, others); err != nil {
		f.Names = nil
	} else if f.Names.Links, err = links(ctx, listing); err != nil {
		return f, nil, err
	}
	return f, counts, nil
}

// What counters say differs from listing to listing; the sum that tells whether anything
// changed leaves it out.
var (
	counted     = regexp.MustCompile(`"packets": \d+, "bytes": \d+`)
	countedText = regexp.MustCompile(`\bpackets \d+ bytes \d+`)
)

// ourTable is where our rules for nft stand.
const ourTable = nft.Family + " " + nft.Table

// countsOf is what the counters of a listing stand at: those of rules, and named ones.
func countsOf(listing []byte) (out []api.Count) {
	var l struct {
		All []struct {
			Table *struct {
				Family, Name string
				Handle       int
			}
			Rule, Counter *struct {
				Family, Table, Chain, Name, Comment string
				Handle                              int
				Packets, Bytes                      int64
				Expr                                []struct{ Counter json.RawMessage }
			}
		} `json:"nftables"`
	}
	if !bytes.Contains(listing, []byte(`"counter"`)) || json.Unmarshal(listing, &l) != nil {
		return nil
	}
	load := "" // a table that is loaded again has another handle: the kernel gives each once
	for _, o := range l.All {
		if t := o.Table; t != nil && t.Family+" "+t.Name == ourTable {
			load = fmt.Sprintf("%s %d", ourTable, t.Handle)
		}
		if c := o.Counter; c != nil {
			out = append(out, api.Count{At: fmt.Sprintf("%s %s counter %s", c.Family, c.Table, c.Name), Packets: c.Packets, Bytes: c.Bytes})
		}
		if o.Rule == nil {
			continue
		}
		for _, e := range o.Rule.Expr {
			var n struct{ Packets, Bytes int64 }
			if e.Counter != nil && json.Unmarshal(e.Counter, &n) == nil { // else it is a named one
				c := api.Count{At: fmt.Sprintf("%s %s/%s handle %d", o.Rule.Family, o.Rule.Table, o.Rule.Chain, o.Rule.Handle),
					Packets: n.Packets, Bytes: n.Bytes}
				if o.Rule.Family+" "+o.Rule.Table == ourTable {
					c.By, c.Chain, c.Of = o.Rule.Comment, o.Rule.Chain, load // the comment of a rule of ours is its statement
				}
				out = append(out, c)
				break
			}
		}
	}
	return out
}

// Run runs one of the kernel's tools with a text on its standard input, and gives what it printed. Its
// time is bounded; the error says what the tool said, or which package has it where it is missing.
func Run(ctx context.Context, stdin []byte, name string, args ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, ToolTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin = bytes.NewReader(stdin)
	cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL} // what it would change when it goes on is too late
	cmd.Env = append(os.Environ(), "TZ=UTC")                           // nft reads and lists times in its caller's zone
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	switch {
	case errors.Is(err, exec.ErrNotFound):
		inPackage := map[string]string{"nft": "nftables", "ipset": "ipset", "ip": "iproute2", "ss": "iproute2",
			"conntrack": "conntrack"}[name]
		return nil, fmt.Errorf("%s is not installed on this host (Debian's package %s)", name, cmp.Or(inPackage, "iptables"))
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return nil, fmt.Errorf("%s %s did not end within %s", name, strings.Join(args, " "), ToolTime)
	case err != nil:
		return nil, fmt.Errorf("%s %s failed: %w: %s", name, strings.Join(args, " "), err, strings.TrimSpace(errOut.String()))
	}
	return out.Bytes(), nil
}
