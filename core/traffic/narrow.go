package traffic

import (
	"slices"

	"go4.org/netipx"

	"yellowfence.example/yfence/core/compile"
	"yellowfence.example/yfence/core/fence"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/core/packet"
	"yellowfence.example/yfence/core/policy"
)

// A Narrowing is a statement that would admit all connections that were seen by another, and less
// besides: peers and services that nothing used are left out of it.
type Narrowing struct {
	Statement string   `json:"statement" doc:"'allow chart-web'"`
	Place     string   `json:"place"`
	Unused    []string `json:"unused" nullable:"false" doc:"peers and services that no connection used"`
	Rule      string   `json:"rule" doc:"the statement without these"`
	Times     int64    `json:"times" doc:"connections that were seen by it"`
	Watching  int      `json:"watching" doc:"on how many of its hosts connections are listened to"`
	Hosts     int      `json:"hosts" doc:"how many it has"`
	Since     int64    `json:"since,omitempty" doc:"since when all of those that listen have, in seconds since 1970"`
}

// Narrowings are narrower forms of a policy's allows, by the connections that were seen from an instant
// on. Guards stay as they are, and so does a statement of which nothing was seen: that is unused.
// records are by host.
func Narrowings(b packet.Budget, pol *policy.Policy, records map[string]*Record, since, now int64) (out []Narrowing) {
	j := judgeOf(b.Space(), pol, now)
	used := map[*policy.Rule][]timed{}
	for h, flow := range (span{pol, records, since}).seen() {
		if by, passes, ok := j.decides(h, flow.Flow, true); ok && passes && by.Kind == compile.ByAllow && by.Rule != nil {
			used[by.Rule] = append(used[by.Rule], flow)
		}
	}
	for _, r := range pol.Rules {
		if seen := used[r]; len(seen) > 0 && !r.Guard && r.Decl != nil {
			if n, ok := j.narrowing(r, seen); ok {
				n.count(r, records)
				out = append(out, n)
			}
		}
	}
	return out
}

// narrowing is a rule without what no flow used; ok is false where each part of it was used.
func (j *judge) narrowing(r *policy.Rule, seen []timed) (n Narrowing, ok bool) {
	narrow := *r.Decl
	n = Narrowing{Statement: string(compile.ByAllow) + " " + r.Name, Place: r.Pos.String()}
	for _, s := range seen {
		n.Times += s.times
	}
	// Each peer is asked for by itself, as the policy resolves names: a flow uses it if its end is one of
	// its addresses. What was taken away of all of them stays taken away.
	side := func(peers *fence.Peers, end func(Flow) *netipx.IPSet) {
		kept := slices.DeleteFunc(slices.Clone(peers.Items), func(p fence.Peer) bool {
			named, _, _, problems := j.pol.Ask(&fence.Question{From: fence.Peers{Items: []fence.Peer{p}},
				To:       fence.Peers{Items: []fence.Peer{p}},
				Services: []fence.ServiceTerm{{Any: true, Text: "any"}}})
			if problems != nil {
				return false
			}
			unused := !slices.ContainsFunc(seen, func(s timed) bool { return named.Addrs.Overlaps(end(s.Flow)) })
			if unused {
				n.Unused = append(n.Unused, p.Text)
			}
			return unused
		})
		if len(kept) > 0 {
			peers.Items = kept
		}
	}
	side(&narrow.From, func(f Flow) *netipx.IPSet { return packet.Prefixes(f.Src) })
	side(&narrow.To, func(f Flow) *netipx.IPSet { return packet.Prefixes(f.Dst) })
	// So is each service: one that names several ports is used if one of them was.
	kept := slices.DeleteFunc(slices.Clone(narrow.Services), func(t fence.ServiceTerm) bool {
		_, _, terms, problems := j.pol.Ask(&fence.Question{From: narrow.From, To: narrow.To, Services: []fence.ServiceTerm{t}})
		set := compile.TermsSet(j.sp, terms)
		unused := problems == nil && !slices.ContainsFunc(seen, func(s timed) bool { return j.sp.And(j.set(s.Flow), set) != packet.Empty })
		if unused {
			n.Unused = append(n.Unused, t.Text)
		}
		return unused
	})
	if len(kept) > 0 {
		narrow.Services = kept
	}
	n.Rule = fence.Line(&narrow)
	return n, len(n.Unused) > 0
}

// count says on how many hosts of a rule connections are listened to.
func (n *Narrowing) count(r *policy.Rule, records map[string]*Record) {
	had := map[*fleet.Host]bool{}
	for _, h := range slices.Concat(r.From.Hosts, r.To.Hosts) {
		if had[h] {
			continue
		}
		had[h] = true
		n.Hosts++
		if record := records[h.Name]; record != nil && record.Watched != 0 {
			n.Watching++
			n.Since = max(n.Since, record.Watched)
		}
	}
}
