package packet

import (
	"cmp"
	"math/bits"
	"slices"
)

// A Choice is what becomes of the packets of a set.
type Choice struct {
	Match Set
	Then  Decision
}

// FirstMatch is for every packet what the first choice says whose set holds it
// and that has an outcome for it; nothing where there is none.
//
// It sweeps over the values of one field after the other with the choices that
// are still in question, which makes no diagram but those of the result. The
// construction of a diagram from a list of rules is that of M. Gouda and A. Liu,
// "Structured firewall design", Computer Networks 51(4), 2007; the sweep, and
// that equal remainders are made once, is what lets it take ten thousand rules.
// Where most choices are in question for most values, which would make the sweep
// quadratic, the list is halved and its halves are put over each other.
func (sp *Space) FirstMatch(choices []Choice) Decision {
	s := sp.idleSweep
	if sp.idleSweep = nil; s == nil {
		s = &sweep{sp: sp, done: map[uint64][]remainder{}}
	}
	list := make([]choice, len(choices))
	for i, c := range choices {
		list[i] = choice{ref(c.Match), ref(c.Then)}
	}
	d := Decision(s.first(list))
	clear(s.done)
	sp.idleSweep = s // its room is of use to the next
	return d
}

// choice is a Choice inside the diagram: what it matches, and what is then decided.
type choice struct{ match, then ref }

// A sweep remembers, while FirstMatch runs, which remainders it has made.
type sweep struct {
	sp   *Space
	done map[uint64][]remainder
	// What sweeps hold while they run, those of the outermost field first. Whoever needs
	// room takes it at the end, and gives it back; what is moved there leaves others' as it was.
	lists  []choice // of the values being swept
	now    []choice
	active []int32
	turns  []turn
	edges  []edge
	live   []bool   // of one look
	keys   []uint64 // of one sort
	moved  []turn
}

// remainder is a list of choices that was worked out already, and its answer.
type remainder struct {
	list   []choice
	result ref
}

// turn is a value from which on a choice is another.
type turn struct {
	at    Value
	which int32
	to    choice
}

// few is how long a list may be to be joined choice by choice, which the Space
// remembers for all its lists.
const few = 4

// first is the first match of a list, for the packets that the walk has come down to. It drops
// the choices that cannot match there, stops at the first that always does, and goes on below
// the topmost field that any of the others asks for.
func (s *sweep) first(list []choice) ref {
	sp := s.sp
	list = slices.DeleteFunc(list, choice.idle)
	for i, c := range list {
		if c.match == ref(All) && sp.nodes[c.then].field == leafField {
			list = list[:i+1]
			break
		}
	}
	if len(list) <= few {
		r := ref(Void)
		for _, c := range slices.Backward(list) {
			r = sp.choose(c.match, sp.over(c.then, r), r)
		}
		return r
	}
	h := uint64(len(list))
	for _, c := range list {
		h = (h ^ uint64(c.match)<<32 ^ uint64(c.then)) * 0x9e3779b97f4a7c15
		h ^= h >> 31
	}
	for _, known := range s.done[h] {
		if slices.Equal(known.list, list) {
			return known.result
		}
	}
	kept := slices.Clone(list) // sweeping puts other lists where this one may stand
	r := s.over(kept)
	s.done[h] = append(s.done[h], remainder{kept, r})
	return r
}

// idle says that a choice decides nothing.
func (c choice) idle() bool { return c.match == ref(Empty) || c.then == ref(Void) }

