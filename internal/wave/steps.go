package wave

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/fleet"
)

// Steps lays hosts out in the steps of a wave. sizes says how many hosts are settled by the
// end of each step, as a number or as a share ("10%"); the last step takes the rest. Without
// sizes the first step is one host of each set of roles, the second goes up to a tenth.
func Steps(hosts []*fleet.Host, sizes []string) (steps [][]*fleet.Host, err error) {
	var order []*fleet.Host // one of each set of roles first
	seen, first := map[string]bool{}, map[*fleet.Host]bool{}
	for _, h := range hosts {
		if roles := strings.Join(h.Roles, " "); !seen[roles] {
			seen[roles], first[h] = true, true
			order = append(order, h)
		}
	}
	ends := []int{len(order), (len(hosts) + 9) / 10}
	order = append(order, slices.DeleteFunc(slices.Clone(hosts), func(h *fleet.Host) bool { return first[h] })...)
	if sizes != nil {
		ends = nil
	}
	for _, size := range sizes {
		n, err := strconv.Atoi(strings.TrimSuffix(size, "%"))
		if err != nil || n < 1 {
			return nil, fmt.Errorf("%q is no size of a step: say a number of hosts, or a share as 10%%", size)
		}
		if strings.HasSuffix(size, "%") {
			n = (len(order)*n + 99) / 100
		}
		ends = append(ends, n)
	}
	done := 0
	for _, end := range append(ends, len(order)) {
		if end = min(end, len(order)); end > done {
			steps = append(steps, order[done:end])
			done = end
		}
	}
	return steps, nil
}

// LayOut adds hosts to a wave that begins, step by step; of gives what of a host is settled:
// its own filter, its instance's groups.
func LayOut(w api.Wave, steps [][]*fleet.Host, of func(*fleet.Host) []api.WaveHost) api.Wave {
	w.Steps = len(steps)
	for i, step := range steps {
		for _, h := range step {
			for _, one := range of(h) {
				one.Step = i + 1
				w.Hosts = append(w.Hosts, one)
			}
		}
	}
	return w
}
