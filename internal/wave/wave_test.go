package wave_test

import (
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/fleet"
	"yellowfence.example/yfence/internal/wave"
)

var update = flag.Bool("update", false, "write what came out into the sessions")

// TestSessions plays the sessions in testdata: after each line that begins with ">" stands what
// the machine made of it.
func TestSessions(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txt")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, name := range files {
		t.Run(strings.TrimSuffix(filepath.Base(name), ".txt"), func(t *testing.T) {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			p := newPlay()
			var out strings.Builder
			for line := range strings.Lines(string(text)) {
				line = strings.TrimSuffix(line, "\n")
				event, is := strings.CutPrefix(line, "> ")
				switch {
				case is:
					out.WriteString(line + "\n")
					for _, said := range p.event(t, event) {
						out.WriteString(said + "\n")
					}
				case line == "" || strings.HasPrefix(line, "#"):
					out.WriteString(line + "\n")
				}
			}
			if *update {
				require.NoError(t, os.WriteFile(name, []byte(out.String()), 0o644))
			}
			require.Equal(t, string(text), out.String())
		})
	}
}

// play is a wave, and all that is observed while it runs.
type play struct {
	wave wave.Observed
	w    api.Wave
	now  time.Time
	last int64
}

var start = time.Unix(1_800_000_000, 0).UTC()

func newPlay() *play {
	p := &play{now: start}
	p.wave = wave.Observed{Agents: map[string]wave.Agent{}, Tasks: map[int64]api.TaskStatus{}, Asked: map[string]wave.Asked{},
		Ways:      map[string]wave.Ways{},
		Instances: map[string]wave.Instance{}, Sources: map[int]wave.Verdict{},
		Outage: wave.Outage{From: start.Add(-time.Hour), End: start.Add(-time.Hour)}}
	p.wave.Number = func() int64 { p.last++; return p.last }
	return p
}

// event does what a line of a session says, and gives what came of it.
func (p *play) event(t *testing.T, line string) (said []string) {
	words := strings.Fields(line)
	options := map[string]string{}
	var args []string
	for _, w := range words[1:] {
		if key, value, ok := strings.Cut(w, "="); ok {
			options[key] = strings.ReplaceAll(value, "_", " ")
		} else {
			args = append(args, w)
		}
	}
	number := func(s string) int64 { n, err := strconv.ParseInt(s, 10, 64); require.NoError(t, err, line); return n }
	ago := func(s string) time.Time {
		d, err := time.ParseDuration(s)
		require.NoError(t, err, line)
		return p.now.Add(-d)
	}
	switch words[0] {
	case "wave": // HOST[@CLOUD]/STEP ... [pause=yes] [skip=yes]
		p.w = api.Wave{Number: 3, State: api.WaveRunning, Step: 1, Within: "1m0s", PauseBetween: options["pause"] != "",
			SkipProbes: options["skip"] != ""}
		for _, arg := range args {
			subject, step, _ := strings.Cut(arg, "/")
			name, cloud, _ := strings.Cut(subject, "@")
			p.w.Hosts = append(p.w.Hosts, api.WaveHost{Name: name, Cloud: cloud, Step: int(number(step)), Pair: 7, Phase: api.HostDue})
			p.w.Steps = max(p.w.Steps, int(number(step)))
		}
	case "next":
		before, err := json.Marshal(p.w)
		require.NoError(t, err)
		next, todo := wave.Next(p.w, p.wave, p.now)
		after, err := json.Marshal(p.w)
		require.NoError(t, err)
		require.JSONEq(t, string(before), string(after), "the wave that is given is not changed")
		return p.became(next, todo)
	case "stop":
		return p.became(wave.Stop(p.w, p.wave, "stopped by pat", p.now))
	case "go-on":
		return p.became(wave.GoOn(p.w, p.now), wave.Commands{})
	case "told":
		return p.became(wave.Told(p.w, args[0], api.HostChange{ID: options["change"], Why: options["why"]}), wave.Commands{})
	case "aside":
		return p.became(wave.SetAside(p.w, "a mistake of ours", p.now), wave.Commands{})
	case "after": // TIME
		d, err := time.ParseDuration(args[0])
		require.NoError(t, err)
		p.now = p.now.Add(d)
	case "done": // TASK [failed=] [change=] [came=] [from=] [reached=]
		task := p.wave.Tasks[number(args[0])]
		task.Done, task.Result = new(p.now),
			&api.TaskResult{Failed: options["failed"], Came: options["came"], From: options["from"], Reached: options["reached"]}
		if options["change"] != "" {
			task.Result.Change = &api.HostChange{ID: options["change"]}
		}
		p.wave.Tasks[task.ID] = task
	case "agent": // HOST heard=AGO [change= phase= task= why= left=]
		a := wave.Agent{AskedAt: ago(options["heard"])}
		if options["change"] != "" {
			a.Change = &api.HostChange{ID: options["change"], Phase: api.Phase(options["phase"]), Why: options["why"], Kind: "settle",
				Until: p.now.Add(time.Minute)}
			if options["task"] != "" {
				a.Change.Task = number(options["task"])
			}
			if options["left"] != "" {
				d, err := time.ParseDuration(options["left"])
				require.NoError(t, err)
				a.Change.Until = p.now.Add(d)
			}
		}
		if options["pair"] != "" {
			a.Pair = number(options["pair"])
		}
		p.wave.Agents[args[0]] = a
	case "asked": // SUBJECT pair= previous=
		p.wave.Asked[args[0]] = wave.Asked{Pair: number(options["pair"]), Previous: number(options["previous"])}
	case "ways": // SUBJECT FROM ... [away=FROM]
		var ways wave.Ways
		for i, from := range args[1:] {
			ways.In = append(ways.In, wave.Way{From: from, To: netip.MustParseAddrPort(fmt.Sprintf("192.0.2.%d:22", i+1))})
		}
		if options["away"] != "" {
			ways.Away = strings.Split(options["away"], ",")
		}
		p.wave.Ways[args[0]] = ways
	case "instance": // SUBJECT [in-force=yes] [failed=] [gone=yes] [failing=] [unknown=yes]
		p.wave.Instances[args[0]] = wave.Instance{ID: "i-1", InForce: options["in-force"] != "", Failed: options["failed"],
			Gone: options["gone"] != "", Failing: options["failing"], Unknown: options["unknown"] != ""}
	case "outage": // from=AGO end=AGO
		p.wave.Outage = wave.Outage{From: ago(options["from"])}
		if options["end"] != "" {
			p.wave.Outage.End = ago(options["end"])
		}
	case "chosen": // [STATEMENT:CHANGE] [FROM>TO=admits|refuses ...]
		c := &wave.Chosen{}
		for _, arg := range args {
			statement, change, _ := strings.Cut(arg, ":")
			c.Statements = append(c.Statements, api.Proof{Statement: "allow " + statement, Change: change})
		}
		for _, key := range slices.Sorted(func(yield func(string) bool) {
			for k := range options {
				if !yield(k) {
					return
				}
			}
		}) {
			from, to, _ := strings.Cut(key, ">")
			trial := api.Trial{For: "crew", From: from, To: to, Address: "192.0.2.9", Source: "192.0.2.1", Service: "tcp 443",
				Admitted: options[key] == "admits"}
			if len(c.Statements) > 0 {
				trial.For, trial.Change = c.Statements[0].Statement, c.Statements[0].Change
			}
			c.Trials = append(c.Trials, trial)
		}
		p.wave.Chosen = c
	case "source": // TRIAL admits|refuses|unclear=
		p.wave.Sources[int(number(args[0]))] = wave.Verdict{Admitted: len(args) > 1 && args[1] == "admits", Unclear: options["unclear"]}
	default:
		t.Fatalf("no event %q", line)
	}
	return nil
}

