package traffic

import (
	"cmp"
	"slices"
	"strings"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/packet"
)

// A Counter is what the counter of one line of our rules stands at.
type Counter struct {
	Of      string `json:"of"` // the load of rules it belongs to; "" where the kernel has no name for that
	At      string `json:"at"`
	By      string `json:"by"` // whom the line carries out: "allow chart-web"
	Chain   string `json:"chain"`
	Packets int64  `json:"packets"`
	Bytes   int64  `json:"bytes"`
}

// A Hit is how often a statement decided about a packet: of connections, about each one's first.
type Hit struct {
	By      string `json:"by" doc:"the statement, as rules name it: 'allow chart-web'"`
	Way     string `json:"way,omitempty" enum:"in,out,through" doc:"of the packets; left out of what is translated"`
	Packets int64  `json:"packets"`
	Bytes   int64  `json:"bytes"`
}

// key is what hits are told apart by.
func (h Hit) key() string { return strings.TrimSpace(h.By + " " + h.Way) }

// way is the direction of the packets that come to a chain of ours.
func (c Counter) way() string {
	for _, d := range packet.Directions {
		if strings.HasPrefix(c.Chain, d.String()) {
			return d.Word()
		}
	}
	return ""
}

// IsStatement says that a line which carries out this is one that statements are counted by.
func IsStatement(by string) bool {
	kind, name, _ := strings.Cut(by, " ")
	return name != "" && slices.Contains([]compile.Kind{compile.ByAllow, compile.ByBlock, compile.ByLeave, compile.ByLocal,
		compile.ByRedirect, compile.ByMasquerade, compile.ByStance}, compile.Kind(kind))
}

// Moved tells what came to counters since they were looked at before, by statement; one to which
// nothing came is told with nothing. Counters begin at nothing when rules are loaded: those of
// another load than before do, and where loads have no names all do if one went back.
func Moved(before, now []Counter) []Hit {
	was := map[[2]string]Counter{}
	for _, c := range before {
		was[[2]string{c.Of, c.At}] = c
	}
	again := map[string]bool{} // loads whose counters began at nothing
	for _, c := range now {
		if then, known := was[[2]string{c.Of, c.At}]; known && (c.Packets < then.Packets || c.Bytes < then.Bytes || c.By != then.By) {
			again[c.Of] = true
		}
	}
	sums := map[string]*Hit{}
	for _, c := range now {
		hit := Hit{By: c.By, Way: c.way()}
		if sums[hit.key()] == nil {
			sums[hit.key()] = &hit
		}
		then := was[[2]string{c.Of, c.At}]
		if again[c.Of] {
			then = Counter{}
		}
		sums[hit.key()].Packets += c.Packets - then.Packets
		sums[hit.key()].Bytes += c.Bytes - then.Bytes
	}
	return sorted(sums)
}

// sorted are hits by name.
func sorted(hits map[string]*Hit) []Hit {
	out := make([]Hit, 0, len(hits))
	for _, h := range hits {
		out = append(out, *h)
	}
	slices.SortFunc(out, func(a, b Hit) int { return cmp.Compare(a.key(), b.key()) })
	return out
}
