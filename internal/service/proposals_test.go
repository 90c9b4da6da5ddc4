package service_test

import (
	"context"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/check"
	"yellowfence.example/yfence/core/record"
	"yellowfence.example/yfence/internal/service"
)

// twoEyes is a company's rules in the tests: what opens needs one other, what opens to strangers two.
var twoEyes = approve.Rules{{When: approve.Strangers, People: 2, Holding: []string{"charts"}}, {When: approve.Opens, People: 1},
	{When: approve.Hosts, People: 1}, {When: approve.Guards, People: 2}}

// guarded is a harbour where changes need approvals, with a policy in two files, and people with names.
func newGuarded(t *testing.T) (h *harbour, as func(name string, rights ...api.Right) *client.Client) {
	h = newHarbour(t, func(o *service.Options) { o.Settings.Approvals = twoEyes })
	ctx := context.Background()
	as = func(name string, rights ...api.Right) *client.Client {
		made, err := h.store.NewToken(ctx, name, append(rights, api.Read), "")
		require.NoError(t, err)
		return client.New(h.url, made.Secret)
	}
	// The fleet and the first policy are compared with nothing.
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	_, err = h.Publish(ctx, api.PublishRequest{Files: twoFiles("", ""), Why: "first"})
	require.NoError(t, err)
	return h, as
}

func twoFiles(one, two string) []check.Source {
	return []check.Source{{Name: "p.fence", Text: smallPolicy + one},
		{Name: "q.fence", Text: "# the other team's\nallow seen: jump -> charts : https\nallow web: 198.51.100.0/25 -> charts : tcp " +
			"8080\n" + two}}
}

const site = "allow site: everywhere -> charts : http\n"