// became stores a step as the service would, and says what is new.
func (p *play) became(next api.Wave, todo wave.Commands) (said []string) {
	for i, h := range next.Hosts {
		was := p.w.Hosts[i]
		if h.Phase != was.Phase || h.Why != was.Why {
			said = append(said, strings.TrimSuffix(fmt.Sprintf("  %s is %s: %s", h.Subject(), h.Phase, h.Why), ": "))
		}
		if h.Had != was.Had {
			said = append(said, fmt.Sprintf("  %s had pair %d", h.Subject(), h.Had))
		}
	}
	for _, t := range todo.Tasks {
		of := strings.Trim(fmt.Sprint(t.Do, " ", t.Change), " ")
		if t.Probe != nil {
			of += fmt.Sprintf(" %s:%d", t.Probe.To, t.Probe.Port)
		}
		said = append(said, fmt.Sprintf("  task %d: %s %s", t.ID, t.Host, of))
		t.Asked = p.now
		p.wave.Tasks[t.ID] = api.TaskStatus{Task: t}
	}
	for _, a := range todo.Asks {
		said = append(said, fmt.Sprintf("  %s is asked for pair %d", a.Subject, a.Pair))
	}
	for _, left := range next.Left[len(p.w.Left):] {
		said = append(said, "  left: "+left)
	}
	for _, proof := range next.Proofs {
		if !slices.Contains(p.w.Proofs, proof) {
			said = append(said, fmt.Sprintf("  %s, %s: passed %q, refused %q", proof.Statement, proof.Change, proof.Passed, proof.Refused))
		}
	}
	if next.State != p.w.State || next.Step != p.w.Step {
		said = append(said, strings.TrimSuffix(fmt.Sprintf("  the wave is %s at step %d of %d: %s", next.State, next.Step, next.Steps,
			next.Stopped), ": "))
	}
	if next.Held != p.w.Held {
		said = append(said, fmt.Sprintf("  %d connections came out as the policy says", next.Held))
	}
	p.w = next
	if said == nil {
		said = []string{"  nothing"}
	}
	return said
}

