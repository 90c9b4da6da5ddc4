// Package ask answers what becomes of traffic: by a policy, at both of its ends,
// or by what one kernel has in force. An answer is for every packet the question
// speaks of.
//
//	asker := ask.NewAsker(pol)                          // keep it: the next answer comes quickly
//	answer, problems, err := asker.PolicyWithin(budget, q, now)
//	answer, problems := ask.Dump(sp, pol, ruleset, q, now)
//
// A question (fence.Question) leaves open what it does not say: of a side that is a
// role, all hosts of it are meant, and of a host all its addresses. Where these fare
// differently the verdict is Mixed, and there is an Example of each. Uncertain is what
// depends on something that no dump tells.
//
// The steps of an answer say who decides at each end, in the order of a packet's way:
// the sender's outbound, routers, and the receiver's inbound.
//
// # How an answer is put together
//
// The question's two sides are parties of package reach: hosts that are alike are asked once. What
// becomes of all packets between two parties is one decision, with who decided in it; the answer's
// verdict is whether that decision is one and the same for all packets that the question speaks of.
//
// In a large fleet the policy is first cut down to what speaks of the question (manyHosts), which
// changes no answer. An Asker keeps what it has worked out for the next question, within a bound.
//
// Where a host's routes do not say by which interface a packet comes, the question can (`in at eth1`);
// where it does not, all of them are meant, and what was assumed is told (Answer.Assumed).
package ask
