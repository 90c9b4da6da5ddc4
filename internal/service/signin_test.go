package service_test

import (
	"context"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/client"
	"yellowfence.example/yfence/core/approve"
	"yellowfence.example/yfence/core/record"
	"yellowfence.example/yfence/internal/provider"
	"yellowfence.example/yfence/internal/service"
)

// company is a harbour whose people sign in through a provider.
type company struct {
	*harbour
	idp    *provider.Provider
	server *httptest.Server
}

func newCompany(t *testing.T, with ...func(*service.Options)) *company {
	c := &company{}
	c.server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { c.idp.Handler().ServeHTTP(w, r) }))
	t.Cleanup(c.server.Close)
	c.idp = provider.New(c.server.URL, provider.Person{Name: "kim", Groups: []string{"ops", "choir"}},
		provider.Person{Name: "gus", Groups: []string{"gate"}}, provider.Person{Name: "eve", Groups: []string{"choir"}})
	signIn := &service.SignIn{Issuer: c.server.URL, ClientID: "fence", Rights: map[string][]api.Right{
		"ops": {api.Read, api.Propose, api.Publish, api.Settle}, "gate": {api.Read, "approve:charts"}}}
	c.harbour = newHarbour(t, append(with, func(o *service.Options) { o.Settings.SignIn = signIn })...)
	signIn.URL = c.url
	require.NoError(t, signIn.Check())
	return c
}

// browse signs somebody in as a browser does, and says where that ends and with what.
func (c *company) browse(person string) (*http.Client, int, string) {
	jar, err := cookiejar.New(nil)
	require.NoError(c.t, err)
	browser := &http.Client{Jar: jar}
	res, err := browser.Get(c.url + "/sign-in/begin")
	require.NoError(c.t, err)
	_ = res.Body.Close()
	require.Equal(c.t, c.server.Listener.Addr().String(), res.Request.URL.Host, "the provider asks who it is")
	return c.choose(browser, res.Request.URL, person)
}

func (c *company) choose(browser *http.Client, at *url.URL, person string) (*http.Client, int, string) {
	q := at.Query()
	q.Set("person", person)
	at.RawQuery = q.Encode()
	res, err := browser.Get(at.String())
	require.NoError(c.t, err)
	defer func() { _ = res.Body.Close() }()
	said, err := io.ReadAll(res.Body)
	require.NoError(c.t, err)
	return browser, res.StatusCode, string(said)
}

// device signs somebody in as a terminal does, and gives what the provider says of him.
func (c *company) device(person string) string {
	id, err := provider.Play(context.Background(), c.server.URL, "fence", person)
	require.NoError(c.t, err)
	return id
}

func (c *company) person(t *testing.T, name string) *client.Client {
	s, err := client.New(c.url, "").SignInPerson(context.Background(), c.device(name))
	require.NoError(t, err)
	return client.New(c.url, s.Secret)
}

// TestPeopleSignIn: in a browser and in a terminal, with the rights of their groups; the record knows them.
func TestPeopleSignIn(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c := newCompany(t)
	ways, err := client.New(c.url, "").SignInWays(ctx)
	require.NoError(t, err)
	require.Equal(t, &api.ProviderNote{Issuer: c.server.URL, ClientID: "fence"}, ways.Provider)
	browser, status, _ := c.browse("kim")
	require.Equal(t, http.StatusOK, status)
	res, err := browser.Get(c.url + "/api/v1/session")
	require.NoError(t, err)
	who, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.JSONEq(t, `{"name": "kim", "rights": ["read", "propose", "publish", "settle"]}`, string(who))
	list, err := c.Record(ctx, client.RecordFilter{Limit: 1})
	require.NoError(t, err)
	require.Equal(t, []string{record.SignedIn, "kim", record.Person, c.server.URL + " person-kim"}, []string{list.Entries[0].Deed,
		list.Entries[0].By.Name, list.Entries[0].By.Kind, list.Entries[0].By.SignIn})

	kim := c.person(t, "kim")
	_, err = kim.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet(), Why: "a harbour"})
	require.NoError(t, err)
	_, err = kim.Tokens(ctx)
	require.Equal(t, "kim may not do this: it takes the right tokens; ask pat", err.Error())
	require.NoError(t, kim.SignOut(ctx))
	_, err = kim.Fleet(ctx)
	require.Equal(t, http.StatusUnauthorized, problem(t, err).Status)

	people, err := c.People(ctx)
	require.NoError(t, err)
	require.Len(t, people.People, 1)
	require.Equal(t, []any{"kim", 1, []api.Right{api.Read, api.Propose, api.Publish, api.Settle}}, []any{people.People[0].Name,
		people.People[0].Sessions, people.People[0].Rights})
	_, err = c.SignOutPerson(ctx, "nobody", "")
	require.ErrorContains(t, err, `nobody is signed in who is called "nobody"`)
	n, err := c.SignOutPerson(ctx, "kim", "left")
	require.NoError(t, err)
	require.EqualValues(t, 1, n)
	res, err = browser.Get(c.url + "/api/v1/session")
	require.NoError(t, err)
	require.Equal(t, http.StatusUnauthorized, res.StatusCode, "the browser's session is over too")
	list, err = c.Record(ctx, client.RecordFilter{Limit: 1})
	require.NoError(t, err)
	require.Equal(t, []string{record.EndedSessions, "kim", "left", "pat"}, []string{list.Entries[0].Deed, list.Entries[0].On,
		list.Entries[0].Why, list.Entries[0].By.Name})

	_, status, said := c.browse("eve")
	require.Equal(t, http.StatusForbidden, status)
	require.Contains(t, said, "You are not signed in: eve is in no group that may read here")
	plain := newHarbour(t)
	_, err = client.New(plain.url, "").SignInPerson(ctx, "x")
	require.Equal(t, "this service has no identity provider; use a token", err.Error())
}

