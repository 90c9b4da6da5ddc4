package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/netip"
	"os"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/ask"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/policy/policytest"
	"yellowfence.example/yfence/internal/limits"
)

func TestTheLimitsAreDocumented(t *testing.T) {
	const file = "../../docs/limits.md"
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(limits.Markdown()), 0o644))
	}
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Equal(t, limits.Markdown(), string(text), "run make generate")
}

// outcome is what whoever goes beyond a bound gets.
type outcome struct {
	status int
	detail string
	after  string // Retry-After
}

// call sends a request as it stands.
func (h *harbour) call(method, path string, body []byte) (o outcome) {
	req, err := http.NewRequest(method, h.url+"/api/v1"+path, bytes.NewReader(body))
	require.NoError(h.t, err)
	req.Header.Set("Authorization", "Bearer "+h.token)
	req.Header.Set("Content-Type", "application/json")
	res, err := http.DefaultClient.Do(req)
	require.NoError(h.t, err)
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	require.NoError(h.t, err)
	return outcome{res.StatusCode, string(text), res.Header.Get("Retry-After")}
}

func (h *harbour) send(method, path string, body any) outcome {
	text, err := json.Marshal(body)
	require.NoError(h.t, err)
	return h.call(method, path, text)
}

// tangle is a policy that can be published, and costs more than anybody would write to ask about.
func tangle(rules int) []check.Source {
	rng := rand.New(rand.NewPCG(1, uint64(rules)))
	var b strings.Builder
	b.WriteString(smallPolicy)
	for i := range rules {
		from := netip.PrefixFrom(netip.AddrFrom4([4]byte{byte(rng.IntN(200) + 1), byte(rng.IntN(256)), byte(rng.IntN(256)),
			byte(rng.IntN(256))}), 8+rng.IntN(24)).Masked()
		fmt.Fprintf(&b, "allow a%d: %s -> fleet : tcp %d-%d\n", i, from, 1+rng.IntN(30000), 30001+rng.IntN(30000))
	}
	return []check.Source{{Name: "p.fence", Text: b.String()}}
}

// hostile is a ruleset of random lines: what a host sends that wants to cost.
func hostile(lines int, seed uint64) api.Report {
	rng := rand.New(rand.NewPCG(seed, 9))
	var b strings.Builder
	b.WriteString("table inet t {\n\tchain c {\n\t\ttype filter hook input priority filter; policy drop;\n")
	for range lines {
		fmt.Fprintf(&b, "\t\tip saddr %d.%d.%d.%d/%d tcp dport %d-%d %s\n", rng.IntN(200)+1, rng.IntN(256), 0, 0, 16, 1+rng.IntN(30000),
			30001+rng.IntN(30000), []string{"accept", "drop"}[rng.IntN(2)])
	}
	b.WriteString("\t}\n}\n")
	r := report("charts-01", "")
	r.Dumps = []api.Dump{{Kind: "nft-text", Text: b.String()}}
	return r
}

