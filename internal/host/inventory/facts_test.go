package inventory

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzTools: whatever processes call themselves, and whatever a kernel's tools print, what
// is made of it is whole: ports that exist, addresses that can be read.
func FuzzTools(f *testing.F) {
	f.Add("tcp LISTEN 0 128 0.0.0.0:22 0.0.0.0:* users:((\"sshd\",pid=1,fd=3)) ino:1 sk:1 cgroup:/system.slice/ssh.service\n"+
		"udp UNCONN 0 0 [fe80::1]%eth0:546 [::]:* v6only:1\ntcp LISTEN 0 1 *:443 *:*\n",
		"tcp      6 431999 ESTABLISHED src=10.0.0.1 dst=10.0.0.2 sport=1 dport=22 src=10.0.0.2 dst=10.0.0.1 sport=22 dport=1 [ASSURED] "+
			"mark=0 use=1\n",
		[]byte(`[{"ifname": "eth0", "flags": ["UP"], "addr_info": [{"local": "2001:db8::1", "prefixlen": 64, "scope": "global"}]}, {}]`))
	f.Add("tcp LISTEN 0 1 [::1]:70000 x\ntcp LISTEN 0 1 :: :\n", "udp 17 src=::1 sport=-4 dst=\n",
		[]byte(`[{"ifname": "e", "addr_info": [{"local": "10.0.0.1", "prefixlen": 99, "scope": "global"}]}]`))
	f.Fuzz(func(t *testing.T, sockets, tracked string, addresses []byte) {
		for _, l := range readListeners(sockets, sockets) {
			require.True(t, l.Port >= 0 && l.Port < 1<<16, l.Port)
			if l.Address != "" {
				require.True(t, netip.MustParseAddr(l.Address).IsValid())
			}
		}
		for _, c := range readTracked(tracked) {
			for _, p := range []int{c.original.sport, c.original.dport, c.reply.sport, c.reply.dport} {
				require.True(t, p >= 0 && p < 1<<16, p)
			}
			c.asNew(map[netip.Addr]string{}, nil)
		}
		interfaces, _ := readInterfaces(addresses)
		for _, i := range interfaces {
			for _, a := range i.Addresses {
				require.True(t, a.IsValid(), a)
			}
		}
	})
}
