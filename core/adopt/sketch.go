package adopt

import (
	"slices"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/kernel"
	"yellowfence.example/yfence/core/packet"
)

// sketch is what a host has in force, taken apart into what a policy can say.
type sketch struct {
	host   *fleet.Host
	ends   [3]end          // by hook
	ground map[string]bool // by direction and part, whether all of it is as the ground has it
	extra  []statement     // what is admitted of parts of the ground, for where those are off
}

// end is one direction of it.
type end struct {
	filtered   bool    // else nothing is refused there
	open       bool    // what nothing speaks of is admitted
	reject     bool    // and else answered
	log        logging // of what the stance refuses
	statements []statement
}

// The parts of the ground that can be said in rules as well.
var sayable = []string{fence.PartICMPErrors, fence.PartNeighbours, fence.PartDHCPClient, fence.PartMulticastListener}

// fields are what a statement can tell of a packet.
var fields = []packet.Field{packet.Family, packet.Protocol, packet.SrcPort, packet.Src, packet.DstPort, packet.ICMPType, packet.ICMPCode,
	packet.Dst, packet.InIface, packet.OutIface, packet.User, packet.Group, packet.Unit, packet.Program, packet.IPsec}

// mostPieces bounds how finely what one rule does is taken apart.
const mostPieces = 64

// taker takes apart what a host has in force.
type taker struct {
	sp       *packet.Space
	bare     *compile.Plan
	deciders []kernel.Decider
	d        packet.Decision // attributed, while nothing is exceeded
	*sketch

	admitted, refused packet.Set // surely
	logged            packet.Set // while nothing is exceeded
	rejected          packet.Set
	whenRoom, always  packet.Set // admitted if there is room, and whatever there is room for
	logs              packet.Set // if there is room
}

// view is what is to be said of one direction.
type view struct {
	direction packet.Direction
	fresh     packet.Set // new connections by networks
	forged    packet.Set // what the local segments drop before all else
	yes, no   packet.Set // of the fresh
	ground    packet.Set // of the fresh, what the ground admits where it is on
	parts     map[string]packet.Set
	doings    []doing
}

// doing is what one rule, or a chain's policy, decides of the fresh.
type doing struct {
	by      kernel.Decider
	packets packet.Set
}

// take takes apart what a host has in force. bare is the host's plan of a policy that
// says nothing, which has the ground.
func take(sp *packet.Space, bare *compile.Plan, rs *kernel.Ruleset) *sketch {
	t := &taker{sp: sp, bare: bare, sketch: &sketch{host: bare.Host, ground: map[string]bool{}}}
	rated := rs.Decision(sp)
	t.d, t.deciders = rs.Attributed(sp)
	t.d = sp.WithinLimits(t.d)
	where := func(d packet.Decision, verdict packet.Verdict) packet.Set {
		return sp.Where(d, func(o packet.Outcome) bool { return o.Verdict == verdict })
	}
	admits := where(t.d, packet.Admit)
	t.admitted, t.refused, t.rejected = sp.Certain(admits), sp.Not(sp.Possible(admits)), where(t.d, packet.Reject)
	t.whenRoom = where(rated, packet.Admit)
	t.always = sp.Not(sp.AnyRoom(sp.Not(t.whenRoom)))
	t.logged = sp.Where(t.d, func(o packet.Outcome) bool { return o.Logged })
	t.logs = sp.Where(rated, func(o packet.Outcome) bool { return o.Logged })
	present := packet.All // what is so for a time only is taken as it is now
	if turns := sp.ChangeTimes(rated); len(turns) > 0 {
		present = sp.Before(turns[0])
	}
	var views []*view
	for _, dir := range packet.Directions {
		v := t.look(dir, present)
		e := &t.ends[dir]
		// What is admitted so often only is refused as much as what never is.
		open := sp.And(v.yes, t.always)
		if e.open = true; !sp.Within(v.fresh, open) {
			e.filtered = true
			e.open = more(sp, sp.Minus(open, v.ground), sp.Minus(v.fresh, sp.Or(open, v.ground)))
			closed := sp.Minus(v.fresh, sp.Or(open, v.ground))
			answered := sp.And(closed, sp.AnyRoom(where(rated, packet.Reject)))
			e.reject = !e.open && more(sp, answered, sp.Minus(closed, answered))
			if closed = sp.And(closed, v.no); !e.open && more(sp, sp.And(closed, t.logged), sp.Minus(closed, t.logged)) {
				e.log = logged(sp, sp.And(closed, t.logged), t.logged, t.logs)
			}
		}
		if e.filtered || dir != packet.Forward { // what is forwarded untouched is not spoken of
			views = append(views, v)
		}
	}
	t.agree()
	for _, v := range views {
		t.say(v)
	}
	return t.sketch
}

