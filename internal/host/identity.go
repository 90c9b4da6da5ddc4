package host

import (
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host/inventory"
)

// An Identity is who a host is to its service: what it got when it enrolled.
type Identity struct {
	Host   string `json:"host"`
	Server string `json:"server"` // the service's URL
	Token  string `json:"token"`
	CA     string `json:"ca,omitempty"` // whose word on the service's certificate counts, in PEM
}

// Identity is who this host is; nil if it is not enrolled.
func (m *Machine) Identity() (id *Identity, err error) {
	err = m.ReadFile("identity.json", &id)
	return id, err
}

// Enrol keeps who this host is now, and whom it trusts. What an earlier service asked for
// and published counts no longer.
func (m *Machine) Enrol(id Identity, keys []api.Key) error {
	if err := m.Ready(); err != nil {
		return err
	}
	for _, name := range []string{DoneFile, settledFile, "reported.json"} {
		if err := os.Remove(m.Path(name)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	if err := m.pin(keys); err != nil {
		return err
	}
	return m.WriteFile("identity.json", id)
}

// Pins are the keys whose word counts on this host.
func (m *Machine) Pins() (keys []api.Key, err error) {
	err = m.ReadFile("pins.json", &keys)
	return keys, err
}

// pin writes down which keys of the service count from now on.
func (m *Machine) pin(keys []api.Key) error {
	for _, k := range keys {
		if k.Public() == nil {
			return fmt.Errorf("%q is no key", k)
		}
	}
	if len(keys) == 0 {
		return errors.New("there is no key to pin")
	}
	return m.WriteFile("pins.json", keys)
}

// Trust takes over the keys of a service if one that this host trusts has signed
// them; a host that trusts none yet trusts these from now on. fresh says that it did.
func (m *Machine) Trust(keys api.Keys) (fresh bool, err error) {
	pins, err := m.Pins()
	if err != nil {
		return false, err
	}
	if len(pins) == 0 {
		if err := m.Ready(); err != nil {
			return false, err
		}
		return true, m.pin(keys.Keys)
	}
	if slices.Equal(pins, keys.Keys) {
		return false, nil
	}
	if err := keys.Verify(publics(pins)); err != nil {
		return false, fmt.Errorf("the service signs with a key that this host does not know: %w; if the service was set up anew, enrol "+
			"the host again", err)
	}
	return false, m.pin(keys.Keys)
}

// publics are keys as they verify.
func publics(keys []api.Key) (out []ed25519.PublicKey) {
	for _, k := range keys {
		out = append(out, k.Public())
	}
	return out
}

// Verify holds something signed against the keys that this host trusts.
func (m *Machine) Verify(signed interface {
	Verify(pins []ed25519.PublicKey) error
}) error {
	pins, err := m.Pins()
	if err != nil {
		return err
	}
	return signed.Verify(publics(pins))
}

// settledFile keeps the newest pair that was ever settled here.
const settledFile = "settled.json"

// settledPair is what is kept on disk of the pair that was put in force last, so that no older
// one can be passed off as new.
type settledPair struct {
	Pair int64 `json:"pair"`
}

// Accept says that rules are those that were asked for: signed by a service that this host
// trusts, for this host, of the kind and the pair that were asked for. Where no pair was asked
// for by a signed task, rules older than any that were settled here are refused: a service
// does not go back by itself.
func (m *Machine) Accept(r api.Rules, host, kind string, pair int64) error {
	if err := m.Verify(r); err != nil {
		return fmt.Errorf("the rules are not to be trusted: %w", err)
	}
	var last settledPair
	if err := m.ReadFile(settledFile, &last); err != nil {
		return err
	}
	kinds := map[string]string{"": "the policy's", "ground": "the ground's", "pause": "a pause's"}
	switch {
	case r.Host != host:
		return fmt.Errorf("these rules are %s's and not %s's: somebody on the way to the service mixes answers up", r.Host, host)
	case r.Kind != kind:
		return fmt.Errorf("these are %s rules, and %s were asked for: somebody on the way to the service mixes answers up", kinds[r.Kind],
			kinds[kind])
	case pair != 0 && r.Pair != pair:
		return fmt.Errorf("these are the rules of pair %d, and those of pair %d were asked for: somebody on the way to the service mixes "+
			"answers up", r.Pair, pair)
	case pair == 0 && r.Pair < last.Pair:
		return fmt.Errorf("these are the rules of pair %d, and pair %d was settled here already: this is an old answer; if the service's "+
			"database was put back, use a wave, or enrol the host again", r.Pair, last.Pair)
	}
	return nil
}

// Settled notes that a pair was settled here.
func (m *Machine) Settled(pair int64) error {
	var last settledPair
	if err := m.ReadFile(settledFile, &last); err != nil || pair <= last.Pair {
		return err
	}
	return m.WriteFile(settledFile, settledPair{pair})
}

// reported is the last report that the service took.
type reported struct {
	Hash   string `json:"hash"`   // as the service told it
	Sum    string `json:"sum"`    // of what it said is in force, as we work it out
	Around string `json:"around"` // of the rest of it

	Counts []api.Count `json:"counts"` // what counters stood at
}

// Short gives a report without those parts that say what the last one said.
func (m *Machine) Short(r api.Report) (short api.Report, ok bool) {
	var last reported
	if m.ReadFile("reported.json", &last) != nil || last.Hash == "" {
		return r, false
	}
	sameRules, sameAround := last.Sum == sumOf(r.InForce), last.Around == sumOf(r.Around)
	if sameRules {
		r.InForce, r.Same = api.InForce{}, last.Hash
		had := map[api.Count]bool{}
		for _, c := range last.Counts {
			had[c] = true
		}
		r.Counts = slices.DeleteFunc(slices.Clone(r.Counts), func(c api.Count) bool {
			c.By, c.Chain, c.Of = "", "", "" // which are not kept
			return had[c]
		})
	}
	if sameAround {
		r.Around = nil
	}
	return r, sameRules || sameAround
}

// Reported keeps under which hash the service knows what a report said.
func (m *Machine) Reported(r api.Report, hash string) {
	if m.Ready() == nil {
		_ = m.WriteFile("reported.json", reported{hash, sumOf(r.InForce), sumOf(r.Around), r.Counts}) // else the next one is sent in full
	}
}

// maxSpooled is how many reports wait for the service; of more the oldest go, but
// for the very first, which tells when it began.
const maxSpooled = 200

// Spool keeps a report that could not be sent, on disk.
func (m *Machine) Spool(r api.Report) error {
	if err := m.Ready(); err != nil {
		return err
	}
	dir := filepath.Join(m.Dir, "spool")
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	names, err := m.spooled()
	if err != nil {
		return err
	}
	for ; len(names) >= maxSpooled; names = slices.Delete(names, 1, 2) {
		_ = os.Remove(filepath.Join(dir, names[1]))
	}
	if len(names) > 0 { // one that says what the last one said is not needed
		var last api.Report
		if m.ReadFile(filepath.Join("spool", names[len(names)-1]), &last) == nil && sumOf(last.InForce) == sumOf(r.InForce) {
			return nil
		}
	}
	return m.WriteFile(filepath.Join("spool", fmt.Sprintf("%020d.json", r.TakenAt.UnixNano())), r)
}

// spooled are the reports that could not be sent yet, the oldest first.
func (m *Machine) spooled() (names []string, err error) {
	entries, err := os.ReadDir(filepath.Join(m.Dir, "spool"))
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	for _, e := range entries {
		if filepath.Ext(e.Name()) == ".json" {
			names = append(names, e.Name())
		}
	}
	return names, err // by name, which is by time
}

// Unspool hands the reports that wait to send, the oldest first, until one cannot be sent.
func (m *Machine) Unspool(send func(api.Report) error) error {
	names, err := m.spooled()
	if err != nil {
		return err
	}
	for _, name := range names {
		var r api.Report
		if err := m.ReadFile(filepath.Join("spool", name), &r); err == nil && r.Host != "" {
			if err := send(r); err != nil {
				return err
			}
		} // else the disk was full when it was written, and nobody can read it
		if err := os.Remove(filepath.Join(m.Dir, "spool", name)); err != nil {
			return err
		}
	}
	return nil
}

// sumOf is a sum of a part of a report: a part that is as it was is not sent again.
func sumOf(part any) string {
	body, _ := json.Marshal(part)
	return inventory.Sum(body)
}

// DoneFile keeps which tasks were done.
const DoneFile = "done.json"
