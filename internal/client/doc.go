// Package client calls the service's API. Each call is a method with the API's own types; an
// error says what the service said, as a Problem.
//
//	svc := client.New("https://fence.saltmarsh.example", token)
//	drift, err := svc.Drift(ctx, "charts-01")
//
// A call takes two minutes at most, or less by its context.
//
// # What a caller can rely on
//
// A list that comes in parts is read to its end, with a bound on how many. What the service says of a
// mistake is a Problem with the places of all mistakes; a service that does not answer, or something
// else that answers at its URL, is an error that names the URL. Nothing is tried again here: that is
// for callers who know that it may be.
package client