// TestWhateverHappens plays random answers, silences and outages: nothing is kept that was not
// shown to be open, what stops leaves nothing in force, and what has ended stays as it is.
func TestWhateverHappens(t *testing.T) {
	states := map[string]int{}
	for seed := range uint64(600) {
		rng := rand.New(rand.NewPCG(seed, 16))
		p := newPlay()
		p.event(t, "wave a/1 b@dunlin/1 c/2 d@dunlin/2")
		for _, subject := range []string{"a", "b@dunlin", "c", "d@dunlin"} {
			p.event(t, fmt.Sprintf("asked %s pair=5 previous=%d", subject, rng.IntN(2)*4))
			if rng.IntN(4) > 0 {
				p.event(t, "ways "+subject+" hill quay")
			}
		}
		p.event(t, []string{"chosen", "chosen site:new a>c=admits", "chosen a>c=admits c>a=refuses"}[rng.IntN(3)])
		open := map[string]bool{} // whose way in was shown to be open
		for range 200 {
			if p.w.State != api.WaveRunning {
				break
			}
			for id, task := range p.wave.Tasks {
				if task.Done != nil || rng.IntN(3) == 0 {
					continue
				}
				came := []string{"answered", "answered", "answered", "silent", "refused"}[rng.IntN(5)]
				switch {
				case rng.IntN(40) == 0:
					p.event(t, fmt.Sprintf("done %d failed=no", id))
				case task.Do == "settle":
					p.event(t, fmt.Sprintf("done %d change=c%d", id, id))
				case task.Do == "probe":
					p.event(t, fmt.Sprintf("done %d came=%s", id, came))
					for _, h := range p.w.Hosts {
						open[h.Subject()] = open[h.Subject()] || h.Probe == id && came != "silent" && (came == "answered" || h.Cloud != "")
					}
				default:
					p.event(t, fmt.Sprintf("done %d", id))
				}
			}
			for _, subject := range []string{"b@dunlin", "d@dunlin"} {
				p.event(t, "instance "+subject+[]string{"", "", " in-force=yes", " in-force=yes",
					" failed=full"}[rng.IntN(4+rng.IntN(20)/19)])
			}
			if rng.IntN(30) == 0 {
				p.event(t, "outage from=40s end=1s")
				p.event(t, "agent a heard=50s")
			}
			p.event(t, fmt.Sprintf("after %ds", rng.IntN(12)))
			p.event(t, "next")
			for _, h := range p.w.Hosts {
				if h.Phase == api.HostKept {
					noWay := len(p.wave.Ways[h.Subject()].In) == 0
					require.True(t, open[h.Subject()] || h.Cloud != "" && noWay,
						"seed %d: %s was kept, and nobody showed that it is open", seed, h.Subject())
				}
				require.True(t, h.Step <= p.w.Step || h.Phase == api.HostDue, "seed %d: a step waits for those before", seed)
			}
		}
		states[p.w.State]++
		if p.w.State == api.WaveRunning {
			continue
		}
		for _, h := range p.w.Hosts {
			require.NotContains(t, []string{api.HostAsked, api.HostInForce, api.HostProbed, api.HostKeeping}, h.Phase, "seed %d", seed)
		}
		ended, todo := wave.Next(p.w, p.wave, p.now)
		require.Equal(t, p.w, ended)
		require.Empty(t, todo)
	}
	require.Greater(t, states[api.WaveDone], 50)
	require.Greater(t, states[api.WaveStopped], 50)
}

// TestSteps: which hosts are settled by the end of each step.
func TestSteps(t *testing.T) {
	var hosts []*fleet.Host
	for i := range 20 {
		hosts = append(hosts, &fleet.Host{Name: fmt.Sprint("h", i), Roles: []string{[]string{"web", "db"}[i/10]}})
	}
	for _, test := range []struct {
		sizes string
		want  string
	}{
		{"", "[2 18]"}, // a tenth is no more than one of each role
		{"1 10% 50%", "[1 1 8 10]"},
		{"5", "[5 15]"},
		{"100%", "[20]"},
		{"7 3", "[7 13]"}, // a size that is reached already is no step
		{"0", `"0" is no size of a step: say a number of hosts, or a share as 10%`},
		{"half", `"half" is no size of a step: say a number of hosts, or a share as 10%`},
	} {
		var sizes []string
		if test.sizes != "" {
			sizes = strings.Fields(test.sizes)
		}
		steps, err := wave.Steps(hosts, sizes)
		if err != nil {
			require.Equal(t, test.want, err.Error())
			continue
		}
		var lengths []int
		for _, step := range steps {
			lengths = append(lengths, len(step))
		}
		require.Equal(t, test.want, fmt.Sprint(lengths), test.sizes)
	}
	steps, err := wave.Steps(hosts, nil)
	require.NoError(t, err)
	require.Equal(t, []*fleet.Host{hosts[0], hosts[10]}, steps[0], "one of each role first")
	w := wave.LayOut(api.Wave{}, steps, func(h *fleet.Host) []api.WaveHost { return []api.WaveHost{{Name: h.Name}} })
	require.Equal(t, 2, w.Steps)
	require.Equal(t, api.WaveHost{Name: "h10", Step: 1}, w.Hosts[1])
}
