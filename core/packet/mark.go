package packet

import "fmt"

// A Mark is one of two numbers of 32 bits that rules write on a packet and ask
// for later: the packet's own, or that of its connection.
//
// Each bit is a field, so that masks, and whatever a rule writes, are exact: as
// runs of values, "every second bit" would take half of all numbers.
type Mark int

// The marks.
const (
	OfPacket Mark = iota
	OfConnection
)

// A mark is a number of 32 bits, and each bit is a field of its own: rules ask for some of
// them.
const (
	markBits        = 32
	allBits  uint32 = 1<<markBits - 1
)

// MarkFields are the fields of all bits of both marks.
var MarkFields = func() (fields []Field) {
	for f := firstMark; f < firstRoom; f++ {
		fields = append(fields, f)
	}
	return fields
}()

// field is a bit's field; the highest bit comes first.
func (m Mark) field(bit int) Field { return firstMark + Field(int(m)*markBits+markBits-1-bit) }

// markBit is what a packet has in the field of a bit.
func (p Packet) markBit(f Field) int {
	i := int(f - firstMark)
	mark := p.Mark
	if i >= markBits {
		mark, i = p.ConnMark, i-markBits
	}
	return int(mark >> (markBits - 1 - i) & 1)
}

// Marked is the set of packets whose mark has a value in the bits of a mask. Other bits may be
// anything.
func (sp *Space) Marked(m Mark, value, mask uint32) Set {
	if value&^mask != 0 {
		return Empty
	}
	return sp.MarkedBetween(m, value, value, mask)
}

// MarkedBetween is the set of packets whose mark, in the bits of a mask, is a
// number from lo to hi.
func (sp *Space) MarkedBetween(m Mark, lo, hi, mask uint32) Set {
	s := sp.markedUpTo(m, hi, mask)
	if lo > 0 {
		s = sp.Minus(s, sp.markedUpTo(m, lo-1, mask))
	}
	return s
}

// markedUpTo compares from the lowest bit up: what counts is the highest that differs.
func (sp *Space) markedUpTo(m Mark, hi, mask uint32) Set {
	s := All
	for bit := range markBits {
		has, limit := sp.Value(m.field(bit), 1), hi>>bit&1 == 1
		switch asked := mask>>bit&1 == 1; {
		case !asked && limit:
			s = All
		case asked && limit:
			s = Set(sp.choose(ref(has), ref(s), ref(All)))
		case asked:
			s = sp.Minus(s, has)
		}
	}
	return s
}

// A Marking is what a rule writes on a packet: into To the bits of From that are
// in And, and then those of Xor turned. The bits of Keep it leaves alone. Where it is not
// known what is written, Unknown names that, and all else is of no meaning.
type Marking struct {
	To, From Mark
	And, Xor uint32
	Keep     uint32
	Unknown  string
}

// Marking is what becomes of packets that are given a mark and then fare as in d: the question
// d asks of the mark is answered by what m writes.
func (sp *Space) Marking(d Decision, m Marking) Decision {
	used := sp.fieldsOf(ref(d))
	for bit := range markBits {
		f := m.To.field(bit)
		if !used[f] || m.Keep>>bit&1 == 1 && m.Unknown == "" {
			continue
		}
		unset, set := sp.Restrict(d, f, Num(0)), sp.Restrict(d, f, Num(1))
		if m.Xor>>bit&1 == 1 && m.Unknown == "" {
			unset, set = set, unset
		}
		switch {
		case m.Unknown != "":
			d = sp.Choose(sp.Unknown(m.Unknown+bitNames[bit]), set, unset)
		case m.And>>bit&1 == 1:
			d = sp.Choose(sp.Value(m.From.field(bit), 1), set, unset)
		default:
			d = unset
		}
	}
	return d
}

// bitNames are what the unknowns of single bits of an unknown mark end in.
var bitNames = func() (names [markBits]string) {
	for bit := range names {
		names[bit] = fmt.Sprintf(", bit %d", bit)
	}
	return names
}()

// MarkedBefore is the packets that are in s once they were given a mark: the same, of a set.
func (sp *Space) MarkedBefore(s Set, m Marking) Set { return Set(sp.Marking(Decision(s), m)) }

// marksOf is the marks of a packet of s, with no bit set that need not be.
func (sp *Space) marksOf(s Set) (marks [2]uint32) {
	for i, f := range MarkFields {
		if unset := Set(sp.Restrict(Decision(s), f, Num(0))); unset != Empty {
			s = unset
			continue
		}
		s = Set(sp.Restrict(Decision(s), f, Num(1)))
		marks[i/markBits] |= 1 << (markBits - 1 - i%markBits)
	}
	return marks
}
