// Package service is the Yellow Fence service: the API under /api/v1 and the
// pages of the console. It keeps nothing of its own; everything is in the store,
// and any number of services may run on one database.
//
//	s := service.New(service.Options{Store: st, Log: log})
//	http.ListenAndServe(address, s.Handler())
//
// Routes are on one screen (service.go), with the right that each needs. A handler is a function
// from a request's type to a response's; what goes wrong is told by refused (the caller's
// mistake), told (an answer already) or broken (ours, whose cause is for the log).
//
// What takes long is computed in queues with bounds on number, nodes and time (queue.go), and
// what is known of hosts is kept between requests, and made anew where the database says more
// (view.go, model.go). Reports are judged as they come, and again when what is published
// changes (judging.go). Which instant all of this is for, and how long it may take, are two
// things: see clock.go.
//
// Waves are run here and decided in package wave: a step reads what the machine wants to know,
// and stores what it says, in one transaction (wavesteps.go).
//
// # How much it takes
//
// Every request is bounded before it is read: its body, how often its sender may ask, how many wait
// already. What has to be worked out is given a budget of cases and of time (queue.go), in classes that
// never wait for one another: questions do not wait behind a publication, nor people behind reports. A
// bound that was reached is told with what would take less.
//
// # What several services do
//
// All of them answer everything. What only one may do at a time, such as looking after a cloud, is held
// by a row with an end, so that another takes over when one is gone. What each keeps in memory
// (model.go, view.go, results of judging) is a copy of what the database says, read anew by what changed
// there since; nothing waits for a message from one service to another.
//
// # Where to look
//
//   - service.go: routes; rights.go, auth.go, tries.go, signin.go, people.go: who asks, and what he may; pages.go: the console;
//   - keyed.go, tag.go, problems.go, stream.go: what all requests have in common: done once, told once, refused in one form;
//   - proposals.go, standing.go, weigh.go: changes that wait for approval; record.go, events.go, look.go, notice.go: what
//     is recorded and told; metrics.go, tracing.go, settings.go, sizes.go: what whoever runs it needs;
//   - policy.go, compare.go, ask.go, rules.go: policies and questions;
//   - reports.go, judging.go, judge.go, known.go, hosts.go, compared.go, around.go: how hosts stand;
//   - hosting.go, meet.go, follow.go: hosts that come, tasks, and what came by itself;
//   - waves.go, wavesteps.go, wavetrials.go, waysin.go, probes.go: waves and real connections;
//   - clouds.go, room.go, lists.go, outage.go, prune.go: what goes on without being asked.
package service
