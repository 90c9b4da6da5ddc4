package service_test

import (
	"bytes"
	"context"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/record"
	"yellowfence.example/yfence/internal/service"
	"yellowfence.example/yfence/internal/store"
)

// unrecorded are the operations that are no GET and leave no entry, each with why.
var unrecorded = map[string]string{
	"compare":         "it asks",
	"ask":             "it asks",
	"assist":          "it asks",
	"ask-against":     "it asks",
	"send-report":     "a host tells what it has",
	"send-traffic":    "a host tells what it has",
	"finish-task":     "a host tells what it has",
	"tell-change":     "a host tells what it has",
	"put-copies":      "a host tells what it has",
	"sign-out-person": "it is, see TestPeopleSignIn",
	"sign-in-person":  "it is, see TestPeopleSignIn: it takes a provider",
	"send-again":      "what is delivered is in the record already",
}

// verified goes through the whole record as anybody may, and says what is wrong.
func (h *harbour) verified(earlier ...record.Checkpoint) error {
	ctx := context.Background()
	after := int64(0)
	var v *record.Verifier
	for {
		part, err := h.RecordRows(ctx, after)
		require.NoError(h.t, err)
		if v == nil {
			if v, err = record.Verify(part.Key, earlier...); err != nil {
				return err
			}
		}
		for _, r := range part.Rows {
			if wrong := v.Add(r); wrong != nil {
				return wrong
			}
			after = r.Number
		}
		if !part.More {
			if wrong := v.End(part.Size); wrong != nil {
				return wrong
			}
			return nil
		}
	}
}

