package nft

import (
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// A listing is what a dump holds, whichever its form.
type listing struct {
	sets   []*namedSet
	limits []namedLimit
	chains []*kernel.Chain
	rules  []listedRule
}

// A place names a thing of a table.
type place struct{ family, table, name string }

// A namedSet is a set or a map.
type namedSet struct {
	place
	holds    string // its type, where that is one word
	comment  string
	elements []expr
	changing bool // the kernel or its rules add and remove elements by themselves
	size     int  // 0 is any
	timeout  int  // in seconds; 0 is none
}

// namedLimit is a limit that stands beside the rules and that several may share.
type namedLimit struct {
	place
	limit expr // limitOf
}

// A listedRule is a rule before it is understood.
type listedRule struct {
	place   // of its chain
	exprs   statements
	comment string
	at      string
	nat     []string // of each translation, the family that it is said to be of; "" is the table's
}

// A slab hands out slices of expressions of which nobody lets one go alone.
type slab struct{ free []expr }

// of gives a slice that holds these expressions.
func (s *slab) of(es ...expr) []expr {
	if len(s.free)+len(es) > cap(s.free) {
		s.free = make([]expr, 0, max(512, len(es)))
	}
	begin := len(s.free)
	s.free = append(s.free, es...)
	return s.free[begin:len(s.free):len(s.free)]
}

// newChain is a chain as a listing begins one.
func newChain(p place) *kernel.Chain {
	return &kernel.Chain{Family: p.family, Table: p.table, Name: p.name, Policy: packet.Admit}
}
