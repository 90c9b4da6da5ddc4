package store_test

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/record"
	"yellowfence.example/yfence/core/traffic"
	"yellowfence.example/yfence/internal/store"
	"yellowfence.example/yfence/internal/testbed"
	"yellowfence.example/yfence/internal/wave"
)

// fill makes tables as large as those of a fleet of 20,000 hosts after some months.
var fill = []string{
	"INSERT INTO content (hash, body, created_at) SELECT UNHEX(SHA2(CONCAT('c', seq), 256)), '[]', NOW(6) - INTERVAL 1 MINUTE FROM " +
		"seq_1_to_40000",
	"INSERT INTO revisions (number, author, why, published_at, hash) SELECT seq, 'pat', 'why', NOW(6), UNHEX(SHA2(CONCAT('c', seq), " +
		"256)) FROM seq_1_to_4000",
	"INSERT INTO generations SELECT seq, 'pat', 'why', NOW(6), UNHEX(SHA2(CONCAT('c', seq), 256)) FROM seq_1_to_4000",
	"INSERT INTO pairs (number, revision, generation, made_at) SELECT seq, seq, seq, NOW(6) FROM seq_1_to_4000",
	"UPDATE counters SET value = 4000",
	"INSERT INTO asked (host, pair, previous, asked_at, changed_at) SELECT CONCAT('h', seq), 4000, 3999, NOW(6), NOW(6) - INTERVAL 1 " +
		"HOUR FROM seq_1_to_20000",
	"INSERT INTO reports (host, taken_at, received_at, hash, size) SELECT CONCAT('h', seq MOD 20000 + 1), NOW(6), NOW(6), " +
		"UNHEX(SHA2(CONCAT('c', seq MOD 40000 + 1), 256)), 1000 FROM seq_1_to_60000",
	"INSERT INTO newest (host, report, changed_at) SELECT host, MAX(id), NOW(6) - INTERVAL 1 HOUR FROM reports GROUP BY host",
	"INSERT INTO reports (host, taken_at, received_at, hash, size) SELECT 'h1', NOW(6) - INTERVAL 3 DAY, NOW(6) - INTERVAL 3 DAY, " +
		"UNHEX(SHA2(CONCAT('c', seq), 256)), 1000 FROM seq_1_to_20000",
	"INSERT INTO findings (host, dump, pair, result) SELECT CONCAT('h', seq), UNHEX(SHA2(CONCAT('c', seq), 256)), 4000, UNHEX(SHA2('c1', " +
		"256)) FROM seq_1_to_20000",
	"INSERT INTO tokens (name, rights, host, hash, created_at) SELECT CONCAT('h', seq), 'host', CONCAT('h', seq), UNHEX(SHA2(CONCAT('t', " +
		"seq), 256)), NOW(6) FROM seq_1_to_20000",
	"INSERT INTO sessions (hash, token, expires_at) SELECT UNHEX(SHA2(CONCAT('s', seq), 256)), seq, NOW(6) + INTERVAL 1 HOUR FROM " +
		"seq_1_to_20000",
	"INSERT INTO enrolments SELECT UNHEX(SHA2(CONCAT('e', seq), 256)), CONCAT('h', seq), NOW(6) + INTERVAL 1 HOUR, NULL FROM " +
		"seq_1_to_20000",
	"INSERT INTO enrolled SELECT CONCAT('h', seq), NOW(6), '{}' FROM seq_1_to_20000",
	"INSERT INTO tasks (id, host, task, until, done_at, result) SELECT seq, CONCAT('h', seq MOD 20000 + 1), '{}', NOW(6) + INTERVAL 1 " +
		"HOUR, NOW(6), '{}' FROM seq_1_to_50000",
	"INSERT INTO attending (host, asked_at, around, changed_at, polled_at) SELECT CONCAT('h', seq), NOW(6), '{}', NOW(6) - INTERVAL 1 " +
		"HOUR, NOW(6) - INTERVAL 1 HOUR FROM seq_1_to_20000",
	"INSERT INTO surroundings SELECT CONCAT('h', seq), NOW(6), '{}', NULL FROM seq_1_to_20000",
	"INSERT INTO traffic SELECT CONCAT('h', seq), NOW(6), '{}', '{}', '{}' FROM seq_1_to_20000",
	"INSERT INTO copies SELECT CONCAT('h', seq), 1, '{}' FROM seq_1_to_20000",
	"INSERT INTO boot_dumps SELECT CONCAT('h', seq), UNHEX(SHA2(CONCAT('c', seq), 256)) FROM seq_1_to_20000",
	"INSERT INTO waves (number, state, summary, running) SELECT seq, '{}', '{}', FALSE FROM seq_1_to_4000",
	"INSERT INTO wave_hosts SELECT CONCAT('w', seq), seq FROM seq_1_to_5000",
	"INSERT INTO keyed SELECT UNHEX(SHA2(seq, 256)), NOW(6), 'x', NOW(6), NULL, NULL, 200, '{}' FROM seq_1_to_20000",
	"INSERT INTO made_once SELECT UNHEX(MD5(seq)), NOW(6) FROM seq_1_to_20000",
	"INSERT INTO events (number, id, type, subject, at, data) SELECT seq, MD5(seq), 'wave.began', CONCAT('wave ', seq), NOW(6), '{}' " +
		"FROM " +
		"seq_1_to_4000",
	"INSERT INTO deliveries (destination, event, subject, state, next_at) SELECT 'pager', seq, CONCAT('wave ', seq), IF(seq < 3990, " +
		"'done', " +
		"'due'), NOW(6) FROM seq_1_to_4000",
	"INSERT INTO host_states (host, told, told_at, state, changes) SELECT CONCAT('h', seq), 'in step', NOW(6), 'in step', 0 FROM " +
		"seq_1_to_20000",
	"INSERT INTO tallies SELECT NOW(6) - INTERVAL seq * 10 MINUTE, 7, '{}' FROM seq_1_to_12000",
	"INSERT INTO proposals (number, author, why, state, pair, files, accept, made_at, changed_at) SELECT seq, 'pat', 'why', 'declined', " +
		"seq, UNHEX(SHA2(CONCAT('c', seq), 256)), 'null', NOW(6), NOW(6) FROM seq_1_to_4000",
	"INSERT INTO record (number, body, head) SELECT seq, JSON_OBJECT('number', seq, 'by', JSON_OBJECT('name', CONCAT('n', seq MOD 40)), " +
		"'deed', CONCAT('d', seq MOD 10), 'on', CONCAT('h', seq)), 'head' FROM seq_1_to_4000",
	"INSERT INTO record_hashes SELECT seq - 1, UNHEX(SHA2(seq, 256)) FROM seq_1_to_7994",
	"ANALYZE TABLE tallies, events, deliveries, host_states, proposals, record, record_hashes, content, revisions, generations, pairs, " +
		"asked, " +
		"reports, newest, findings, tokens, " +
		"sessions, " +
		"enrolments, tasks, " +
		"attending, surroundings, traffic, copies, waves, wave_hosts, made_once, keyed, boot_dumps",
}