// TestEveryDeedIsRecorded calls every operation that changes something, and finds its entry: who, what,
// on what, why, from where. What leaves no entry is listed above, with the reason.
func TestEveryDeedIsRecorded(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	web := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(pestsAt(0, 99))) }))
	defer web.Close()
	authorities := x509.NewCertPool()
	authorities.AddCert(web.Certificate())
	h := newHarbour(t, func(o *service.Options) { o.Lists = service.ListOptions{Loopback: true, Authorities: authorities} })
	policy := []check.Source{{Name: "p.fence", Text: smallPolicy + "network pests from \"pests.txt\" fetched \"" + web.URL +
		"/pests\" every 1h up to 100 changing 10 percent shared\nblock no-pests: pests -> fleet : any\n"}, {Name: "pests.txt",
		Text: pestsAt(0, 40)}}
	cookie := ""
	// A wave that the database says waits, or is done: what is done to it then is what is looked at.
	set := func(wave int64, sets string) {
		h.exec("UPDATE waves SET state = JSON_SET(state, "+sets+"), summary = JSON_SET(summary, "+sets+") WHERE number = ?", wave)
	}
	var wave api.Wave
	var token api.NewToken
	var once api.Enrolment
	var proposal api.ProposalShown
	made, err := h.store.NewToken(ctx, "sam", []api.Right{api.Approve, api.Read}, "")
	require.NoError(t, err)
	sam := client.New(h.url, made.Secret)
	start := func() (err error) {
		_, err = h.as([]api.Right{api.Host}, "charts-01").Tasks(ctx, "charts-01", 0) // it attends
		require.NoError(t, err)
		wave, err = h.StartWave(ctx, api.WaveRequest{Hosts: []string{"charts-01"}, Why: "a first wave"})
		return err
	}
	steps := []struct {
		op   string
		do   func() error
		deed string
		on   string
		why  string
		by   string // pat, if not said
	}{
		{"import-fleet", func() error {
			_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet(), Why: "a harbour"})
			return err
		}, record.ImportedFleet, "generation 1", "a harbour", ""},
		{"publish", func() error {
			_, err := h.Publish(ctx, api.PublishRequest{Files: policy, Why: "a first policy"})
			return err
		}, record.Published, "revision 1", "a first policy", ""},
		{"take-list", func() error { _, err := h.TakeList(ctx, "pests"); return err }, record.Published, "revision 2", "pests: 59 more",
			""},
		{"sign-in", func() error {
			res := h.browser("POST", "/api/v1/session", `{"token": "`+h.token+`"}`, nil)
			cookie, _, _ = strings.Cut(res.Header.Get("Set-Cookie"), ";")
			return nil
		}, record.SignedIn, "token 1 (pat)", "", ""},
		{"sign-out", func() error {
			h.browser("DELETE", "/api/v1/session", "", map[string]string{"Cookie": cookie})
			return nil
		}, record.SignedOut, "token 1 (pat)", "", ""},
		{"make-token", func() (err error) {
			token, err = h.NewToken(ctx, api.TokenRequest{Name: "kim", Rights: []api.Right{api.Read}})
			return err
		}, record.MadeToken, "token 3 (kim)", "", ""},
		{"revoke-token", func() error { return h.RevokeToken(ctx, token.ID) }, record.RevokedToken, "token 3 (kim)", "", ""},
		{"make-enrolment", func() (err error) { once, err = h.NewEnrolment(ctx, "charts-01"); return err }, record.MadeEnrolment,
			"charts-01", "", ""},
		{"enrol", func() error { _, err := h.Enrol(ctx, api.EnrolRequest{Token: once.Token}); return err }, record.Enrolled,
			"charts-01", "", "charts-01"},
		{"settle-host", func() error { _, err := h.Settle(ctx, "charts-01"); return err }, record.GaveRules, "charts-01", "", ""},
		{"start-wave", start, record.BeganWave, "wave 1", "a first wave", ""},
		{"go-on-wave", func() error {
			set(wave.Number, "'$.state', 'waiting', '$.steps', 2")
			_, err := h.GoOn(ctx, wave.Number)
			return err
		}, record.WentOn, "wave 1", "", ""},
		{"stop-wave", func() error { _, err := h.StopWave(ctx, wave.Number, "the tide"); return err }, record.StoppedWave, "wave 1",
			"stopped by pat: the tide", ""},
		{"return-wave", func() error {
			set(wave.Number, "'$.hosts[0].phase', 'kept', '$.hosts[0].had', 1")
			_, err := h.ReturnWave(ctx, wave.Number)
			return err
		}, record.BeganWave, "wave 2", "back to what was before wave 1", ""},
		{"ask-host", func() error {
			soon, cancel := context.WithTimeout(ctx, 2*time.Second) // nobody will do it
			defer cancel()
			_, _ = h.AskHost(soon, "charts-01", api.Task{Do: api.DoTakeBack, Why: "who did that?"})
			return nil
		}, record.AskedHost, "charts-01", "taken back by pat: who did that?", ""},
		{"probe", func() error {
			soon, cancel := context.WithTimeout(ctx, 2*time.Second) // nobody will do it
			defer cancel()
			_, _ = h.Probe(soon, api.ProbeRequest{Question: "charts-01 -> jump-01 : ssh"})
			return nil
		}, record.AskedHost, "charts-01", "", ""},
		{"make-key", func() error { _, err := h.NewKey(ctx); return err }, record.MadeKey, "signing key ", "", ""},
		{"retire-key", func() error { _, err := h.RetireKey(ctx); return err }, record.RetiredKey, "signing key ", "", ""},
		{"propose", func() error {
			p, err := h.Propose(ctx, 0, api.ProposalRequest{Files: policy, Why: "another"})
			proposal = p
			return err
		}, record.Proposed, "proposal 1", "another", ""},
		{"change-proposal", func() error {
			_, err := h.Propose(ctx, 1, api.ProposalRequest{Files: policy, Why: "better"})
			return err
		}, record.ChangedProposal, "proposal 1", "better", ""},
		{"approve-proposal", func() error { _, err := sam.ApproveProposal(ctx, 1, proposal.Meaning.Sum, "fine"); return err },
			record.Approved, "proposal 1", "fine", "sam"},
		{"publish-proposal", func() error { _, err := h.PublishProposal(ctx, 1); return err }, record.Published, "revision 3", "better",
			""},
		{"decline-proposal", func() error {
			if _, err := h.Propose(ctx, 0, api.ProposalRequest{Files: policy, Why: "no"}); err != nil {
				return err
			}
			_, err := sam.EndProposal(ctx, 2, "decline", "why?")
			return err
		}, record.Declined, "proposal 2", "why?", "sam"},
		{"withdraw-proposal", func() error {
			if _, err := h.Propose(ctx, 0, api.ProposalRequest{Files: policy, Why: "no"}); err != nil {
				return err
			}
			_, err := h.EndProposal(ctx, 3, "withdraw", "never mind")
			return err
		}, record.Withdrew, "proposal 3", "never mind", ""},
	}
	tried := map[string]bool{}
	size := func() int64 {
		c, err := h.RecordCheckpoint(ctx, 0)
		require.NoError(t, err)
		return c.Size
	}
	for _, step := range steps {
		before := size()
		require.NoError(t, step.do(), step.op)
		tried[step.op] = true
		list, err := h.Record(ctx, client.RecordFilter{Limit: 20, Deed: step.deed})
		require.NoError(t, err, step.op)
		require.NotEmpty(t, list.Entries, step.op)
		e, by := list.Entries[0], step.by
		if by == "" {
			by = "pat"
		}
		require.Greater(t, e.Number, before, "%s leaves no entry", step.op)
		require.True(t, strings.HasPrefix(e.On, step.on) && strings.HasPrefix(e.Why, step.why), "%s: %+v", step.op, e)
		require.Equal(t, []string{by, "127.0.0.1"}, []string{e.By.Name, e.By.From}, step.op)
		require.NotEmpty(t, e.By.SignIn, step.op)
		require.WithinDuration(t, time.Now(), e.At, time.Minute)
		require.NoError(t, h.verified(), step.op)
	}
	// Every operation is one of those, or is listed with the reason why it leaves none.
	doc, err := service.OpenAPI()
	require.NoError(t, err)
	var open struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	require.NoError(t, json.Unmarshal(doc, &open))
	for path, ways := range open.Paths {
		for method, o := range ways {
			if method != "get" {
				require.True(t, tried[o.OperationID] || unrecorded[o.OperationID] != "", "%s %s is neither recorded nor said why not",
					method, path)
			}
		}
	}
	before := size()
	h.browser("DELETE", "/api/v1/session", "", map[string]string{"Cookie": "yfence_session=over"})
	require.NoError(t, h.RevokeToken(ctx, token.ID))
	require.Equal(t, before, size(), "what changes nothing leaves no entry")
}

