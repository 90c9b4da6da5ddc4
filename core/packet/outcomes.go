package packet

// Map is d with every outcome replaced by f of it. Packets without an outcome stay without. f
// is called once for each outcome, not for each packet.
func (sp *Space) Map(d Decision, f func(Outcome) Outcome) Decision {
	return Decision(sp.rebuild(ref(d), map[ref]ref{}, func(r ref) ref {
		if r == ref(Void) {
			return r
		}
		return ref(sp.Leaf(f(sp.outcome(r))))
	}))
}

// Where is the packets whose outcome in d fulfils f. Packets without an outcome never do. f is
// called once for each outcome.
func (sp *Space) Where(d Decision, f func(Outcome) bool) Set {
	return Set(sp.rebuild(ref(d), map[ref]ref{}, func(r ref) ref {
		if r != ref(Void) && f(sp.outcome(r)) {
			return ref(All)
		}
		return ref(Empty)
	}))
}

// Parts are the packets that a decision owes to each By, by that number: as Where gives
// them, for all at once.
func (sp *Space) Parts(d Decision) map[int32]Set {
	done := map[ref]map[int32]ref{}
	var parts func(r ref) map[int32]ref
	parts = func(r ref) map[int32]ref {
		if all, ok := done[r]; ok {
			return all
		}
		out := map[int32]ref{}
		if sp.nodes[r].field == leafField {
			out[sp.outcome(r).By] = ref(All)
		} else {
			field, edges := sp.nodes[r].field, append([]edge(nil), sp.edgesOf(r)...)
			of := map[int32][]edge{}
			for i, e := range edges {
				for by, to := range parts(e.to) {
					mine := of[by]
					if mine == nil {
						mine = append([]edge(nil), edges...)
						for k := range mine {
							mine[k].to = ref(Empty)
						}
						of[by] = mine
					}
					mine[i].to = to
				}
			}
			for by, mine := range of {
				out[by] = sp.make(field, mine)
			}
		}
		done[r] = out
		return out
	}
	out := map[int32]Set{}
	for by, to := range parts(ref(d)) {
		out[by] = Set(to)
	}
	return out
}

// Outcomes lists the outcomes that d gives to some packet, well-formed or not, in the order in
// which the Space first saw them.
func (sp *Space) Outcomes(d Decision) (out []Outcome) {
	reached := sp.reached(ref(d))
	for i := range sp.outcomes {
		if o := sp.outcomes[i]; i > 0 && reached[sp.leaves[o]] {
			out = append(out, o)
		}
	}
	return out
}

// Differ is the packets that fare differently in a and b, those included that have an outcome
// in one alone. Outcome.By counts: compare decisions that are not attributed.
func (sp *Space) Differ(a, b Decision) Set {
	memo := map[[2]ref]ref{}
	var differ func(a, b ref) ref
	differ = func(a, b ref) ref {
		if a == b {
			return ref(Empty)
		}
		field := min(sp.nodes[a].field, sp.nodes[b].field)
		if field == leafField {
			return ref(All)
		}
		if r, ok := memo[[2]ref{a, b}]; ok {
			return r
		}
		r := sp.zip(field, a, b, ref(Empty), func(a, b, _ ref) ref { return differ(a, b) })
		memo[[2]ref{a, b}] = r
		return r
	}
	return Set(differ(ref(a), ref(b)))
}

// Possible is the packets that are in s for some answer to the unknowns: what cannot be ruled
// out.
func (sp *Space) Possible(s Set) Set { return Set(sp.possible(ref(s))) }

// possible is Possible below a node. A node that asks for an unknown is reduced, so that some
// answer of it leads to All: whatever that is, the packet may be in the set.
func (sp *Space) possible(r ref) ref {
	field := sp.nodes[r].field
	switch {
	case field == leafField:
		return r
	case field >= firstUnknown:
		return ref(All) // reduced: a node here leads to All for some answer
	}
	if e, ok := sp.lookup(opPossible, r, 0, 0); ok {
		return e.result
	}
	edges := append([]edge(nil), sp.edgesOf(r)...)
	for i := range edges {
		edges[i].to = sp.possible(edges[i].to)
	}
	return sp.remember(opPossible, r, 0, 0, sp.make(field, edges))
}

// Answered is a decision once an unknown is answered, by its name. One that d does not ask
// changes nothing.
func (sp *Space) Answered(d Decision, unknown string, yes bool) Decision {
	answer := map[bool]int{true: 1, false: 0}[yes]
	sp.Unknown(unknown) // it may be a new one
	return sp.Restrict(d, sp.unknownOf[unknown], Num(answer))
}

// Certain is the packets that are in s whatever the answers to the unknowns: what can be said
// without knowing more.
func (sp *Space) Certain(s Set) Set { return sp.Not(sp.Possible(sp.Not(s))) }

// UnknownsOf names the unknowns that s depends on, in the order in which the Space first met
// them. It is what one shows people where an answer is uncertain.
func (sp *Space) UnknownsOf(s Set) []string {
	used := sp.fieldsOf(ref(s))
	var names []string
	for i, name := range sp.unknowns {
		if used[firstUnknown+Field(i)] {
			names = append(names, name)
		}
	}
	return names
}

// UnknownFields are the fields of all unknowns so far, as Exists takes them.
func (sp *Space) UnknownFields() (fields []Field) {
	for i := range sp.unknowns {
		fields = append(fields, firstUnknown+Field(i))
	}
	return fields
}
