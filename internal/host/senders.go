package host

import (
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"yellowfence.example/yfence/core/dialect/iptables"
	"yellowfence.example/yfence/core/dialect/nft"
	"yellowfence.example/yfence/internal/api"
)

// names says of a listing which users its numbers are, and which of those that
// our rules ask for this host does not have.
func names(listing []byte, others []api.Dump) (*nft.Names, error) {
	asked, err := nft.Asked(listing)
	if err != nil {
		return nil, err
	}
	for _, d := range others {
		users, groups := iptables.Asked(d.Text)
		asked.Users, asked.Groups = append(asked.Users, users...), append(asked.Groups, groups...)
	}
	n := &nft.Names{Users: map[string]int{}}
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
			if there != nil && !there[number] {
				n.Gone = append(n.Gone, number)
			}
		}
	}
	for _, s := range asked.Senders {
		f, ok := find(s)
		switch {
		case !ok:
			n.Absent = append(n.Absent, s.Kind+" "+s.Name)
		case s.Kind == "user":
			n.Users[s.Name], _ = strconv.Atoi(f.Element)
		}
	}
	return n, nil
}

// find looks up what this host knows a user or a unit by; ok is false where it has none of that name.
func find(s nft.Sender) (f nft.Filling, ok bool) {
	if s.Kind == "user" {
		u, err := user.Lookup(s.Name)
		if err != nil {
			return f, false
		}
		return nft.Filling{Element: u.Uid}, true
	}
	for _, root := range controlGroups() {
		_ = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.IsDir() {
				return nil // one that ended meanwhile
			}
			if d.Name() != s.Name {
				return nil
			}
			level := strings.Count(strings.TrimPrefix(path, root), "/")
			if below, err := filepath.Rel(cgroupRoot, path); err == nil && (!ok || level < f.Level) {
				f, ok = nft.Filling{Element: fmt.Sprintf("%q", below), Level: level}, true
			}
			return fs.SkipDir
		})
	}
	return f, ok
}

// groupNumbers are the numbers of the control groups there are, nil where they cannot be seen.
func groupNumbers() (there map[int]bool) {
	for _, root := range controlGroups() {
		if there == nil {
			there = map[int]bool{}
		}
		_ = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				var st unix.Stat_t
				if unix.Stat(path, &st) == nil {
					there[int(st.Ino)] = true // a control group's number is its folder's
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
