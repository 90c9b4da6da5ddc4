package host

import (
	"cmp"
	"context"
	"time"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host/inventory"
)

// Report reads what is in force on this host. A tool that is missing, fails or
// hangs is an error: it must not be taken for a host without rules.
func (m *Machine) Report(ctx context.Context, name string) (r api.Report, err error) {
	r = api.Report{Version: api.Version, Host: name, TakenAt: time.Now().UTC()}
	if r.InForce, r.Counts, err = inventory.InForce(ctx); err != nil {
		return r, err
	}
	_ = m.Count(r.Counts) // nothing is lost where the disk is full: the next one counts from the same place
	root := cmp.Or(m.Root, "/")
	r.Tools, r.Around = inventory.Versions(ctx), inventory.Facts(ctx, root)
	if k, err := m.Kept(); err == nil && k != nil {
		r.Around.Boot.Kept = &k.Change
	}
	m.tellBoot(ctx, root, r.Around.Boot)
	return r, nil
}