// over sweeps over the values of the first field that any of a list asks for.
func (s *sweep) over(list []choice) ref {
	sp := s.sp
	// The topmost field that any of the choices asks. They are gone over by its values, from the
	// lowest on: each choice turns at the ends of its own runs, and all turns are sorted.
	field := leafField
	for _, c := range list {
		field = min(field, sp.nodes[c.match].field, sp.nodes[c.then].field)
	}
	bottom := sizes{len(s.now), len(s.active), len(s.turns), len(s.edges)}
	defer s.back(bottom)
	s.now = append(s.now, list...)
	now := s.now[bottom.now:]
	for i, c := range list {
		if sp.nodes[c.match].field != field && sp.nodes[c.then].field != field {
			continue
		}
		var all [2][1]edge
		x, y := sp.branches(c.match, field, &all[0]), sp.branches(c.then, field, &all[1])
		for j, k, lo := 0, 0, (Value{}); j < len(x); {
			to := choice{x[j].to, y[k].to}
			if lo == (Value{}) {
				now[i] = to
			} else {
				s.turns = append(s.turns, turn{lo, int32(i), to})
			}
			hi := x[j].hi
			if y[k].hi.Compare(hi) < 0 {
				hi = y[k].hi
			}
			if x[j].hi == hi {
				j++
			}
			if y[k].hi == hi {
				k++
			}
			lo = hi.Next()
		}
	}
	turns := s.turns[bottom.turns:]
	s.sort(turns)
	// Where many choices turn at many values the list is halved; the halves are put over each other.
	if s.crowded(now, turns) {
		half := len(list) / 2
		return sp.over(s.first(slices.Clone(list[:half])), s.first(slices.Clone(list[half:])))
	}

	// Between two turns nothing changes: what the choices that are not idle come to there is one edge.
	for i := range now {
		if !now[i].idle() {
			s.active = append(s.active, int32(i))
		}
	}
	for t := 0; ; {
		below := len(s.lists)
		for _, i := range s.active[bottom.active:] {
			s.lists = append(s.lists, now[i])
		}
		to := s.first(s.lists[below:])
		s.lists = s.lists[:below]
		if t == len(turns) {
			s.edges = append(s.edges, edge{field.Limit(), to})
			return sp.make(field, s.edges[bottom.edges:])
		}
		at := turns[t].at
		s.edges = append(s.edges, edge{at.Prev(), to})
		end := t
		for end < len(turns) && turns[end].at == at {
			end++
		}
		if end-t > few*few { // one by one, each would move all that stand behind it
			s.turnAll(now, turns[t:end], bottom.active)
			t = end
		}
		// Few turns at one value are taken one by one, in a list that stays in the order of the choices.
		for ; t < end; t++ {
			i := turns[t].which
			was, is := !now[i].idle(), !turns[t].to.idle()
			now[i] = turns[t].to
			if was == is {
				continue
			}
			place, _ := slices.BinarySearch(s.active[bottom.active:], i)
			if place += bottom.active; is {
				s.active = slices.Insert(s.active, place, i)
			} else {
				s.active = slices.Delete(s.active, place, place+1)
			}
		}
	}
}

// sizes are how much of a sweep's room is taken.
type sizes struct{ now, active, turns, edges int }

// back gives room back.
func (s *sweep) back(to sizes) {
	s.now, s.active, s.turns, s.edges = s.now[:to.now], s.active[:to.active], s.turns[:to.turns], s.edges[:to.edges]
}

// sort orders turns by their values, and those at one by their places, as they come. Values lie
// close together nearly always, so that a value and a place are one number to be sorted by.
func (s *sweep) sort(turns []turn) {
	lo, hi := Value{}, Value{}
	for i, t := range turns {
		if i == 0 || t.at.Compare(lo) < 0 {
			lo = t.at
		}
		if t.at.Compare(hi) > 0 {
			hi = t.at
		}
	}
	place := bits.Len(uint(len(turns)))
	if lo.hi != hi.hi || bits.Len64(hi.lo-lo.lo)+place > 64 {
		slices.SortFunc(turns, turn.compare)
		return
	}
	s.keys, s.moved = s.keys[:0], append(s.moved[:0], turns...)
	for i, t := range turns {
		s.keys = append(s.keys, (t.at.lo-lo.lo)<<place|uint64(i))
	}
	slices.Sort(s.keys)
	for i, k := range s.keys {
		turns[i] = s.moved[k&(1<<place-1)]
	}
}

// compare orders turns by their values, and those at one by their places.
func (t turn) compare(u turn) int {
	switch a, b := t.at, u.at; {
	case a.hi != b.hi:
		return cmp.Compare(a.hi, b.hi)
	case a.lo != b.lo:
		return cmp.Compare(a.lo, b.lo)
	}
	return int(t.which - u.which)
}

// turnAll turns many choices at one value: those that are in question from bottom
// on and those that turn, both in order, are merged.
func (s *sweep) turnAll(now []choice, turns []turn, bottom int) {
	before := slices.Clone(s.active[bottom:])
	s.active = s.active[:bottom]
	add := func(i int32) {
		if !now[i].idle() {
			s.active = append(s.active, i)
		}
	}
	for _, t := range turns {
		for len(before) > 0 && before[0] < t.which {
			add(before[0])
			before = before[1:]
		}
		if len(before) > 0 && before[0] == t.which {
			before = before[1:]
		}
		now[t.which] = t.to
		add(t.which)
	}
	for _, i := range before {
		add(i)
	}
}

// crowded says that a sweep would go over too many choices for too many values.
func (s *sweep) crowded(now []choice, turns []turn) bool {
	const most = 32 // for each value at which something turns
	if cap(s.live) < len(now) {
		s.live = make([]bool, 2*len(now))
	}
	live := s.live[:len(now)]
	count, work := 0, 0
	for i, c := range now {
		if live[i] = !c.idle(); live[i] {
			count++
		}
	}
	for i, t := range turns {
		if is := !t.to.idle(); is != live[t.which] {
			live[t.which] = is
			if count--; is {
				count += 2
			}
		}
		if i+1 == len(turns) || turns[i+1].at != t.at {
			work += count
		}
	}
	return len(now) > 2*most && work > most*(len(turns)+len(now))
}
