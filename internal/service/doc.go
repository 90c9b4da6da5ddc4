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
package service