// TestNothingIsScanned: on filled tables no statement of the store looks at more rows than
// it gives, but for those that are of the whole fleet.
func TestNothingIsScanned(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	server, err := testbed.StartMariaDB(t.TempDir())
	require.NoError(t, err)
	defer func() { require.NoError(t, server.Stop()) }()
	require.NoError(t, server.Create("yfence"))
	open(t, server.DSN("yfence"))
	db := raw(t, server.DSN("yfence"))
	for _, q := range append(fill, "SET GLOBAL log_output = 'TABLE'", "SET GLOBAL long_query_time = 0", "SET GLOBAL slow_query_log = ON") {
		_, err := db.Exec(q)
		require.NoError(t, err, q)
	}
	st := open(t, server.DSN("yfence"))
	_, key, _ := ed25519.GenerateKey(nil)
	token, err := st.NewToken(ctx, "pat", api.Rights, "")
	require.NoError(t, err)
	session, err := st.NewSession(ctx, token.Token, time.Hour)
	require.NoError(t, err)
	pair := store.Pair{Number: 4000, Revision: 4000, Generation: 4000}
	var h store.LastReport
	must := func(err error) { t.Helper(); require.NoError(t, err) }
	any := func(_ any, err error) { t.Helper(); require.NoError(t, err) }
	calls := []struct {
		method string
		call   func()
	}{
		{"Delta", func() { any(st.Delta(ctx, time.Now())) }},
		{"Ready", func() { must(st.Ready(ctx)) }},
		{"Newest", func() { any(st.Newest(ctx)) }},
		{"Pair", func() { any(st.Pair(ctx, 77)) }},
		{"PairOf", func() { any(st.PairOf(ctx, 77)) }},
		{"Revision", func() { _, _, err := st.Revision(ctx, 77); must(err) }},
		{"Revisions", func() { any(st.Revisions(ctx, 0, 200)) }},
		{"Generation", func() { any(st.Generation(ctx, 77)) }},
		{"WhyGeneration", func() { any(st.WhyGeneration(ctx, 77)) }},
		{"Publish", func() {
			p, err := st.Publish(ctx, store.Publication{Base: pair, Author: "pat", Why: "why",
				Files: []byte("files")})
			must(err)
			pair = p
		}},
		{"PublishBoth", func() {
			p, err := st.Publish(ctx, store.Publication{Base: pair, Author: "pat", Why: "w", Files: []byte("files 3"),
				Fleet: []byte("file 3")})
			must(err)
			pair = p
		}},
		{"PublishItself", func() {
			p, err := st.Publish(ctx, store.Publication{Base: pair, Author: "it", Why: "why",
				Files: []byte("files 2"), ByItself: true})
			must(err)
			pair = p
		}},
		{"OthersImported", func() { any(st.OthersImported(ctx, pair.Generation)) }},
		{"TakeKeyed", func() { _, _, err := st.TakeKeyed(ctx, store.KeyedID("pat", "k")); must(err) }},
		{"HoldKeyed", func() { must(st.HoldKeyed(ctx, store.Keyed{ID: store.KeyedID("pat", "k")})) }},
		{"EndKeyed", func() { must(st.EndKeyed(ctx, store.Keyed{ID: store.KeyedID("pat", "k")}, store.Hash{}, 200, nil)) }},
		{"TellCheckpoint", func() { must(st.TellCheckpoint(ctx, time.Hour)) }},
		{"People", func() { any(st.People(ctx)) }},
		{"EndPerson", func() { _, err := st.EndPerson(ctx, "kim", "w"); require.ErrorIs(t, err, store.ErrNotFound) }},
		{"Sizes", func() { _, _, err := st.Sizes(ctx); must(err) }},
		{"Tables", func() { any(st.Tables(ctx)) }},
		{"Server", func() { any(st.Server(ctx)) }},
		{"Marks", func() { any(st.Marks(ctx)) }},
		{"OthersSince", func() { any(st.OthersSince(ctx, pair.Revision)) }},
		{"ImportItself", func() {
			p, err := st.Publish(ctx, store.Publication{Base: pair, Author: "h7", Why: "why",
				Fleet: []byte("file"), ByItself: true})
			must(err)
			pair = p
		}},
		{"PairsBetween", func() { any(st.PairsBetween(ctx, 70, 4000, 6)) }},
		{"Itself", func() { any(st.Itself(ctx, 3990, 4000)) }},
		{"Import", func() {
			any(st.Publish(ctx, store.Publication{Base: pair, Author: "pat", Why: "why", Fleet: []byte("file")}))
		}},
		{"Ask", func() { must(st.Ask(ctx, "h7", 4000)) }},
		{"Report", func() {
			var err error
			h, err = st.Report(ctx, "h1", time.Now(), []byte("dump"), 1<<30)
			must(err)
		}},
		{"ReportSame", func() { must(st.ReportSame(ctx, "h1", time.Now(), fmt.Sprintf("%x", h.Dump))) }},
		{"LastReports", func() { any(st.LastReports(ctx, "h1", "h2")); any(st.LastReports(ctx)) }},
		{"TakeTraffic", func() { must(st.TakeTraffic(ctx, "h7", func(*traffic.Record) bool { return true })) }},
		{"PutFindings", func() { must(st.PutFindings(ctx, "h1", h.Dump, 4000, 0, []byte("{}"))) }},
		{"Findings", func() { any(st.Findings(ctx, "h1", h.Dump, 4000, 0)) }},
		{"Content", func() { any(st.Content(ctx, h.Dump)) }},
		{"NewToken", func() { any(st.NewToken(ctx, "pat", []api.Right{api.Read}, "")) }},
		{"MakeToken", func() { any(st.MakeToken(ctx, api.Token{Name: "kim", Rights: []api.Right{"settle:charts,broker"}})) }},
		{"Used", func() { must(st.Used(ctx, token.ID)) }},
		{"WhoMay", func() { any(st.WhoMay(ctx, api.Approve, 3)) }},
		{"NewPersonSession", func() {
			any(st.NewPersonSession(ctx, store.Person{Name: "kim", Subject: "s kim", Until: time.Now().Add(time.Hour)}))
		}},
		{"PersonBySession", func() {
			secret, err := st.NewPersonSession(ctx, store.Person{Name: "gus", Subject: "s gus", Until: time.Now().Add(time.Hour)})
			must(err)
			any(st.PersonBySession(ctx, secret))
			must(st.EndSession(ctx, secret))
		}},
		{"Tell", func() { st.Tell([]store.Destination{{Name: "pager", Only: []string{"wave"}}}) }},
		{"Events", func() { any(st.Events(ctx, 0, 50)) }},
		{"EventsAfter", func() { any(st.EventsAfter(ctx, 77, 50)) }},
		{"Counts", func() { any(st.Counts(ctx)) }},
		{"LastEvent", func() { any(st.LastEvent(ctx)) }},
		{"Due", func() { any(st.Due(ctx, "pager", 50)) }},
		{"Delivered", func() { must(st.Delivered(ctx, "pager", 3999, "no", time.Now().Add(time.Hour))) }},
		{"Undelivered", func() { any(st.Undelivered(ctx, 50)) }},
		{"SendAgain", func() {
			must(st.Delivered(ctx, "pager", 3998, "no", time.Time{}))
			any(st.SendAgain(ctx, "pager"))
		}},
		{"PutTally", func() {
			must(st.PutTally(ctx, api.StoodAt{At: time.Now(), Revision: 7, Counts: map[string]int{"in step": 7}}))
		}},
		{"Tallies", func() { any(st.Tallies(ctx, time.Now().Add(-time.Hour))) }},
		{"HostStates", func() { any(st.HostStates(ctx)) }},
		{"PutHostState", func() {
			must(st.PutHostState(ctx, store.HostState{Host: "h7", Told: api.Drifted, State: api.Drifted}, api.HostStateEvent, "h7",
				api.HostEvent{Host: "h7"}))
		}},
		{"ForgetHostState", func() { must(st.ForgetHostState(ctx, "h7")) }},
		{"Propose", func() {
			n, err := st.Propose(ctx, api.Proposal{Author: "pat", Why: "w", Pair: 4000}, []byte("files 7"), nil)
			must(err)
			any(st.Propose(ctx, api.Proposal{Number: n, Author: "pat", Why: "w", Pair: 4000}, []byte("files 8"), []byte("fleet 8")))
		}},
		{"Proposal", func() { _, _, err := st.Proposal(ctx, 4001); must(err) }},
		{"Proposals", func() { any(st.Proposals(ctx, "", 0, 50)); any(st.Proposals(ctx, api.ProposalOpen, 0, 50)) }},
		{"Approve", func() {
			must(st.Approve(ctx, 4001, approve.Approver{Name: "kim", Roles: []string{"charts"}}, "0123", "fine"))
		}},
		{"DecideProposal", func() { must(st.DecideProposal(ctx, 4001, api.ProposalDeclined, "no")) }},
		{"Record", func() {
			any(st.Record(ctx, store.RecordFilter{}, 0, 50))
			any(st.Record(ctx, store.RecordFilter{Doer: "n7", Deed: "d7"}, 0, 50))
			any(st.Record(ctx, store.RecordFilter{Subject: "h7"}, 0, 50))
		}},
		{"RecordRows", func() { any(st.RecordRows(ctx, 77, 50)) }},
		{"RecordRow", func() { any(st.RecordRow(ctx, 77)) }},
		{"RecordHead", func() { any(st.RecordHead(ctx)) }},
		{"RecordProof", func() {
			any(st.RecordProof(ctx, func(h record.Hashes) ([]record.Hash, error) { return record.Prove(4000, 77, h) }))
		}},
		{"TokensInForce", func() { any(st.TokensInForce(ctx, "h7")) }},
		{"TokenBySecret", func() { any(st.TokenBySecret(ctx, token.Secret)) }},
		{"TokenBySession", func() { any(st.TokenBySession(ctx, session)) }},
		{"Tokens", func() { any(st.Tokens(ctx, 0, 200)) }},
		{"NewSession", func() { any(st.NewSession(ctx, token.Token, time.Hour)) }},
		{"EndSession", func() { must(st.EndSession(ctx, session)) }},
		{"RevokeToken", func() { must(st.RevokeToken(ctx, token.ID)) }},
		{"SigningKeys", func() { any(st.SigningKeys(ctx)) }},
		{"NewSigningKey", func() { must(st.NewSigningKey(ctx)) }},
		{"RetireSigningKey", func() { must(st.RetireSigningKey(ctx)) }},
		{"Enrol", func() {
			e, err := st.NewEnrolment(ctx, "h9", time.Hour)
			must(err)
			any(st.Enrol(ctx, e.Token, api.EnrolRequest{}))
		}},
		{"NewEnrolment", func() { any(st.NewEnrolment(ctx, "h9", time.Hour)) }},
		{"NewTask", func() {
			task, err := st.NewTask(ctx, api.Task{Host: "h7", Do: "report", Until: time.Now().Add(time.Hour)}, key)
			must(err)
			any(st.WaveOf(ctx, task.ID))
			any(st.Task(ctx, task.ID))
			must(st.FinishTask(ctx, "h7", task.ID, api.TaskResult{}))
		}},
		{"OpenTasks", func() { any(st.OpenTasks(ctx, "h7")) }},
		{"TaskMark", func() { any(st.TaskMark(ctx)) }},
		{"Tasks", func() { any(st.Tasks(ctx, []int64{5, 6, 7})) }},
		{"Task", func() { any(st.Task(ctx, 5)) }},
		{"FinishTask", func() { must(st.FinishTask(ctx, "h7", 6, api.TaskResult{})) }},
		{"WaveOf", func() { any(st.WaveOf(ctx, 5)) }},
		{"Attends", func() { must(st.Attends(ctx, "h7")) }},
		{"PutChange", func() { must(st.PutChange(ctx, "h7", 4000, &api.HostChange{}, "")) }},
		{"AgentStatuses", func() { any(st.AgentStatuses(ctx, "h7")); any(st.AgentStatuses(ctx)) }},
		{"PutHostFacts", func() {
			must(st.PutHostFacts(ctx, "h7", time.Now(), &api.HostFacts{Boot: &api.Boot{InForce: &api.InForce{}}}, nil, false))
			must(st.PutHostFacts(ctx, "h7", time.Now(), nil, nil, true))
		}},
		{"HostFacts", func() { any(st.HostFacts(ctx, "h7")) }},
		{"PutCopies", func() { must(st.PutCopies(ctx, "h7", []api.CopyNote{{Number: 3}})) }},
		{"Copies", func() { any(st.Copies(ctx, "h7")) }},
		{"NewWave", func() {
			w, err := st.NewWave(ctx, api.Wave{State: api.WaveRunning, Hosts: []api.WaveHost{{Name: "h7"}, {Name: "h8"}}})
			must(err)
			any(st.RunningWaves(ctx))
			any(st.NewWave(ctx, api.Wave{State: api.WaveRunning, Hosts: []api.WaveHost{{Name: "h9"}}}))
			any(st.StepWave(ctx, w.Number, key, 1, func(w api.Wave) (api.Wave, wave.Commands, error) {
				w.State = api.WaveDone
				return w, wave.Commands{Tasks: []api.Task{{ID: store.NewTaskNumber(), Host: "h7", Do: "report"}},
					Asks: []wave.Ask{{Subject: "h7", Pair: 4000}}}, nil
			}))
		}},
		{"StepWave", func() {
			any(st.StepWave(ctx, 7, key, 1, func(w api.Wave) (api.Wave, wave.Commands, error) { return w, wave.Commands{}, nil }))
		}},
		{"RunningWaves", func() { any(st.RunningWaves(ctx)) }},
		{"Waves", func() { any(st.Waves(ctx, 0, 200)) }},
		{"Wave", func() { any(st.Wave(ctx, 7)) }},
		{"HoldCloud", func() { any(st.HoldCloud(ctx, "dunlin", "me", time.Minute)) }},
		{"ListsState", func() { any(st.ListsState(ctx, "lists")) }},
		{"PutLists", func() { must(st.PutLists(ctx, "lists", "", []byte("{}"))) }},
		{"PutCloud", func() { must(st.PutCloud(ctx, "dunlin", "me", store.CloudState{})) }},
		{"Clouds", func() { any(st.Clouds(ctx)) }},
		{"PutCloudListing", func() { must(st.PutCloudListing(ctx, "dunlin", api.CloudListing{})) }},
		{"CloudListing", func() { any(st.CloudListing(ctx, "dunlin")) }},
		{"Lease", func() { any(st.Lease(ctx, "prune", "me", time.Minute)) }},
		{"ProbesSince", func() { any(st.ProbesSince(ctx, time.Now())) }},
		{"ReportAt", func() { any(st.ReportAt(ctx, "h1", time.Now())) }},
		{"PastReports", func() { any(st.PastReports(ctx, "h1", 0, 20)) }},
		{"PairAt", func() { any(st.PairAt(ctx, time.Now())) }},
		{"Traffic", func() { any(st.Traffic(ctx, store.Refused)) }},
		{"Prune", func() { any(st.Prune(ctx, store.DefaultKeeping)) }},
	}
	called := map[string]bool{"Close": true, "Seal": true}
	for _, c := range calls {
		called[c.method] = true
		c.call()
	}
	methods := reflect.TypeFor[*store.Store]()
	for i := range methods.NumMethod() {
		require.True(t, called[methods.Method(i).Name], "what %s asks of the database is not looked at", methods.Method(i).Name)
	}
	// These are of the whole fleet, or go through a table page by page.
	whole := []string{
		// what is known of all hosts
		"SELECT id, task, done_at, result FROM tasks WHERE until >",
		"FROM newest n JOIN reports r ON r.id = n.report LEFT JOIN asked a ON a.host = n.host\n\t\t UNION ALL", "FROM attending",
		"SELECT host, dump, pair, asked FROM findings WHERE (host, dump, pair, asked) >", // pruning
		"FROM host_states",
	}
	rows, err := db.Query("SELECT sql_text, rows_examined, rows_sent FROM mysql.slow_log WHERE db = 'yfence'")
	require.NoError(t, err)
	defer func() { _ = rows.Close() }()
	seen := 0
next:
	for rows.Next() {
		var text string
		var examined, sent int
		require.NoError(t, rows.Scan(&text, &examined, &sent))
		if strings.Contains(text, "mysql.slow_log") || !strings.ContainsAny(text, " ") {
			continue
		}
		seen++
		for _, w := range whole {
			if strings.Contains(text, w) && !strings.Contains(text, " IN (") {
				continue next
			}
		}
		if limit := 500 + 3*sent; examined > limit && !strings.HasPrefix(text, "DELETE") {
			require.Fail(t, "a table is scanned", "%d rows for %d: %.300s", examined, sent, text)
		} else if examined > 2500 {
			require.Fail(t, "a table is scanned", "%d rows: %.300s", examined, text)
		}
		require.LessOrEqual(t, sent, 1000, "a list without an end: %.300s", text)
	}
	require.NoError(t, rows.Err())
	require.Greater(t, seen, 150)
}
