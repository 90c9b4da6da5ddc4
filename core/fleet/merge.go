package fleet

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
)

// Merge is old with the hosts of add put over it: hosts of the same name are
// replaced, others added; none goes. Where add names a service, it counts.
func Merge(old, add *Fleet) *Fleet {
	out := &Fleet{Service: old.Service, Hosts: slices.Clone(old.Hosts)}
	if len(add.Service.Addresses) > 0 {
		out.Service = add.Service
	}
	at := make(map[string]int, len(out.Hosts))
	for i, h := range out.Hosts {
		at[h.Name] = i
	}
	for _, h := range add.Hosts {
		if i, known := at[h.Name]; known {
			out.Hosts[i] = h
		} else {
			at[h.Name] = len(out.Hosts)
			out.Hosts = append(out.Hosts, h)
		}
	}
	return out
}

// A Change is one thing that tells two fleets apart.
type Change struct {
	Kind string `json:"kind" enum:"added,removed,changed"`
	Host string `json:"host,omitempty" doc:"empty where it is about the service"`
	What string `json:"what" doc:"in words"`
}

// Changes lists what is different in new, by host.
func Changes(old, new *Fleet) (out []Change) {
	if !reflect.DeepEqual(old.Service, new.Service) {
		out = append(out, Change{"changed", "", fmt.Sprintf("the service: %s, was %s", service(new.Service), service(old.Service))})
	}
	was, is := old.Index(), new.Index()
	for _, h := range new.Hosts {
		before := was[h.Name]
		if before == nil {
			out = append(out, Change{"added", h.Name, describe(h)})
			continue
		}
		for _, f := range []struct {
			what     string
			now, was string
		}{
			{"roles", strings.Join(h.Roles, ", "), strings.Join(before.Roles, ", ")},
			{"dialect", h.Dialect, before.Dialect},
			{"interfaces", interfaces(h), interfaces(before)},
			{"seen as", fmt.Sprint(h.SeenAs), fmt.Sprint(before.SeenAs)},
			{"floating", fmt.Sprint(h.Floating), fmt.Sprint(before.Floating)},
			{"instance", instance(h.Instance), instance(before.Instance)},
			{"own console", fmt.Sprint(h.OwnConsole), fmt.Sprint(before.OwnConsole)},
		} {
			if f.now != f.was {
				out = append(out, Change{"changed", h.Name, fmt.Sprintf("%s: %s, was %s", f.what, f.now, f.was)})
			}
		}
	}
	for _, h := range old.Hosts {
		if is[h.Name] == nil {
			out = append(out, Change{"removed", h.Name, describe(h)})
		}
	}
	return out
}

// instance is an instance as a difference says it: its cloud, name and labels.
func instance(i *Instance) string {
	if i == nil {
		return "none"
	}
	text := i.Cloud + " " + i.ID
	for _, k := range slices.Sorted(maps.Keys(i.Labels)) {
		text += fmt.Sprintf(" %s=%s", k, i.Labels[k])
	}
	return text
}

// service is where the service is, as a difference says it.
func service(s Service) string {
	if len(s.Addresses) == 0 {
		return "none"
	}
	return fmt.Sprintf("%v port %d", s.Addresses, s.Port)
}

// describe is a host in one line: its roles and its interfaces.
func describe(h *Host) string { return strings.Join(h.Roles, ", ") + "; " + interfaces(h) }

// interfaces are a host's interfaces in one line, with addresses and segments.
func interfaces(h *Host) string {
	parts := make([]string, len(h.Interfaces))
	for i, n := range h.Interfaces {
		addresses := make([]string, len(n.Addresses))
		for j, a := range n.Addresses {
			addresses[j] = a.String()
		}
		parts[i] = strings.TrimSpace(n.Name + " " + strings.Join(addresses, " "))
		if n.Segment != "" {
			parts[i] += " on " + n.Segment
		}
		if n.Dynamic {
			parts[i] += " dynamic"
		}
	}
	return strings.Join(parts, ", ")
}
