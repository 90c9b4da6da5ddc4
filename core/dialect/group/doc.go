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
//
// # As few rules as there can be
//
// Clouds bound how many rules a group may have, and how many groups an instance may be in. rules
// (chunks.go) says whom a side admits to what with as few rules as it finds: addresses that are
// admitted to the same run of ports are written as the fewest prefixes that hold them and nobody who
// is admitted to less. Where it is too many all the same, TooMany names the statements that cost most.
//
// # Hosts that share groups
//
// Instances for which the policy makes no difference but for their addresses share their groups
// (fleet.go). A peer that is a role is written as that role's group where the cloud can do that, so
// that an instance which comes or goes changes no rule.
//
// # Where to look
//
//   - admitted.go: who may begin what; write.go, chunks.go, rule.go: the same as groups;
//   - fleet.go, names.go: the groups of all instances of a cloud, and what they are called;
//   - push.go: how they come into force; read.go, group.go: the document, and what it decides;
//   - concern.go: what of it concerns one instance; alone.go: instances without a filter of their own.
package group