// agree has all stances log as the first does that is closed: a role has one log.
func (t *taker) agree() {
	first, told := logging{}, false
	for i := range t.ends {
		if e := &t.ends[i]; e.filtered && !e.open {
			if !told {
				first, told = e.log, true
			}
			e.log = first
		}
	}
}

// look works out what is to be said of a direction.
func (t *taker) look(dir packet.Direction, present packet.Set) *view {
	sp := t.sp
	v := &view{direction: dir, parts: map[string]packet.Set{}}
	v.fresh = sp.AndAll(sp.WellFormed(), present, sp.Crossing(dir), sp.Value(packet.State, packet.New), sp.Typical())
	for _, f := range []packet.Field{packet.InIface, packet.OutIface} {
		v.fresh = sp.Minus(v.fresh, sp.Interfaces(f, "lo"))
	}
	each := func(kind compile.Kind, do func(name string, match packet.Set)) {
		for _, c := range t.bare.Chains {
			for _, r := range c.Rules {
				if c.Direction == dir && r.Kind == kind {
					do(r.Name, r.Match.Set(sp, dir))
				}
			}
		}
	}
	each(compile.ByLocal, func(_ string, match packet.Set) { v.forged = sp.Or(v.forged, match) })
	v.fresh = sp.Minus(v.fresh, v.forged)
	each(compile.ByGround, func(name string, match packet.Set) {
		part := sp.Minus(sp.And(sp.WellFormed(), match), v.forged)
		if slices.Contains(sayable, name) { // what is invalid is refused before
			part = sp.AndAll(part, sp.Values(packet.State, packet.New, packet.Untracked), sp.Typical())
		}
		t.weigh(dir, name, part)
		switch fresh := sp.And(part, v.fresh); {
		case slices.Contains(sayable, name):
			v.ground = sp.Or(v.ground, fresh)
			v.parts[name] = sp.Or(v.parts[name], fresh)
		case name == fence.PartService: // which stays, for hosts to be looked after
			v.ground = sp.Or(v.ground, fresh)
		}
	})
	v.yes, v.no = sp.And(v.fresh, t.admitted), sp.And(v.fresh, t.refused)
	fresh := t.d // as far as it depends on what all of these have
	for field, value := range map[packet.Field]int{packet.Hook: int(dir), packet.State: packet.New, packet.Fragment: packet.Whole} {
		fresh = sp.Restrict(fresh, field, packet.Num(value))
	}
	parts := sp.Parts(fresh)
	for i, by := range t.deciders {
		if mine, does := parts[int32(i+1)]; does {
			v.doings = append(v.doings, doing{by, mine})
		}
	}
	return v
}

// cut is a block that may be said.
type cut struct {
	pieces []statement
	whole  packet.Set
}

// manner is one way to deal with packets.
type manner struct{ block, reject, log bool }