// TestProposals: what opens is approved by others, exactly as it is, before it is published, once.
func TestProposals(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h, as := newGuarded(t)
	kim, gus := as("kim", api.Approve, api.Publish), as("gus", "approve:charts")

	// What closes goes at once; what opens does not.
	_, err := h.Publish(ctx, api.PublishRequest{Files: twoFiles("", "block none: jump -> charts : udp 53\n"), Why: "closes"})
	require.NoError(t, err)
	_, err = h.Publish(ctx, api.PublishRequest{Files: twoFiles(site, "block none: jump -> charts : udp 53\n"), Why: "opens"})
	require.Equal(t, http.StatusForbidden, problem(t, err).Status)
	require.Equal(t, "this needs the approval of 2 people besides its author, of whom one holds approve:charts, since tcp 80 from "+
		"everywhere newly "+
		"gets in; propose it: yfence propose -m WHY", problem(t, err).Detail)
	look, err := h.Publish(ctx, api.PublishRequest{Files: twoFiles(site, ""), Why: "opens", Preview: true})
	require.NoError(t, err)
	require.Equal(t, 2, look.Need.People)

	p, err := h.Propose(ctx, 0, api.ProposalRequest{Files: twoFiles(site, "block none: jump -> charts : udp 53\n"), Why: "a site for all"})
	require.NoError(t, err)
	require.True(t, p.Stands)
	require.Equal(t, api.Missing{People: 2, Holding: []string{"charts"}}, p.Missing)
	_, err = h.ApproveProposal(ctx, p.Number, p.Meaning.Sum, "")
	require.Equal(t, "nobody approves what he proposed himself", problem(t, err).Detail)
	_, err = kim.ApproveProposal(ctx, p.Number, "0123", "")
	require.Equal(t, http.StatusConflict, problem(t, err).Status, "he looked at something else")
	_, err = as("ben", "approve:jump").ApproveProposal(ctx, p.Number, p.Meaning.Sum, "")
	require.Contains(t, problem(t, err).Detail, "approve for one of the roles that it concerns (charts); ask ")
	_, err = h.PublishProposal(ctx, p.Number)
	require.Contains(t, problem(t, err).Detail, "proposal 1 lacks the approval of 2 people")
	p, err = kim.ApproveProposal(ctx, p.Number, p.Meaning.Sum, "fine")
	require.NoError(t, err)
	require.Equal(t, api.Missing{People: 1}, p.Missing)
	for range 2 { // whoever says it twice counts once
		_, err = kim.ApproveProposal(ctx, p.Number, p.Meaning.Sum, "fine")
		require.NoError(t, err)
	}
	_, err = kim.PublishProposal(ctx, p.Number)
	require.Contains(t, problem(t, err).Detail, "proposal 1 lacks the approval of 1 person besides its author")
	p, err = gus.ApproveProposal(ctx, p.Number, p.Meaning.Sum, "")
	require.NoError(t, err)
	require.Zero(t, p.Missing.People)

	// Another text of the same meaning stays approved; another meaning does not; nobody else changes it.
	same, err := h.Propose(ctx, p.Number, api.ProposalRequest{Files: twoFiles("# in words\nallow pages: everywhere -> charts : tcp 80\n",
		"block none: jump -> charts : udp 53\n"), Why: "a site"})
	require.NoError(t, err)
	require.Zero(t, same.Missing.People)
	other, err := h.Propose(ctx, p.Number, api.ProposalRequest{Files: twoFiles("allow site: everywhere -> charts : http, https\n",
		"block none: jump -> charts : udp 53\n"), Why: "a site"})
	require.NoError(t, err)
	require.Equal(t, 2, other.Missing.People)
	require.False(t, other.Approvals[0].Counts)
	_, err = as("eve", api.Propose).Propose(ctx, p.Number, api.ProposalRequest{Files: twoFiles("", ""), Why: "mine"})
	require.Contains(t, problem(t, err).Detail, "proposal 1 is pat's, and nobody else changes it")
	_, err = h.Propose(ctx, p.Number, api.ProposalRequest{Files: twoFiles(site, "block none: jump -> charts : udp 53\n"),
		Why: "a site after all"})
	require.NoError(t, err, "back to what was approved")

	// Several publish it at once: it is published once.
	var all sync.WaitGroup
	done := make(chan error, 6)
	for range 6 {
		all.Go(func() { _, err := kim.PublishProposal(ctx, p.Number); done <- err })
	}
	all.Wait()
	close(done)
	published := 0
	for err := range done {
		if err == nil {
			published++
		} else {
			require.Contains(t, []int{http.StatusConflict, http.StatusServiceUnavailable}, problem(t, err).Status, problem(t, err).Detail)
		}
	}
	require.Equal(t, 1, published)
	r, err := h.Revision(ctx, 3)
	require.NoError(t, err)
	require.Equal(t, []string{"pat", "a site after all"}, []string{r.Author, r.Why})
	list, err := h.Record(ctx, client.RecordFilter{Limit: 1, Deed: record.Published})
	require.NoError(t, err)
	require.Equal(t, "kim", list.Entries[0].By.Name)
	require.Equal(t, map[string]string{"proposal": "1 of pat", "approved by": "kim, gus"}, list.Entries[0].With)
	gone, err := h.Proposal(ctx, p.Number)
	require.NoError(t, err)
	require.Equal(t, []any{api.ProposalPublished, int64(3), "kim"}, []any{gone.State, gone.Revision, gone.DecidedBy})
	_, err = gus.ApproveProposal(ctx, p.Number, p.Meaning.Sum, "")
	require.Equal(t, http.StatusConflict, problem(t, err).Status)
}

// TestPublishedMeanwhile: what is published in between is taken over where it is in other files; it ends
// approvals where the proposal means something else then.
func TestPublishedMeanwhile(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h, as := newGuarded(t)
	kim, gus := as("kim", api.Approve, api.Publish), as("gus", "approve:charts")
	p, err := h.Propose(ctx, 0, api.ProposalRequest{Files: twoFiles(site, ""), Why: "a site"})
	require.NoError(t, err)
	for _, who := range []*client.Client{kim, gus} {
		_, err = who.ApproveProposal(ctx, p.Number, p.Meaning.Sum, "")
		require.NoError(t, err)
	}
	_, err = kim.Publish(ctx, api.PublishRequest{Files: twoFiles("", "# only words\n"), Why: "words"})
	require.NoError(t, err)
	now, err := h.Proposal(ctx, p.Number)
	require.NoError(t, err)
	require.Zero(t, now.Missing.People, "it means the same")
	_, err = kim.Publish(ctx, api.PublishRequest{Files: twoFiles("", "# only words\nblock shut: strangers -> charts : http\n"),
		Why: "closes"})
	require.NoError(t, err)
	now, err = h.Proposal(ctx, p.Number)
	require.NoError(t, err)
	require.NotEqual(t, p.Meaning.Sum, now.Meaning.Sum)
	require.False(t, now.Approvals[0].Counts, "a block takes away some of what was approved")
	_, err = kim.Publish(ctx, api.PublishRequest{Files: twoFiles("# here too\n",
		"# only words\nblock shut: strangers -> charts : http\n"), Why: "w"})
	require.NoError(t, err)
	now, err = h.Proposal(ctx, p.Number)
	require.NoError(t, err)
	require.Equal(t, "p.fence changed since in what is published: take that over, and change the proposal", now.Hinders)
	_, err = kim.PublishProposal(ctx, p.Number)
	require.Contains(t, problem(t, err).Detail, "proposal 1 cannot be published as it is: p.fence changed since")

	ended, err := kim.EndProposal(ctx, p.Number, "decline", "not now")
	require.NoError(t, err)
	require.Equal(t, []string{api.ProposalDeclined, "kim", "not now"}, []string{ended.State, ended.DecidedBy, ended.Decided})
	_, err = h.EndProposal(ctx, p.Number, "withdraw", "anyhow")
	require.Equal(t, "proposal 1 is decided already", problem(t, err).Detail)
	mine, err := h.Propose(ctx, 0, api.ProposalRequest{Files: twoFiles("# here too\n"+site, ""), Why: "again"})
	require.NoError(t, err)
	_, err = as("eve", api.Propose).EndProposal(ctx, mine.Number, "withdraw", "not mine")
	require.Contains(t, problem(t, err).Detail, "proposal 2 is pat's")
	_, err = h.EndProposal(ctx, mine.Number, "withdraw", "it goes another way")
	require.NoError(t, err)
	open, err := h.Proposals(ctx, api.ProposalOpen)
	require.NoError(t, err)
	require.Empty(t, open.Proposals)
	every, err := h.Proposals(ctx, "")
	require.NoError(t, err)
	require.Len(t, every.Proposals, 2)
	_, err = h.Proposal(ctx, 77)
	require.Equal(t, "there is no proposal 77", problem(t, err).Detail)
}

