package check

import (
	"go4.org/netipx"

	"yellowfence.example/yfence/core/policy"
)

// oneFamily: see its documentation.
var oneFamily = Check{
	Code: "one-family",
	Doc: `An allow works in one family only, though its hosts have both.

The peers on one side have addresses in one family; over the other family the same
connection is refused, and the two come apart. Give the network its other prefix,
or accept it.
`,
	run: func(p *pass) {
		for _, r := range p.rules() {
			if r.Block || !r.To.Named && !r.From.Named {
				continue
			}
			four, six := families(r.From.Addrs)
			to4, to6 := families(r.To.Addrs)
			works4, works6 := four && to4, six && to6
			both4, both6 := hostFamilies(r)
			for _, t := range r.Terms {
				if t.Family != policy.AnyFamily {
					works4, works6 = true, true // the service itself is of one family, or of both in turn
				}
			}
			if both4 && both6 && works4 != works6 {
				family := "IPv6"
				if works6 {
					family = "IPv4"
				}
				p.warn(r, "one-family", "give both sides addresses in both families, or accept it: knowingly one-family \"why\"", "the allow %q admits nothing over %s, which its hosts have too", r.Name, family)
			}
		}
	},
}

func families(set *netipx.IPSet) (four, six bool) {
	for _, r := range set.Ranges() {
		if r.From().Is4() {
			four = true
		} else {
			six = true
		}
	}
	return four, six
}

// hostFamilies are the families that the hosts of every side that names some have.
func hostFamilies(r *policy.Rule) (four, six bool) {
	four, six = true, true
	for _, side := range []policy.Side{r.From, r.To} {
		if !side.Named {
			continue
		}
		has4, has6 := families(side.HostAddrs())
		four, six = four && has4, six && has6
	}
	return four, six
}