// TestTamperedRecord changes the record behind the service's back. Verifying it names the first entry
// that is wrong; a checkpoint from before shows what no entry shows.
func TestTamperedRecord(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSaltmarsh(t)
	for i := range 6 {
		_, err := h.NewToken(ctx, api.TokenRequest{Name: fmt.Sprintf("t%d", i), Rights: []api.Right{api.Read}})
		require.NoError(t, err)
	}
	kept, err := h.RecordCheckpoint(ctx, 0)
	require.NoError(t, err)
	require.NoError(t, h.verified(kept.Checkpoint))
	for _, c := range []struct{ do, undo, says string }{
		{"UPDATE record SET body = REPLACE(body, '(t3)', '(t9)') WHERE number = 7",
			"UPDATE record SET body = REPLACE(body, '(t9)', '(t3)') WHERE number = 7",
			"entry 7 was changed: it is not what was signed when it was recorded"},
		{"UPDATE record SET number = 100 WHERE number = 6", "UPDATE record SET number = 6 WHERE number = 100",
			"entry 6 is missing: entry 7"},
		{"UPDATE record a JOIN record b ON a.number = 5 AND b.number = 8 SET a.body = b.body, b.body = a.body",
			"UPDATE record a JOIN record b ON a.number = 5 AND b.number = 8 SET a.body = b.body, b.body = a.body", "entry 5 "},
		{"INSERT INTO record (number, body, head) SELECT 10, REPLACE(body, '\"number\":9', '\"number\":10'), head FROM record WHERE " +
			"number = 9",
			"DELETE FROM record WHERE number = 10", "entry 10 was changed: the head beside it is that of entry 9"},
		{"UPDATE counters SET value = 11 WHERE name = 'record'", "UPDATE counters SET value = 9 WHERE name = 'record'",
			"entries 10 to 11 are missing at the end"},
	} {
		h.exec(c.do)
		err := h.verified()
		h.exec(c.undo)
		require.ErrorContains(t, err, c.says)
	}
	h.exec("DELETE FROM record WHERE number > 7")
	h.exec("UPDATE counters SET value = 7 WHERE name = 'record'")
	require.ErrorContains(t, h.verified(kept.Checkpoint), "entries 8 to 9 are missing at the end")
	_, err = h.RecordCheckpoint(ctx, kept.Size)
	require.ErrorContains(t, err, "the record has 7 entries, fewer than 9")
}

