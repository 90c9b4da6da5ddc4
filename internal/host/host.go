// Package host is what runs on a host: it reads what the kernel has in force
// and puts rules in force.
package host

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"time"

	"yellowfence.example/yfence/internal/api"
)

// toolTime bounds how long one of the kernel's tools may take.
const toolTime = 30 * time.Second

// Report reads what is in force on this host. A tool that is missing, fails or
// hangs is an error: it must not be taken for a host without rules.
func (m *Machine) Report(ctx context.Context, name string) (api.Report, error) {
	r := api.Report{Version: api.Version, Host: name, TakenAt: time.Now().UTC()}
	listing, err := tool(ctx, nil, "nft", "-j", "list", "ruleset")
	if err != nil {
		return r, err
	}
	r.Dumps = append(r.Dumps, api.Dump{Kind: "nft-json", Text: string(listing)})
	others, err := otherTools(ctx, listing)
	if err != nil {
		return r, err
	}
	r.Dumps = append(r.Dumps, others...)
	routed, err := routes(ctx, r.Dumps)
	if err != nil {
		return r, err
	}
	r.Dumps = append(r.Dumps, routed...)
	// A listing that cannot be read has no names, and is the service's to tell.
	if r.Names, err = names(listing, others); err != nil {
		r.Names = nil
	}
	r.Tools, r.Around = versions(ctx), surroundings(ctx, m)
	return r, nil
}

func tool(ctx context.Context, stdin []byte, name string, args ...string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, toolTime)
	defer cancel()
	cmd := exec.CommandContext(ctx, name, args...)
	cmd.Stdin = bytes.NewReader(stdin)
	cmd.Env = append(os.Environ(), "TZ=UTC") // nft reads and lists times in its caller's zone
	var out, errOut bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	switch {
	case errors.Is(err, exec.ErrNotFound):
		inPackage := map[string]string{"nft": "nftables", "ipset": "ipset"}[name]
		return nil, fmt.Errorf("%s is not installed on this host (Debian's package %s)", name, cmp.Or(inPackage, "iptables"))
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return nil, fmt.Errorf("%s %s did not end within %s", name, strings.Join(args, " "), toolTime)
	case err != nil:
		return nil, fmt.Errorf("%s %s failed: %w: %s", name, strings.Join(args, " "), err, strings.TrimSpace(errOut.String()))
	}
	return out.Bytes(), nil
}
