// Package group writes what a policy means for a cloud instance as security
// groups, and reads groups back into what they decide.
//
//	s := group.Of(sp, plan)                     // who may begin what, exactly
//	groups, err := s.Write(sp, group.Abilities{RulesPerGroup: 60})
//	rules, err := group.Read(sp, h, document)   // as a ruleset like any other
//
// A group is stateful: what belongs to a connection passes. It sees neither loopback nor
// who sends, cannot count, and knows no interfaces; what a policy says of those is left to
// the host's own filter, and is told (Admitted.Left).
//
// A group only admits. What blocks take away is taken out of what allows admit before it is
// written, as prefixes. Where a host's own filter has nothing to say (dialect none), the
// groups are all there is, and what they cannot say is refused (Alone).
//
// How groups come into force without a gap is in push.go: a group is never changed. It is
// made under a name by its content, instances join it before they leave another, and what
// nobody is in is deleted (Steps).
package group
