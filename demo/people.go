package main

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"

	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/internal/provider"
)

// approvals is what the harbour asks of changes: whatever lets strangers in is looked at by a second
// person. What closes goes at once.
const approvals = `approvals:
  - {when: opens-to-strangers, people: 1}
`

// signIns has the harbour's people sign in through a provider that asks for no password, and gives what
// the service's configuration says of it.
func (d *demo) signIns() string {
	var p *provider.Provider
	d.people = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { p.Handler().ServeHTTP(w, r) }))
	p = provider.New(d.people.URL, provider.Person{Name: "pat", Groups: []string{"crew"}}, provider.Person{Name: "kim",
		Groups: []string{"wardens"}})
	return "sign-in:\n  issuer: " + d.people.URL + "\n  client-id: fence\n  url: " + d.url +
		"\n  rights:\n    crew: [read, propose, publish, " +
		"settle, pause]\n    wardens: [read, approve]\n"
}

// twoPeople has a change wait for a second person, who declines it; and another, which is approved and
// put in force: the first policy again, with the ways in and the chart site for everybody.
func (d *demo) twoPeople(ctx context.Context) error {
	for _, person := range []string{"pat", "kim"} { // as yfence login does
		id, err := provider.Play(ctx, d.people.URL, "fence", person)
		if err != nil {
			return err
		}
		s, err := client.New(d.url, "").SignInPerson(ctx, id)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(d.dir, "session-"+person), []byte(s.Secret+"\n"), 0o600); err != nil {
			return err
		}
	}
	dir := filepath.Join(d.dir, "hill")
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if err := os.CopyFS(dir, os.DirFS(filepath.Join(d.dir, "narrower"))); err != nil { // what is published now
		return err
	}
	file := filepath.Join(dir, "rules.fence")
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	text = append(text, "allow hill-reads: hill-lan -> logbook : https\n"...)
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return err
	}
	const kims, pats = "session-kim", "session-pat"
	for _, step := range []struct {
		says, as string
		code     int
		args     []string
	}{
		{"Pat, who signed in through the harbour's identity provider, wants the hill to read the logbook. Strangers are on that network " +
			"too, so that it takes a second person:\n\n" +
			"$ yfence publish -m 'the hill reads the logbook'", pats, 1,
			[]string{"publish", "--policy", dir, "-m", "the hill reads the logbook", "--yes"}},
		{"\n$ yfence propose -m 'the hill reads the logbook'", pats, 0, []string{"propose", "--policy", dir, "-m",
			"the hill reads the logbook"}},
		{"\n$ yfence proposals decline 1 -m 'strangers share that network'         # kim, the second person", kims, 0,
			[]string{"proposals", "decline", "1", "-m", "strangers share that network"}},
		{"\nThe first policy is proposed again, approved, published, and put in force:\n\n$ yfence propose -m 'the ways in are needed'",
			pats, 0,
			[]string{"propose", "--policy", d.policy, "-m", "the ways in are needed"}},
		{"\n$ yfence proposals approve 2         # kim", kims, 0, []string{"proposals", "approve", "2", "--yes"}},
		{"\n$ yfence proposals publish 2", pats, 0, []string{"proposals", "publish", "2"}},
	} {
		fmt.Println(step.says)
		if err := d.operateAs(ctx, step.as, step.code, step.args...); err != nil {
			return err
		}
	}
	return nil
}

// showRecord shows who did what, and that nothing of it was changed.
func (d *demo) showRecord(ctx context.Context) error {
	fmt.Println("\n$ yfence record --limit 16")
	if err := d.operate(ctx, 0, "record", "--limit", "16"); err != nil {
		return err
	}
	fmt.Println("\n$ yfence record verify")
	if err := d.operate(ctx, 0, "record", "verify"); err != nil {
		return err
	}
	fmt.Println("\nWhat the harbour's pager was told of hosts, waves and revisions, each once:")
	if err := d.pager.print(os.Stdout); err != nil {
		return err
	}
	return d.showFigures()
}

// showFigures shows the figures of /metrics that are not nothing.
func (d *demo) showFigures() error {
	token, err := os.ReadFile(filepath.Join(d.dir, "token"))
	if err != nil {
		return err
	}
	req, err := http.NewRequest(http.MethodGet, d.url+"/metrics", nil)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+strings.TrimSpace(string(token)))
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer func() { _ = res.Body.Close() }()
	fmt.Println("\n$ curl -H 'Authorization: Bearer …' " + d.url + "/metrics | grep -E '^yfence_(hosts|findings)'")
	for lines := bufio.NewScanner(res.Body); lines.Scan(); {
		if line := lines.Text(); (strings.HasPrefix(line, "yfence_hosts") || strings.HasPrefix(line, "yfence_findings")) &&
			!strings.HasSuffix(line, " 0") {
			fmt.Println(line)
		}
	}
	return nil
}
