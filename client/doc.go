// Package client calls the API of a Yellow Fence service. Each call is a method with the types of package api; an
// error says what the service said, as a Problem.
//
//	svc := client.New("https://fence.saltmarsh.example", token).Insist(3)
//	drift, err := svc.Drift(ctx, "charts-01")
//
// A call takes two minutes at most, or less by its context. A client may be used by several goroutines at once.
//
// # What a caller can rely on
//
// A list that comes in parts is read to its end, with a bound on how many. What the service says of a
// mistake is a Problem, with a code for programs and the places of all mistakes; a service that does not answer,
// or something else that answers at its URL, is an error that names the URL. Nothing is tried again unless the
// caller says so: Insist, which does nothing twice, or WithKey for keys of one's own.
//
// # Compatibility
//
// The package follows semantic versioning (Version): what is exported stays, and keeps its meaning, until the
// first number changes. A service of the same major version of the API (/api/v1) may be older or newer; what it
// does not know yet is a Problem with the code not-found.
package client

// Version is that of the package.
const Version = "1.0.0"