// TestNeedsOfFleetsAndParts: a fleet file changes the meaning too; a right to publish for some roles is
// for what concerns their hosts alone; who is not named in the policy needs one who is.
func TestNeedsOfFleetsAndParts(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	h, as := newGuarded(t)
	more := smallFleet(`{"name": "charts-02", "roles": ["charts"], "dialect": "nft", ` +
		`"interfaces": [{"name": "eth0", "addresses": ["10.40.2.11/16"]}]}`)
	_, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: more, Why: "one more"})
	require.Contains(t, problem(t, err).Detail, "this needs the approval of 1 person besides its author, since ")
	look, err := h.Import(ctx, api.ImportRequest{File: "fleet.json", Text: more, Preview: true})
	require.NoError(t, err)
	require.Equal(t, 1, look.Need.People)
	p, err := h.Propose(ctx, 0, api.ProposalRequest{Files: twoFiles("", ""), Fleet: &check.Source{Name: "fleet.json", Text: more},
		Why: "one more"})
	require.NoError(t, err)
	require.Contains(t, p.Meaning.Kinds[approve.Hosts], "charts-02 is new")
	_, err = as("kim", api.Approve).ApproveProposal(ctx, p.Number, p.Meaning.Sum, "")
	require.NoError(t, err)
	done, err := h.PublishProposal(ctx, p.Number)
	require.NoError(t, err)
	require.EqualValues(t, 2, done.Generation)

	some := as("ann", "publish:charts")
	_, err = some.Publish(ctx, api.PublishRequest{Files: twoFiles("block none: jump -> jump : udp 53\n", ""), Why: "another's"})
	require.Contains(t, problem(t, err).Detail,
		`the token "ann" may not do this: it takes the right publish for all roles that it concerns: jump`)
	_, err = some.Publish(ctx, api.PublishRequest{Files: twoFiles("block none: strangers -> charts : udp 54\n", ""), Why: "words alone"})
	require.Contains(t, problem(t, err).Detail, "publish for the whole fleet", "it changes nothing, so that it is nobody's")
	_, err = some.Publish(ctx, api.PublishRequest{Files: twoFiles("", "block none: 198.51.100.0/25 -> charts : tcp 8080\n"), Why: "mine"})
	require.NoError(t, err)

	_, err = h.Propose(ctx, 0, api.ProposalRequest{Files: []check.Source{{Name: "p.fence", Text: "policy"}}, Why: "broken"})
	require.Equal(t, http.StatusUnprocessableEntity, problem(t, err).Status)
	require.True(t, strings.HasPrefix(problem(t, err).Detail, "the policy is not "), problem(t, err).Detail)
	_, err = h.Propose(ctx, 0, api.ProposalRequest{Files: twoFiles("", ""), Why: "w", Accept: []string{"dug"}})
	require.Contains(t, problem(t, err).Detail, `there is no check "dug"`)
}
