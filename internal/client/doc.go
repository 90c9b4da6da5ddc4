// Package client calls the service's API. Each call is a method with the API's own types; an
// error says what the service said, as a Problem.
//
//	svc := client.New("https://fence.saltmarsh.example", token)
//	drift, err := svc.Drift(ctx, "charts-01")
//
// A call takes two minutes at most, or less by its context.
package client
