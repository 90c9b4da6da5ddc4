package client_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
)

// answering is a stand-in that gives one answer.
func answering(status int, body string) *httptest.Server {
	return httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		_, _ = fmt.Fprint(w, body)
	}))
}

// How hosts differ from what is published.
func ExampleClient_Drift() {
	server := answering(200, `{"version": 1, "revision": 4, "hosts": [{"host": "logbook-01", "state": "drifted", "findings": [
		{"kind": "opened", "sentence": "Postgres is open to the whole quay-lan."}]}]}`)
	defer server.Close()
	svc := client.New(server.URL, "yft_…")
	drift, err := svc.Drift(context.Background(), "logbook-01")
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, h := range drift.Hosts {
		fmt.Println(h.Host, h.State)
		for _, f := range h.Findings {
			fmt.Println(" ", f.Kind, f.Sentence)
		}
	}
	// Output:
	// logbook-01 drifted
	//   opened Postgres is open to the whole quay-lan.
}

// What the service refuses is a Problem: its code is for programs.
func ExampleProblem() {
	server := answering(403, `{"status": 403, "title": "Forbidden", "code": "needs-approval",
		"detail": "this needs the approval of 1 person besides its author; propose it"}`)
	defer server.Close()
	_, err := client.New(server.URL, "yft_…").Publish(context.Background(), api.PublishRequest{Why: "open the charts"})
	var p *client.Problem
	if errors.As(err, &p) && p.Code == api.NeedsApproval {
		fmt.Println("propose it:", p.Detail)
	}
	// Output: propose it: this needs the approval of 1 person besides its author; propose it
}

// A stream tells what happens, as it happens.
func ExampleClient_Stream() {
	server := answering(200, "retry: 3000\n\nid: 48\nevent: wave.ended\ndata: {\"number\": 48, \"kind\": \"wave.ended\", \"event\": "+
		"{\"number\": 48, \"type\": \"wave.ended\", \"subject\": \"wave 3\"}}\n\n: here\n\nevent: look\ndata: {\"kind\": \"look\", "+
		"\"look\": [\"reports\"]}\n\n")
	defer server.Close()
	stream, err := client.New(server.URL, "yft_…").Stream(context.Background(), 47, "wave")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer func() { _ = stream.Close() }()
	for {
		m, err := stream.Next()
		if err != nil {
			fmt.Println(err)
			return
		}
		switch {
		case m.Event != nil:
			fmt.Println(m.Number, m.Event.Type, m.Event.Subject)
		default:
			fmt.Println("look again at", m.Look)
		}
	}
	// Output:
	// 48 wave.ended wave 3
	// look again at [reports]
	// EOF
}
