package cli

import (
	"cmp"
	"errors"
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/internal/host"
)

// here is this host, for the commands that run on one.
type here struct {
	app       *app
	name, dir string // flags
	said      string // the name as the flag has it
	machine   host.Machine
	identity  *host.Identity
	svc       *client.Client // nil where none is named and none is needed
}

// onHost adds the flags of a command that runs on a host.
func (a *app) onHost(c *cobra.Command) *here {
	h := &here{app: a}
	c.Flags().StringVar(&h.name, "host", "", "this host's name in the fleet, if it is not enrolled and the name is not the machine's")
	c.Flags().StringVar(&h.dir, "state", "", "the folder where this host keeps its state (YFENCE_STATE; "+host.StateDir+")")
	return h
}

// find finds out who this host is and who serves it.
func (h *here) find() (err error) {
	a := h.app
	h.said = h.name
	if h.machine.Dir, err = filepath.Abs(cmp.Or(h.dir, a.getenv("YFENCE_STATE"), host.StateDir)); err != nil {
		return err
	}
	if err := h.machine.Resume(); err != nil { // a change that waits for its keep may have nobody who watches it
		a.say("yfence: %s", err)
	}
	if h.identity, err = h.machine.Identity(); err != nil {
		return err
	}
	if h.name == "" && h.identity != nil {
		h.name = h.identity.Host
	}
	if h.name == "" && h.identity == nil {
		var last followed
		if err := h.machine.ReadFile(followedFile, &last); err != nil {
			return err
		}
		h.name = last.Host
	}
	if h.name == "" {
		if h.name, err = os.Hostname(); err != nil {
			return err
		}
	}
	server, token, err := a.address()
	if err != nil {
		return err
	}
	if h.identity != nil { // what is said explicitly counts more
		server, token = cmp.Or(server, h.identity.Server), cmp.Or(token, h.identity.Token)
	}
	if server == "" || token == "" {
		return nil
	}
	authorities, err := a.authorities()
	if err != nil {
		return err
	}
	if authorities == nil && h.identity != nil && h.identity.CA != "" {
		authorities = []byte(h.identity.CA)
	}
	h.svc, err = a.client(server, token, authorities)
	return err
}

// errNoService is what is said where a service is needed.
var errNoService = errors.New("this host is not enrolled (yfence attend --enrol FILE), and no service is named: give --server URL and " +
	"--token-file FILE")

// service finds this host, and that it has a service.
func (h *here) service() (*client.Client, error) {
	if err := h.find(); err != nil {
		return nil, err
	}
	if h.svc == nil {
		return nil, errNoService
	}
	return h.svc, nil
}

// services are the addresses at which this host finds the service.
func (h *here) services() (out []netip.AddrPort) {
	if h.svc == nil {
		return nil
	}
	u, err := url.Parse(h.svc.URL())
	if err != nil {
		return nil
	}
	port := cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
	names, err := net.LookupHost(u.Hostname())
	if err != nil {
		return nil
	}
	for _, name := range names {
		if at, err := netip.ParseAddrPort(net.JoinHostPort(name, port)); err == nil {
			out = append(out, at)
		}
	}
	return out
}
