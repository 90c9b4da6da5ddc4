// Package dunlin is a small cloud to try things on: instances, security groups and who is
// in which, behind an HTTP API of our own. It behaves as clouds do: what is asked takes a
// while to be in force, who asks too often is told to wait, and now and then it fails.
//
//	c := dunlin.New(dunlin.Options{Token: "…", Abilities: …})
//	http.ListenAndServe("127.0.0.1:8490", c.Handler())
//
// # What it is for
//
// The tests of clouds, the demo and whoever wants to see groups work have one cloud that needs no
// account anywhere. Its groups are enforced for real: EnforcerRules are rules for the namespace that
// stands between an instance and everybody else (testbed.NewEnforcer), so that what a group decides can
// be compared with what a kernel does.
//
// It has moods, by Options and at run time by Fault: what is asked takes effect late, an answer is lost
// after the work was done, or cut, or none at all, and half of a request is carried out.
package dunlin
