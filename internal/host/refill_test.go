package host_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/host/apply"
)

// TestRulesFollowAUnitThatStartsAnew in both dialects: what it sends is admitted again,
// and what somebody added meanwhile stays.
func TestRulesFollowAUnitThatStartsAnew(t *testing.T) {
	root := controlGroups()
	for _, c := range []struct {
		dialect string
		files   func(unit string) []api.File
		add     func(m *machine)
		list    []string
		passed  *regexp.Regexp // how many packets of the unit were admitted
		added   string
	}{
		{"nft", func(unit string) []api.File {
			return nftFile(fmt.Sprintf("table inet yellowfence\ndelete table inet yellowfence\n\ntable inet yellowfence {\n\tset "+
				"from.unit {\n\t\ttypeof socket cgroupv2 level 2\n\t\tcomment \"unit %s\"\n\t}\n\n"+
				"\tchain outbound {\n\t\ttype filter hook output priority filter; policy drop;\n\t\tsocket cgroupv2 level 2 @from.unit "+
				"counter accept\n\t}\n}\n", unit))
		}, func(m *machine) {
			require.NoError(m, m.ns.Load("add rule inet yellowfence outbound udp dport 53 accept\n"))
		}, []string{"nft", "list", "table", "inet", "yellowfence"}, regexp.MustCompile(`counter packets (\d+)`), "udp dport 53 accept"},
		{"iptables", func(unit string) []api.File {
			return []api.File{{Kind: "iptables",
				Text: fmt.Sprintf("*filter\n:yf-outbound - [0:0]\n-A yf-outbound -m cgroup --path %[1]s -m comment --comment \"allow x; "+
					"from unit %[1]s\" -j ACCEPT\n-A yf-outbound -j DROP\nCOMMIT\n", unit)}}
		}, func(m *machine) {
			_, err := m.ns.Run(nil, "iptables", "-I", "yf-outbound", "-p", "udp", "--dport", "53", "-j", "ACCEPT")
			require.NoError(m, err)
		}, []string{"iptables-save", "-c"}, regexp.MustCompile(`\[(\d+):\d+\] -A yf-outbound -m cgroup`), "--dport 53 -j ACCEPT"},
	} {
		t.Run(c.dialect, func(t *testing.T) {
			m := newMachine(t)
			require.NoError(t, m.ns.IP("link set lo up"))
			unit := fmt.Sprintf("refill%d%s.service", os.Getpid(), c.dialect)
			slice := filepath.Join(root, fmt.Sprintf("yfrefill%d%s.slice", os.Getpid(), c.dialect))
			group := filepath.Join(slice, unit)
			begin := func() { require.NoError(t, os.MkdirAll(group, 0o755)) }
			end := func() { require.NoError(t, os.Remove(group)) }
			t.Cleanup(func() { _ = os.Remove(group); _ = os.Remove(slice) })
			in := func(f func() error) { t.Helper(); require.NoError(t, m.ns.Do(f)) }
			passed := func() int {
				out, err := m.ns.Run(nil, c.list[0], c.list[1:]...)
				require.NoError(t, err)
				n, err := strconv.Atoi(c.passed.FindStringSubmatch(string(out))[1])
				require.NoError(t, err)
				return n
			}
			send := func() (admitted int) {
				before := passed()
				in(func() error {
					return exec.Command("bash", "-c", "echo $$ > "+group+"/cgroup.procs; echo x > /dev/udp/127.0.0.1/9; true").Run()
				})
				return passed() - before
			}
			begin()
			in(func() error { _, err := apply.Load(context.Background(), c.files(unit)); return err })
			require.Equal(t, 1, send())
			end()
			begin()
			require.Equal(t, 0, send(), "the kernel knows the old one only")
			c.add(m)
			in(func() error { return m.Refill(context.Background()) })
			require.Equal(t, 1, send(), "it is known again")
			out, err := m.ns.Run(nil, c.list[0], c.list[1:]...)
			require.NoError(t, err)
			require.Contains(t, string(out), c.added)
			end()
			in(func() error { return m.Refill(context.Background()) })
			begin()
			in(func() error { return m.Refill(context.Background()) })
			require.Equal(t, 1, send(), "whom the rules had forgotten they know by his name")
		})
	}
}
