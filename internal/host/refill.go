package host

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/internal/host/apply"
	"yellowfence.example/yfence/internal/host/inventory"
)

// The kernel knows a unit by a control group that goes when the unit ends; when it
// starts anew it has another. Rules that ask for it then ask for the old one, until
// they are told.

// Refill tells rules of ours that are in force which users and units there are now.
// Nothing else about them changes.
func (m *Machine) Refill(ctx context.Context) error {
	if err := m.Ready(); err != nil {
		return err
	}
	unlock, err := m.lock()
	if err != nil {
		return err // what is being loaded asks for them as they are now
	}
	defer unlock()
	err = refillNFT(ctx)
	for _, name := range apply.Tools {
		err = errors.Join(err, refillSaved(ctx, name))
	}
	return err
}

// refillNFT fills the sets of our table anew with what the host knows users and units by.
func refillNFT(ctx context.Context) error {
	listing, err := inventory.Run(ctx, nil, "nft", "-j", "list", "ruleset")
	if err != nil {
		return err
	}
	asked, err := nft.Asked(listing)
	if err != nil || len(asked.Senders) == 0 {
		return err
	}
	text, err := inventory.Run(ctx, nil, "nft", "list", "ruleset")
	if err != nil {
		return err
	}
	script := ""
	for _, s := range asked.Senders {
		script += fmt.Sprintf("flush set %s %s\n", strings.TrimPrefix(apply.OwnTable, "table "), s.Set)
		f, ok := inventory.Find(s.Sender)
		if !ok {
			continue
		}
		fill := f.Filling()
		if fill.Level != 0 && !strings.Contains(string(text), fmt.Sprintf("socket cgroupv2 level %d @%s ", fill.Level, s.Set)) {
			err = errors.Join(err, fmt.Errorf("%s %s lies elsewhere than when the rules were loaded: settle this host again", s.Kind,
				s.Name))
			continue
		}
		script += fmt.Sprintf("add element %s %s { %s }\n", strings.TrimPrefix(apply.OwnTable, "table "), s.Set, fill.Element)
	}
	_, failed := inventory.Run(ctx, []byte(script), "nft", "-f", "-")
	return errors.Join(err, failed)
}

// refillSaved writes our rules of one family anew with that, where they name anybody.
func refillSaved(ctx context.Context, name string) error {
	family, kind, _ := strings.Cut(name, "-")
	if names, _ := os.ReadFile("/proc/thread-self/net/" + strings.TrimSuffix(family, "tables") + "_tables_names"); kind == "legacy" &&
		len(strings.TrimSpace(string(names))) == 0 {
		return nil
	}
	saved, err := inventory.Run(ctx, nil, name+"-save", "-c")
	if err != nil {
		return nil // the host has not got it
	}
	ours := iptables.OursIn(iptables.Before(string(saved)))
	if len(iptables.SendersOf(ours)) == 0 {
		return nil
	}
	now := iptables.Refill(ours, func(s packet.Sender) string { f, _ := inventory.Find(s); return f.Element })
	_, err = inventory.Run(ctx, []byte(iptables.Over(now, string(saved))), name+"-restore", "--noflush")
	return err
}

// UnitWatch watches the control groups of UnitWatch that kept rules ask for.
type UnitWatch struct {
	kept  os.FileInfo
	known []knownUnit
	look  time.Time // when those that are not there are looked for again
}

// knownUnit is a unit that rules name, and the control group that it has now.
type knownUnit struct {
	name, path string // the path is "" if it is not there
	number     uint64
}

// Every is how often to look.
func (u *UnitWatch) Every() time.Duration {
	if len(u.known) == 0 {
		return 5 * time.Second
	}
	return time.Second
}

// unitLook is how often a unit is looked for that is not there.
const unitLook = 10 * time.Second

// Changed says that a unit of kept rules came, went or started anew since the last time.
func (u *UnitWatch) Changed(m *Machine) bool {
	file, err := os.Stat(m.Path("kept.json"))
	if err != nil {
		return false
	}
	// Rules that were kept since are read anew: they may ask for other units.
	if u.kept == nil || !os.SameFile(u.kept, file) {
		u.kept, u.known = file, nil
		if k, err := m.Kept(); err == nil && k != nil {
			for _, f := range k.Files {
				var names []string
				for _, s := range nft.SendersOf(f.Text) {
					names = append(names, map[bool]string{true: s.Name}[s.Kind == packet.ByUnit])
				}
				for _, s := range iptables.SendersOf(f.Text) {
					names = append(names, map[bool]string{true: s.Name}[s.Kind == packet.ByUnit])
				}
				for _, name := range names {
					if name != "" && !slices.ContainsFunc(u.known, func(k knownUnit) bool { return k.name == name }) {
						u.known = append(u.known, knownUnit{name: name})
					}
				}
			}
			for i := range u.known {
				u.known[i].find()
			}
		}
		return len(u.known) > 0 // one may have started between the load and the keep
	}
	changed := false
	// A unit that was there is looked at by its group, which costs one call; one that was not is looked
	// for now and then, since nothing says when it starts.
	seek := time.Now().After(u.look)
	for i := range u.known {
		k := &u.known[i]
		var now unix.Stat_t
		there := k.path != "" && unix.Stat(k.path, &now) == nil
		if there && now.Ino == k.number || !there && k.path == "" && !seek {
			continue
		}
		was := *k
		k.find()
		changed = changed || *k != was
	}
	if seek {
		u.look = time.Now().Add(unitLook)
	}
	return changed
}

// find looks the control group up.
func (k *knownUnit) find() {
	k.path, k.number = "", 0
	if f, ok := inventory.Find(packet.Sender{Kind: packet.ByUnit, Name: k.name}); ok {
		var st unix.Stat_t
		if path := filepath.Join(f.Root, f.Element); unix.Stat(path, &st) == nil {
			k.path, k.number = path, st.Ino
		}
	}
}
