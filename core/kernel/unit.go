package kernel

import (
	"path"
	"strings"
)

// UnitOf is the unit that a control group is, by the group's path. Only units of the system's
// own manager are known by their names: all that lies above them are slices, and none of
// those is for users' or for guests' sessions, whose managers name groups as they like. Any
// other group is known by its whole path, which is no unit's name.
func UnitOf(group string) (unit string) {
	if SystemSlice(path.Dir(group)) {
		return path.Base(group)
	}
	return group
}

// SystemSlice says that only the system's manager makes units directly in a control group.
func SystemSlice(group string) bool {
	group = strings.Trim(strings.TrimPrefix(strings.Trim(group, "/"), "unified"), "/") // where both versions are mounted
	if group == "" || group == "." {
		return true
	}
	parts := strings.Split(group, "/")
	if parts[0] == "user.slice" || parts[0] == "machine.slice" {
		return false
	}
	for _, part := range parts {
		if path.Ext(part) != ".slice" {
			return false
		}
	}
	return true
}
