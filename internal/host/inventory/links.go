package inventory

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"slices"

	"yellowfence.example/yfence/core/kernel"
)

// carrying are the kinds of interfaces whose packets come over the one that they are made on, or over those that are
// made part of them.
var carrying = []string{"vlan", "macvlan", "macvtap", "ipvlan", "ipvtap", "macsec", "hsr"}

// links asks which interfaces carry others', where a listing has chains by which that matters:
// those of bridges, and of devices. It is nil where nothing asks for it.
func links(ctx context.Context, listing []byte) (kernel.Links, error) {
	asked := slices.ContainsFunc([]string{`"family": "bridge"`, `"family": "netdev"`, `"hook": "ingress"`},
		func(s string) bool { return bytes.Contains(listing, []byte(s)) })
	if _, err := exec.LookPath("ip"); err != nil || !asked {
		return nil, nil // what depends on them stays uncertain
	}
	out, err := Run(ctx, nil, "ip", "-json", "-details", "link", "show")
	if err != nil {
		return nil, err
	}
	var all []struct {
		Name     string `json:"ifname"`
		Link     string `json:"link"`
		Master   string `json:"master"`
		LinkInfo struct {
			Kind string `json:"info_kind"`
		} `json:"linkinfo"`
	}
	if err := json.Unmarshal(out, &all); err != nil {
		return nil, fmt.Errorf("ip link show: %w", err)
	}
	found := kernel.Links{"lo": {}} // so that it says that somebody has looked
	for _, one := range all {
		kind := one.LinkInfo.Kind
		switch {
		case slices.Contains(carrying, kind):
			found[one.Name] = kernel.Link{Over: []string{one.Link}}
		case slices.Contains([]string{"bridge", "openvswitch", "vrf"},
			kind): // of what comes and goes as parts of it the next report need not tell
			found[one.Name] = kernel.Link{Bridge: true}
		}
	}
	for _, one := range all {
		if master, is := found[one.Master]; one.Master != "" && (!is || !master.Bridge) { // of several lines made one
			master.Over = append(master.Over, one.Name)
			found[one.Master] = master
		}
	}
	return found, nil
}