// TestProofsOfTheRecord: one entry, and one checkpoint after another, without reading the whole.
func TestProofsOfTheRecord(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newSaltmarsh(t)
	before, err := h.RecordCheckpoint(ctx, 0)
	require.NoError(t, err)
	_, err = h.NewToken(ctx, api.TokenRequest{Name: "kim", Rights: []api.Right{api.Read}})
	require.NoError(t, err)
	after, err := h.RecordCheckpoint(ctx, before.Size)
	require.NoError(t, err)
	early, err := record.Open(before.Head, before.Key)
	require.NoError(t, err)
	late, err := record.Open(after.Head, before.Key)
	require.NoError(t, err)
	proof, err := record.Parse(after.Proof)
	require.NoError(t, err)
	require.NoError(t, late.Follows(early, proof))
	for n := int64(1); n <= after.Size; n++ {
		got, err := h.RecordEntry(ctx, n)
		require.NoError(t, err)
		proof, err := record.Parse(got.Proof)
		require.NoError(t, err)
		require.NoError(t, late.Holds(n, []byte(got.Row.Body), proof))
	}
	_, err = h.RecordEntry(ctx, after.Size+1)
	require.ErrorContains(t, err, fmt.Sprintf("the record has no entry %d", after.Size+1))
	_, err = h.Record(ctx, client.RecordFilter{Limit: 1001})
	require.ErrorContains(t, err, "limit")
}

// TestManyRecordAtOnce: whoever does something at the same moment gets an entry of his own.
func TestManyRecordAtOnce(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h := newHarbour(t)
	var all sync.WaitGroup
	errs := make(chan error, 40)
	for i := range 40 {
		all.Go(func() {
			_, err := h.store.NewToken(store.By(ctx, record.Doer{Name: fmt.Sprint(i), Kind: record.Token}), "t", []api.Right{api.Read}, "")
			errs <- err
		})
	}
	all.Wait()
	close(errs)
	made := 0
	for err := range errs {
		if err == nil {
			made++
		} else if !errors.Is(err, store.ErrBusy) {
			require.NoError(t, err)
		}
	}
	require.NoError(t, h.verified())
	list, err := h.Record(ctx, client.RecordFilter{Limit: 1000, Deed: record.MadeToken})
	require.NoError(t, err)
	require.Len(t, list.Entries, made+1, "with pat's")
	for _, e := range list.Entries {
		body, err := e.Body()
		require.NoError(t, err)
		row, err := h.RecordEntry(ctx, e.Number)
		require.NoError(t, err)
		require.True(t, bytes.Equal(body, []byte(row.Row.Body)), "an entry that is read is what was written")
	}
}