// TestTwoPeople: what one person proposes another approves, each by what the provider says of them.
func TestTwoPeople(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c := newCompany(t, func(o *service.Options) {
		o.Settings.Approvals = approve.Rules{{When: approve.Strangers, People: 1, Holding: []string{"charts"}}}
	})
	kim, gus := c.person(t, "kim"), c.person(t, "gus")
	_, err := kim.Import(ctx, api.ImportRequest{File: "fleet.json", Text: smallFleet()})
	require.NoError(t, err)
	_, err = kim.Publish(ctx, api.PublishRequest{Files: twoFiles("", ""), Why: "first"})
	require.NoError(t, err)
	p, err := kim.Propose(ctx, 0, api.ProposalRequest{Files: twoFiles(site, ""), Why: "a site"})
	require.NoError(t, err)
	_, err = kim.PublishProposal(ctx, p.Number)
	require.Equal(t, http.StatusForbidden, problem(t, err).Status)
	_, err = gus.ApproveProposal(ctx, p.Number, p.Meaning.Sum, "fine")
	require.NoError(t, err)
	_, err = kim.PublishProposal(ctx, p.Number)
	require.NoError(t, err)
	list, err := c.Record(ctx, client.RecordFilter{Limit: 1, Deed: record.Published})
	require.NoError(t, err)
	require.Equal(t, "gus", list.Entries[0].With["approved by"])
	require.Equal(t, record.Person, list.Entries[0].By.Kind)
}

// TestWrongSignIns: what cannot be believed lets nobody in, and says why; what is away leaves who is there.
func TestWrongSignIns(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	c := newCompany(t)
	nobody := client.New(c.url, "")
	says := func(idToken, what string) {
		t.Helper()
		_, err := nobody.SignInPerson(ctx, idToken)
		require.Equal(t, http.StatusUnauthorized, problem(t, err).Status)
		require.Contains(t, problem(t, err).Detail, what)
	}
	kim := c.person(t, "kim")
	good := c.device("kim")
	says("x.y.z", "cannot be believed")
	says(good[:len(good)-8]+"AAAAAAAA", "cannot be believed")
	c.idp.Pretend("https://elsewhere.example")
	says(c.device("kim"), "it is of another issuer")
	c.idp.Pretend("")
	c.idp.Skew(-time.Hour)
	says(c.device("kim"), "is one of the clocks wrong?")
	c.idp.Skew(0)
	c.idp.Rotate()
	require.NotEmpty(t, c.person(t, "kim").Token(), "another key is found by itself")

	// A browser that comes back without having gone, with what was another's, or with a code that is used.
	res := c.browser("GET", "/sign-in/back?code=x&state=y", "", nil)
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	require.Contains(t, string(body), "this sign-in was not begun in this browser")
	browser, _, _ := c.browse("kim")
	res, err = browser.Get(c.url + "/sign-in/back?code=x&state=y")
	require.NoError(t, err)
	require.Equal(t, http.StatusBadRequest, res.StatusCode)

	// The provider is away: who is signed in stays so, tokens work, and nobody new comes in.
	c.server.Close()
	_, err = kim.Revisions(ctx)
	require.NoError(t, err)
	_, err = c.Revisions(ctx)
	require.NoError(t, err)
	says(good, "cannot be believed")
	for text, want := range map[string]service.SignIn{
		"issuer is an https address": {Issuer: "http://id.example", URL: "https://f.example", ClientID: "f"},
		"client-id is missing":       {Issuer: "https://id.example", URL: "https://f.example"},
		"rights is missing":          {Issuer: "https://id.example", URL: "https://f.example", ClientID: "f"},
		`rights of ops: "fly" is not a right`: {Issuer: "https://id.example", URL: "https://f.example", ClientID: "f",
			Rights: map[string][]api.Right{"ops": {"fly"}}},
	} {
		err := want.Check()
		require.ErrorContains(t, err, text)
	}
	require.True(t, strings.HasPrefix(kim.Token(), "yfs_"))
}

// TestProviderThatIsAway from the beginning: it is said so, and found when it is there.
func TestProviderThatIsAway(t *testing.T) {
	h := newHarbour(t, func(o *service.Options) {
		o.Settings.SignIn = &service.SignIn{Issuer: "http://127.0.0.1:9", URL: "http://127.0.0.1", ClientID: "f",
			Rights: map[string][]api.Right{"ops": {api.Read}}}
	})
	_, err := client.New(h.url, "").SignInPerson(context.Background(), "x")
	require.Equal(t, http.StatusServiceUnavailable, problem(t, err).Status)
	require.Contains(t, problem(t, err).Detail, "the identity provider http://127.0.0.1:9 does not answer as it should; whoever is "+
		"signed in stays so")
	res := h.browser("GET", "/sign-in/begin", "", nil)
	require.Equal(t, http.StatusServiceUnavailable, res.StatusCode)
}
