package kernel

import (
	"maps"
	"slices"
)

// Links are a host's interfaces whose packets come over others, by name: all other interfaces stand
// for themselves. Nil is links that nobody told.
type Links map[string]Link

// A Link is an interface whose packets come over others.
type Link struct {
	Bridge bool     `json:"bridge,omitempty" doc:"it is a bridge: whatever is made part of it carries its packets"`
	Over   []string `json:"over,omitempty" doc:"the interfaces that its packets come over"`
}

// Over is the interfaces whose packets may come over some devices.
func (l Links) Over(devices []string) (names []string) {
	for _, name := range slices.Sorted(maps.Keys(l)) {
		seen := map[string]bool{}
		var carried func(name string) bool
		carried = func(name string) bool {
			if seen[name] {
				return false
			}
			seen[name] = true
			return l[name].Bridge || slices.ContainsFunc(l[name].Over,
				func(below string) bool { return slices.Contains(devices, below) || carried(below) })
		}
		if !slices.Contains(devices, name) && carried(name) {
			names = append(names, name)
		}
	}
	return names
}

// Bridges are the interfaces that are bridges.
func (l Links) Bridges() (names []string) {
	for _, name := range slices.Sorted(maps.Keys(l)) {
		if l[name].Bridge {
			names = append(names, name)
		}
	}
	return names
}
