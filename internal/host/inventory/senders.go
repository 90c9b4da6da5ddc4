package inventory

import (
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// names says of a listing which users its numbers are, and which of those that
// our rules ask for this host does not have.
func names(listing []byte, others []api.Dump) (*kernel.Names, error) {
	asked, err := nft.Asked(listing)
	if err != nil {
		return nil, err
	}
	// Numbers that any of the listings asks for, whichever tool made it.
	for _, d := range others {
		users, groups := iptables.Asked(d.Text)
		asked.Users, asked.Groups = append(asked.Users, users...), append(asked.Groups, groups...)
	}
	// Which names these are on this host. One that has none is left out: it is known by its number.
	n := told{&kernel.Names{Users: map[string]int{}}}
	for _, number := range asked.Groups {
		if g, err := user.LookupGroupId(strconv.Itoa(number)); err == nil {
			if n.Groups == nil {
				n.Groups = map[string]int{}
			}
			n.Groups[g.Name] = number
		}
	}
	for _, number := range asked.Users {
		if u, err := user.LookupId(strconv.Itoa(number)); err == nil {
			n.Users[u.Username] = number
		}
	}
	if len(asked.Control) > 0 { // nft lists those by their path that are there
		there := groupNumbers()
		for _, number := range asked.Control {
			if path, ok := there[number]; ok {
				if n.Control == nil {
					n.Control = map[int]string{}
				}
				n.Control[number] = path
			} else if there != nil {
				n.Gone = append(n.Gone, number)
			}
		}
	}
	// The other way round, whom rules of ours name, and whether the host has them.
	for _, s := range asked.Senders {
		n.look(s.Sender)
	}
	for _, d := range others {
		for _, s := range iptables.SendersOf(d.Text) {
			n.look(s)
		}
	}
	// The number that stands for somebody the host does not have.
	if slices.Contains(asked.Users, iptables.Nobody) {
		n.Absent = append(n.Absent, fmt.Sprintf("user user number %d", iptables.Nobody))
	}
	return n.Names, nil
}

// told is names as they are found out.
type told struct{ *kernel.Names }

// look looks for one that rules of ours ask for.
func (n told) look(s packet.Sender) {
	f, ok := Find(s)
	switch who := s.String(); {
	case !ok && !slices.Contains(n.Absent, who):
		n.Absent = append(n.Absent, who)
	case ok && s.Kind == packet.ByUser:
		n.Users[s.Name], _ = strconv.Atoi(f.Element)
	}
}

// Known is what a host knows a sender by: a user's number, or the path of a unit's
// control group with the folder where the kernel shows such and how deep below it lies.
type Known struct {
	Element, Root string
	level         int
}

// Filling is it as nft has it.
func (k Known) Filling() nft.Filling {
	if k.Root == "" {
		return nft.Filling{Element: k.Element}
	}
	below, _ := filepath.Rel(cgroupRoot, filepath.Join(k.Root, k.Element)) // which root is below
	return nft.Filling{Element: fmt.Sprintf("%q", below), Level: k.level}
}

// Find looks up what this host knows a user or a unit by; ok is false where it has none of that
// name. Units are those of the system's own manager.
func Find(s packet.Sender) (k Known, ok bool) {
	if s.Kind == packet.ByUser {
		u, err := user.Lookup(s.Name)
		if err != nil {
			return k, false
		}
		return Known{Element: u.Uid}, true
	}
	for _, root := range controlGroups() {
		_ = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.IsDir() {
				return nil // one that ended meanwhile
			}
			below, err := filepath.Rel(root, path)
			if err != nil {
				return fs.SkipDir
			}
			if d.Name() != s.Name || below == "." {
				if kernel.SystemSlice(below) {
					return nil
				}
				return fs.SkipDir // whoever makes groups below names them as he likes
			}
			level := strings.Count(strings.TrimPrefix(path, root), "/")
			if !ok || level < k.level {
				k, ok = Known{below, root, level}, true
			}
			return fs.SkipDir
		})
	}
	return k, ok
}

// groupNumbers are the paths of the control groups there are, as nft tells them, by
// their numbers; nil where they cannot be seen.
func groupNumbers() (there map[int]string) {
	for _, root := range controlGroups() {
		if there == nil {
			there = map[int]string{}
		}
		_ = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				var st unix.Stat_t
				if unix.Stat(path, &st) == nil {
					below, _ := filepath.Rel(cgroupRoot, path)
					there[int(st.Ino)] = below // a control group's number is its folder's
				}
			}
			return nil
		})
	}
	return there
}

// cgroupRoot is the folder from which nft takes the paths of control groups.
const cgroupRoot = "/sys/fs/cgroup"

// controlGroups are the folders in which the kernel shows control groups of version 2.
func controlGroups() (roots []string) {
	mounts, err := os.ReadFile("/proc/self/mounts")
	if err != nil {
		return nil
	}
	for _, line := range strings.Split(string(mounts), "\n") {
		if f := strings.Fields(line); len(f) > 2 && f[2] == "cgroup2" && strings.HasPrefix(f[1], cgroupRoot) {
			roots = append(roots, f[1])
		}
	}
	return roots
}