// say makes the statements of a direction: of all that fares otherwise than by the stance.
func (t *taker) say(v *view) {
	sp, e := t.sp, &t.ends[v.direction]
	stance := manner{block: !e.open, reject: e.reject, log: e.log.set()}
	said, blocked := packet.Empty, packet.Empty
	// What rules refuse as the stance does need not be said, unless an allow is said more easily
	// if it is.
	var spare []cut
	spared := packet.Empty
	do := func(block bool) {
		for _, d := range v.doings {
			by, mine := d.by, d.packets
			for _, m := range []manner{{block: block}, {block: block, log: true}, {block: block, reject: true},
				{block: block, reject: true, log: true}} {
				if m == stance && m.block && by.Rule == nil || m.reject && !m.block {
					continue
				}
				like := v.yes
				switch {
				case m.reject:
					like = sp.And(v.no, t.rejected)
				case m.block:
					like = sp.Minus(v.no, t.rejected)
				}
				if m.log {
					like = sp.And(like, t.logged)
				} else {
					like = sp.Minus(like, t.logged)
				}
				other := like
				if m == stance && !m.block { // but for what is admitted so often only
					other = sp.Minus(like, t.always)
				}
				for _, family := range []int{packet.IPv4, packet.IPv6} {
					does := sp.AndAll(other, mine, sp.Value(packet.Family, family))
					if sp.Within(does, sp.Or(said, v.ground)) {
						continue
					}
					if m.block && stance.block && m.reject == stance.reject && m != stance &&
						more(sp, does, sp.AndAll(v.no, sp.Value(packet.Family, family), sp.Not(does))) {
						continue // how the stance is logged is not worth a block of all but what is admitted
					}
					of := statement{block: m.block, reject: m.reject}
					if by.Rule != nil {
						of.comment, of.place = by.Rule.Comment, by.At()
					}
					if m.log {
						of.log = logged(sp, does, t.logged, t.logs)
					}
					pieces, whole, lost := t.sayOf(v, of, does, like, blocked, family)
					if m == stance && m.block {
						if lost == 0 && !more(sp, whole, sp.Minus(v.fresh, whole)) {
							spare, spared = append(spare, cut{pieces, whole}), sp.Or(spared, whole)
						}
						continue
					}
					if !m.block && spared != packet.Empty {
						other, wider, least := t.sayOf(v, of, does, like, sp.Or(blocked, spared), family)
						if least < lost || least == lost && length(other)+4 < length(pieces) {
							pieces, whole, lost = other, wider, least
							spare = slices.DeleteFunc(spare, func(c cut) bool {
								if sp.And(c.whole, whole) == packet.Empty {
									return false
								}
								e.statements = append(e.statements, c.pieces...)
								blocked = sp.Or(blocked, c.whole)
								return true
							})
						}
					}
					e.statements = append(e.statements, pieces...)
					if m.block && lost == 0 {
						blocked = sp.Or(blocked, whole)
					}
					if !m.log { // that it is logged is still to be said
						whole = sp.Minus(whole, t.logged)
					}
					if len(pieces) > 0 && !pieces[0].rate.set() { // else what more there is to say is said beside it
						said = sp.Or(said, whole)
					}
				}
			}
		}
	}
	do(true) // what blocks refuse allows may speak of
	do(false)
	e.statements = joined(e.statements)
	if e.open {
		return
	}
	for _, part := range sayable {
		for _, family := range []int{packet.IPv4, packet.IPv6} {
			rest, one := sp.Minus(sp.And(v.parts[part], v.yes), said), sp.Value(packet.Family, family)
			pieces, _ := t.pieces(sp, v.direction, sp.And(one, sp.Simplify(sp.And(rest, one), sp.And(v.fresh, one))), statement{part: part})
			t.extra = append(t.extra, pieces...)
		}
	}
}

// sayOf makes the statements of what one rule does, of all that fares alike; and gives the
// packets that they say. It is exact for what fares otherwise, and simplest for what fares so
// anyway; of what the ground admits it speaks only if that is simpler.
func (t *taker) sayOf(v *view, of statement, does, like, blocked packet.Set, family int) (pieces []statement, whole packet.Set, least int) {
	sp := t.sp
	if !of.block && !sp.Within(does, t.always) {
		if of.rate = rate(sp, sp.And(does, t.whenRoom)); !of.rate.set() {
			return nil, packet.Empty, 1 // no policy says how often that is
		}
	}
	if !of.block { // of what is admitted so often only nobody else may speak
		like = sp.And(like, t.always)
	}
	if of.rate.set() && t.ends[v.direction].open { // nor it of what the stance admits
		like = packet.Empty
	}
	if !of.block {
		like = sp.Or(like, blocked)
	}
	if !of.block && !of.log.set() { // whoever has it logged says so beside it
		like = sp.Or(like, sp.AndAll(v.yes, t.always, t.logged))
	}
	one := sp.Value(packet.Family, family)
	all, wide := sp.And(v.fresh, one), sp.And(sp.Or(v.fresh, sp.And(v.forged, sp.Value(packet.State, packet.New))), one)
	frees := []packet.Set{sp.Minus(like, does)}
	if granted := sp.And(v.ground, v.yes); granted != packet.Empty {
		frees = append(frees, sp.Minus(like, sp.Or(does, v.ground)), sp.Minus(sp.Or(like, granted), does))
	}
	for i, free := range frees {
		set := sp.Simplify(does, sp.Minus(all, free))
		for _, fields := range dropped {
			if wider := sp.Exists(set, fields...); wider != set && sp.Within(sp.And(wider, all), sp.Or(does, free)) {
				set = wider
			}
		}
		if other, lost := t.pieces(sp, v.direction, sp.And(set, one), of); i == 0 || lost < least || lost == least &&
			length(other) <= length(pieces) {
			pieces, whole, least = other, sp.And(wide, set), lost
		}
	}
	return pieces, whole, least
}

// dropped are fields that a statement had better say nothing of, where it need not.
var dropped = [][]packet.Field{{packet.Protocol, packet.SrcPort, packet.DstPort, packet.ICMPType, packet.ICMPCode, packet.TCPFlags},
	{packet.SrcPort, packet.DstPort, packet.ICMPType, packet.ICMPCode}, {packet.Src}, {packet.Dst}, {packet.InIface}, {packet.OutIface},
	{packet.User, packet.Group, packet.Unit, packet.Program}, {packet.IPsec}}