// TestLimits reaches every bound of the table. Meanwhile the service lives, and takes less
// memory than it may.
func TestLimits(t *testing.T) {
	ctx := context.Background()
	h := newHarbour(t)
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	_, err = h.Publish(ctx, api.PublishRequest{Files: []check.Source{{Name: "p.fence", Text: smallPolicy}}, Why: "first"})
	require.NoError(t, err)
	host := h.as([]api.Right{api.Host}, "charts-01")

	watching, stop := context.WithCancel(ctx)
	var slowest, most atomic.Int64
	var watchers sync.WaitGroup
	defer watchers.Wait()
	defer stop()
	watchers.Go(func() {
		for watching.Err() == nil {
			begin := time.Now()
			require.Equal(t, 200, status(t, h.url+"/livez").StatusCode)
			slowest.Store(max(slowest.Load(), int64(time.Since(begin))))
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			most.Store(max(most.Load(), int64(m.HeapInuse)))
			time.Sleep(20 * time.Millisecond)
		}
	})
	publish := func(files ...check.Source) outcome {
		return h.send("POST", "/revisions", api.PublishRequest{Files: files, Why: "x"})
	}
	fence := func(text string) check.Source { return check.Source{Name: "p.fence", Text: text} }
	importing := func(text string) outcome {
		return h.send("PUT", "/fleet", api.ImportRequest{File: "fleet.json", Text: text})
	}
	asking := func() outcome {
		return h.send("POST", "/ask", api.Question{Question: "everywhere -> fleet : any"})
	}
	many := func(n int, one func() outcome) (all []outcome) {
		var mu sync.Mutex
		var wg sync.WaitGroup
		for range n {
			wg.Go(func() {
				o := one()
				mu.Lock()
				defer mu.Unlock()
				all = append(all, o)
			})
		}
		wg.Wait()
		return all
	}
	busiest := func(all []outcome) outcome { // whom there was no room for
		for _, o := range all {
			if o.status == 503 {
				return o
			}
		}
		return all[0]
	}
	var tangled sync.Once
	tangle := func() { // a policy that is published, and costs whoever asks about it
		tangled.Do(func() {
			o := publish(tangle(1800)...)
			require.Equal(t, 200, o.status, "%.300s", o.detail)
		})
	}
	comparing := func(ctx context.Context) outcome {
		_, err := h.Compare(ctx, api.CompareRequest{To: api.Side{Files: []check.Source{{Name: "p.fence",
			Text: smallPolicy + policytest.TooComplex(1500, "fleet")}}}})
		if p, ok := err.(*client.Problem); ok {
			return outcome{p.Status, p.Detail, map[int]string{503: "5"}[p.Status]}
		}
		return outcome{detail: fmt.Sprint(err)}
	}
	cases := map[string]func() outcome{
		"an ordinary request": func() outcome {
			return h.call("POST", "/ask",
				bytes.Repeat([]byte(" "), limits.Body+1))
		},
		"a request with a policy or a fleet file": func() outcome {
			return h.call("PUT", "/fleet",
				bytes.Repeat([]byte(" "), limits.PolicyBody+1))
		},
		"a fleet file": func() outcome {
			return h.call("PUT", "/fleet",
				bytes.Repeat([]byte(" "), limits.PolicyBody+1))
		},
		"a report, or what a host tells of its copies": func() outcome {
			return h.call("POST", "/hosts/charts-01/reports", bytes.Repeat([]byte(" "), limits.ReportBody+1))
		},
		"the statements of a policy, as text": func() outcome {
			return publish(fence(smallPolicy + strings.Repeat("# nothing\n",
				500_000)))
		},
		"the statements of a policy": func() outcome { return publish(fence(smallPolicy + strings.Repeat("role x\n", 10_001))) },
		"the lines of a policy's lists of addresses": func() outcome {
			return publish(fence(smallPolicy), check.Source{Name: "l.txt", Text: strings.Repeat("\n", 500_001)})
		},
		"the hosts of a fleet file":       func() outcome { return importing(`{"hosts": [` + strings.Repeat("{},", 200_001) + `{}]}`) },
		"how deep a fleet file is nested": func() outcome { return importing(strings.Repeat("[", 400_000)) },
		"what a host tells of its traffic at once": func() outcome {
			return h.call("POST", "/hosts/charts-01/traffic", bytes.Repeat([]byte(" "), limits.Traffic+1))
		},
		"a reason": func() outcome {
			return h.send("POST", "/revisions", api.PublishRequest{Files: []check.Source{fence(smallPolicy)},
				Why: strings.Repeat("x", limits.Words+1)})
		},
		"the copies that a host tells of": func() outcome {
			all := api.Copies{Version: 1, Host: "charts-01"}
			for n := range limits.Copies + 1 {
				all.Copies = append(all.Copies, api.CopyNote{Number: n + 1})
			}
			err := host.PutCopies(ctx, all)
			return outcome{problem(t, err).Status, problem(t, err).Detail, ""}
		},
		"what a comparison, a publish or an import works out": func() outcome { return comparing(ctx) },
		"how many of those are worked out at once": func() outcome {
			leave, cancel := context.WithTimeout(ctx, 3*time.Second) // whoever leaves is no longer worked for
			defer cancel()
			return busiest(many(limits.Computing+limits.ComputeWait+4, func() outcome { return comparing(leave) }))
		},
		"what a question works out": func() outcome {
			tangle()
			return asking()
		},
		"how many questions are answered at once": func() outcome {
			tangle()
			return busiest(many(limits.Asking+limits.AskWait+6, asking))
		},
		"what the rules of one host are compared with": func() outcome {
			d, err := host.Report(ctx, hostile(6000, 1))
			require.NoError(t, err)
			for deadline := time.Now().Add(time.Minute); strings.Contains(d.Why, "being read") &&
				time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
				all, err := h.Drift(ctx, "charts-01")
				require.NoError(t, err)
				d = all.Hosts[0]
			}
			return outcome{200, string(d.State) + " " + strings.Join(d.Unread, "; "), ""}
		},
		"how many hosts' rules are compared at once": func() outcome {
			var reports sync.WaitGroup
			defer reports.Wait()
			leave, cancel := context.WithCancel(ctx)
			defer cancel()
			for n := range 3 {
				reports.Go(func() { _, _ = host.Report(leave, hostile(3000, uint64(10+n))) })
			}
			for deadline := time.Now().Add(20 * time.Second); time.Now().Before(deadline); time.Sleep(20 * time.Millisecond) {
				begin := time.Now()
				all, err := h.Drift(ctx, "charts-01")
				require.NoError(t, err)
				require.Less(t, time.Since(begin), 4*time.Second, "whoever reads does not wait for it")
				if strings.Contains(all.Hosts[0].Why, "being read") {
					return outcome{200, all.Hosts[0].Why, ""}
				}
			}
			return outcome{}
		},
		"the reports of one host in a day that say something new": func() outcome {
			h.exec("INSERT INTO reports (host, taken_at, received_at, hash, size) VALUES ('jump-01', UTC_TIMESTAMP(6), UTC_TIMESTAMP(6), "+
				"REPEAT('x', 32), ?)", limits.ReportQuota)
			r := report("jump-01", emptyListing)
			return h.send("POST", "/hosts/jump-01/reports", r)
		},
		"failed sign-ins from one address": func() (o outcome) {
			for range limits.SignIns + 1 {
				o = h.send("POST", "/session", map[string]string{"token": "yft_wrong"})
			}
			return o
		},
		"tokens of one host that are in force": func() (o outcome) {
			for range limits.HostTokens + 1 {
				o = h.send("POST", "/tokens", api.TokenRequest{Name: "jump-01", Host: "jump-01", Rights: []api.Right{}})
			}
			return o
		},
		"tokens of people and programs that are in force": func() outcome {
			h.exec("INSERT INTO tokens (name, rights, hash, created_at) SELECT 'many', 'read', UNHEX(SHA2(CONCAT('many', seq), 256)), " +
				"NOW(6) FROM seq_1_to_1000")
			return h.send("POST", "/tokens", api.TokenRequest{Name: "one more", Rights: []api.Right{api.Read}})
		},
		"questions for tasks that one host has open": func() outcome {
			leave, cancel := context.WithCancel(ctx)
			defer cancel()
			refused := make(chan outcome, limits.Polls+1)
			for range limits.Polls + 1 {
				go func() {
					if _, err := host.Tasks(leave, "charts-01", 20*time.Second); err != nil && leave.Err() == nil {
						refused <- outcome{problem(t, err).Status, problem(t, err).Detail, "5"}
					}
				}()
			}
			return <-refused
		},
		"streams of what happens that one name has open": func() outcome {
			leave, cancel := context.WithCancel(ctx)
			defer cancel()
			for range limits.StreamsEach {
				s, err := h.Stream(leave, 0)
				require.NoError(t, err)
				defer s.Close()
			}
			return h.call("GET", "/stream", nil)
		},
		"the key of a request": func() outcome {
			_, err := h.NewKey(client.WithKey(ctx, strings.Repeat("k", limits.Key+1)))
			return outcome{problem(t, err).Status, problem(t, err).Detail, ""}
		},
		"the roles and networks of a matrix (reach)": func() outcome {
			text := smallPolicy
			for n := range ask.MostEnds {
				text += fmt.Sprintf("network far-%d = 198.18.%d.0/24\nallow far-%d: far-%d -> charts : https\n", n, n, n, n)
			}
			require.Equal(t, 200, publish(fence(text)).status)
			all, err := h.Reach(ctx, 0)
			require.NoError(t, err)
			require.Len(t, all.Ends, ask.MostEnds)
			require.Positive(t, all.More)
			return outcome{200, "the first of them, and how many more there are", ""}
		},
		"entries of a list in one answer": func() outcome { return h.call("GET", fmt.Sprintf("/waves?limit=%d", limits.Page+1), nil) },
	}
	for _, l := range limits.All {
		reach := cases[l.What]
		require.NotNil(t, reach, "nothing reaches the bound %q", l.What)
		begin := time.Now()
		o := reach()
		t.Logf("%-60s %6s  %d %.100s", l.What, time.Since(begin).Round(time.Millisecond), o.status, o.detail)
		code, detail, _ := strings.Cut(l.Answer, ":")
		switch first, more, _ := strings.Cut(code, " "); {
		case first == "the":
			detail = map[bool]string{true: "being read",
				false: "unread too complex to decide exactly"}[strings.Contains(l.Answer, "being read")]
		case strings.Contains(more, "413"):
			require.Equal(t, 413, o.status, l.What)
		default:
			require.Equal(t, first, fmt.Sprint(o.status), "%s: %.300s", l.What, o.detail)
			require.Equal(t, strings.Contains(more, "Retry-After"), o.after != "", l.What)
		}
		for _, part := range strings.Split(strings.ReplaceAll(strings.TrimSpace(detail), "N ", "\x00"), "\x00") {
			if detail != "" && !strings.Contains(l.Answer, "in its place") {
				require.Contains(t, o.detail, strings.TrimSpace(strings.Split(part, ";")[0]), l.What)
			}
		}
	}
	stop()
	watchers.Wait()
	t.Logf("the slowest answer of /livez took %s; at the most %d MiB of heap were in use", time.Duration(slowest.Load()), most.Load()>>20)
	require.Less(t, time.Duration(slowest.Load()), 5*time.Second, "/livez waits for nothing of all that")
	require.Less(t, most.Load(), int64(1<<30))
}
