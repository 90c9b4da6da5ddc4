package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"runtime/debug"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"go.opentelemetry.io/otel/trace"

	"yellowfence.example/yfence/api"
	"yellowfence.example/yfence/internal/limits"
	"yellowfence.example/yfence/internal/store"
)

// Options are how a service is set up.
type Options struct {
	Store       *store.Store
	Log         *slog.Logger
	ReportEvery time.Duration        // how often hosts report; three times that without one and a host is silent
	Clock       func() time.Time     // time.Now, but for tests
	Secure      bool                 // served over TLS: cookies are for TLS only
	Clouds      []CloudAccount       // that it looks after
	CloudEvery  time.Duration        // how often their groups are read back; 30 s if it is 0
	CloudSoon   time.Duration        // and while something is not in force yet; 1 s if it is 0
	FollowEvery time.Duration        // how often it is looked for hosts that do; 3 s if it is 0
	Lists       ListOptions          // as they are for tests
	Prober      Prober               // opens connections of the service's own; its machine's where it is empty
	EventsLook  time.Duration        // how often it is looked for events, and how soon one is tried again; as usual if it is 0
	Settings    Settings             // at the start; Set changes them
	Traces      trace.TracerProvider // where spans of requests go; nil: nobody is told
}

// Service answers requests. Make it with New.
type Service struct {
	Options
	holder string // by which it holds what one service does at a time
	models modelCache
	bell   bell
	outage outage
	view   view
	queues
	judging judging
	pairs   sync.Map // by their numbers
	reaches reaches
	signIns signIns
	polls   polls
	streams streams

	settings atomic.Pointer[current]
	figures  *figures
	tallied  atomic.Int64 // for when it was last noted how the fleet stands, in seconds since 1970

	identity identity
	listing  sync.Mutex // one reading of the lists at a time
	tracing  sync.Mutex // one question about traffic at a time

	stopOnce sync.Once
	stopping chan struct{} // closed when the service stops: nobody is kept waiting any longer
}

// Stop ends whatever waits for something to happen. Requests that are at work go on.
func (s *Service) Stop() { s.stopOnce.Do(func() { close(s.stopping) }) }

// Waiting answers while the database is not there yet.
func Waiting() http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/livez" {
			_, _ = w.Write([]byte("ok\n"))
			return
		}
		w.Header().Set("Retry-After", "5")
		writeProblem(w, api.NewProblem(api.Busy, "the service waits for its database"))
	})
}

// New makes a service.
func New(o Options) *Service {
	if o.Clock == nil {
		o.Clock = time.Now
	}
	if o.ReportEvery == 0 {
		o.ReportEvery = 5 * time.Minute
	}
	if o.CloudEvery == 0 {
		o.CloudEvery = 30 * time.Second
	}
	if o.CloudSoon == 0 {
		o.CloudSoon = time.Second
	}
	if o.Prober.Open == nil {
		o.Prober = ownProber
	}
	s := &Service{Options: o, holder: rand.Text(), stopping: make(chan struct{}), models: modelCache{models: map[int64]*model{}},
		queues:  newQueues(),
		judging: judging{jobs: map[judged]*job{}, busy: map[string]bool{}, results: map[judged]result{}}}
	s.figures = newFigures(s)
	s.Set(o.Settings)
	return s
}

// withBody is an operation whose body may have up to n bytes, and take its time.
func withBody(o huma.Operation, n int64) huma.Operation {
	o.MaxBodyBytes, o.BodyReadTimeout = n, 2*time.Minute
	return o
}

// Handler is everything the service answers.
func (s *Service) Handler() http.Handler {
	r := chi.NewRouter()
	r.Use(middleware.RequestID, s.traced, s.logRequests, middleware.Recoverer, s.securityHeaders, middleware.RequestSize(limits.ReportBody),
		squeezed, withTags, hearKeyed)
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), remoteKey{}, r.RemoteAddr)))
		})
	})
	r.Use(http.NewCrossOriginProtection().Handler) // a browser's cookie counts only for our own pages
	r.Get("/livez", s.live)
	r.Get("/readyz", s.ready)
	r.Get("/healthz", s.ready)
	r.Get("/metrics", s.metrics)
	r.Get("/sign-in/begin", s.beginSignIn)
	r.Get("/sign-in/back", s.endSignIn)
	s.register(humachi.New(r, config()))
	r.NotFound(s.consoleFiles)
	return r
}

// config is how the OpenAPI document and the API are set up.
func config() huma.Config {
	c := huma.DefaultConfig("Yellow Fence", "1.0.0")
	c.OpenAPIPath, c.DocsPath, c.SchemasPath = "/api/v1/openapi", "", ""
	c.CreateHooks = nil // no $schema links in documents: their form is fixed
	c.Info.Description = "Firewall policy for fleets: publish it, settle it on hosts, find drift."
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{"token": {Type: "http", Scheme: "bearer"}}
	c.Security = []map[string][]string{{"token": {}}}
	return c
}

// operation describes one operation; one of rights is needed, none means anybody.
func operation(method, path, id, summary string, rights ...api.Right) huma.Operation {
	o := huma.Operation{OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary,
		Metadata: map[string]any{"rights": rights}, MaxBodyBytes: limits.Body}
	if keyable(method, rights) {
		o.Parameters = []*huma.Param{keyParam}
	}
	if len(rights) == 0 {
		o.Security = []map[string][]string{}
	}
	return o
}

// anybody is whoever has any right.
var anybody = append(slices.Clone(api.Rights), api.Host)

// register lists every operation of the API.
func (s *Service) register(a huma.API) {
	a.UseMiddleware(s.authorize())

	s.registerSessions(a)

	// The policy and its history, and the fleet.
	huma.Register(a, operation("GET", "/revisions", "list-revisions", "List the policy's revisions", api.Read), s.listRevisions)
	huma.Register(a, operation("GET", "/revisions/{number}", "show-revision", "One revision with its files", api.Read), s.showRevision)
	huma.Register(a, withBody(limited(operation("POST", "/revisions", "publish", "Publish a policy as a new revision", api.Publish)),
		limits.PolicyBody), s.publish)
	huma.Register(a, limited(operation("GET", "/language", "show-language", "The words of the policy language", anybody...)),
		s.showLanguage)

	huma.Register(a, limited(operation("GET", "/fleet", "show-fleet", "List all hosts and their states", api.Read)), s.showFleet)
	huma.Register(a, withBody(limited(operation("PUT", "/fleet", "import-fleet", "Replace the fleet", api.Publish)), limits.PolicyBody),
		s.importFleet)
	s.registerOverview(a)
	huma.Register(a, withBody(operation("POST", "/assist", "assist", "Help with a policy that somebody writes: what stands at a place, "+
		"and what could", api.Read), limits.PolicyBody), s.assist)
	huma.Register(a, operation("GET", "/fleet/file", "export-fleet", "The fleet as a file", api.Read), s.exportFleet)

	// Questions, and how hosts stand.
	huma.Register(a, withBody(operation("POST", "/compare", "compare", "What two states of the policy let through differently", api.Read),
		2*limits.PolicyBody), s.compare)
	huma.Register(a, operation("POST", "/ask", "ask", "What becomes of traffic by what is published, and who decides", api.Read), s.ask)
	huma.Register(a, limited(operation("GET", "/drift", "show-drift", "How hosts differ from what is published", api.Read)), s.showDrift)
	huma.Register(a, limited(operation("GET", "/listeners", "show-listeners", "Compare what listens on hosts with what the policy admits",
		api.Read)), s.showListeners)
	huma.Register(a, operation("GET", "/hosts/{host}/rules", "show-rules", "What a host's filter is to be", api.Read, api.Host),
		s.showRules)
	huma.Register(a, operation("GET", "/hosts/{host}/live", "show-live", "What a host's filter was when it last reported", api.Read),
		s.showLive)
	huma.Register(a, operation("POST", "/hosts/{host}/settle", "settle-host",
		"Ask a host to settle what is published, and give it the rules", api.Settle, api.Host), s.settle)
	huma.Register(a, withBody(operation("POST", "/hosts/{host}/reports", "send-report", "Send what a host has in force", api.Host,
		api.Settle), limits.ReportBody), s.report)

	// What hosts say and what they are asked.
	huma.Register(a, operation("POST", "/enrol", "enrol", "Trade a one-time token for a host's own"), s.enrol)
	huma.Register(a, secretAnswer(operation("POST", "/hosts/{host}/enrolment", "make-enrolment", "Make a one-time token for a new host",
		api.Tokens)),
		s.newEnrolment)
	huma.Register(a, operation("GET", "/hosts/{host}/tasks", "list-tasks", "What a host has to do", api.Host), s.showTasks)
	huma.Register(a, operation("POST", "/hosts/{host}/tasks", "ask-host", "Ask a host to do something", api.Settle, api.Pause), s.askHost)
	huma.Register(a, operation("GET", "/hosts/{host}/tasks/{id}", "show-task", "How a task stands", api.Read, api.Host), s.showTask)
	huma.Register(a, operation("POST", "/hosts/{host}/tasks/{id}/result", "finish-task", "Tell what became of a task", api.Host),
		s.finishTask)
	huma.Register(a, operation("POST", "/hosts/{host}/change", "tell-change", "Tell how the last change on a host stands", api.Host),
		s.tellChange)
	huma.Register(a, operation("GET", "/hosts/{host}/copies", "list-copies", "The copies that a host keeps of what it had in force",
		api.Read), s.showCopies)
	huma.Register(a, withBody(operation("PUT", "/hosts/{host}/copies", "put-copies", "Tell which copies a host keeps", api.Host),
		limits.ReportBody), s.putCopies)

	// Real connections, lists that are fetched, and waves.
	huma.Register(a, limited(operation("POST", "/probes", "probe", "Open real connections between hosts", api.Settle)), s.probe)
	huma.Register(a, operation("GET", "/lists", "show-lists", "The lists that are read from an address, and how that stands", api.Read),
		s.showLists)
	huma.Register(a, operation("POST", "/lists/{network}/take", "take-list", "Fetch a list now and accept it, however much of it changed",
		api.Publish), s.takeList)
	huma.Register(a, limited(operation("POST", "/waves", "start-wave", "Begin to put a revision in force over hosts, step by step",
		api.Settle)),
		s.startWave)
	huma.Register(a, operation("GET", "/waves", "list-waves", "All waves", api.Read), s.listWaves)
	huma.Register(a, operation("GET", "/waves/{number}", "show-wave", "One wave", api.Read), s.showWave)
	huma.Register(a, limited(operation("POST", "/waves/{number}/go-on", "go-on-wave", "Let a wave go on that waits after a step",
		api.Settle)),
		s.goOnWave)
	huma.Register(a, limited(operation("POST", "/waves/{number}/stop", "stop-wave", "Stop a wave; changes that are not kept are undone",
		api.Settle)), s.stopWave)
	huma.Register(a, limited(operation("POST", "/waves/{number}/return", "return-wave",
		"Begin a wave that puts hosts back on what they had before another", api.Settle)), s.returnWave)

	s.registerTraffic(a)
	s.registerKeys(a)
	s.registerPeople(a)
	s.registerRecord(a)
	s.registerProposals(a)
	s.registerEvents(a)
}

// registerSessions tells the router how one signs in and out.
func (s *Service) registerSessions(a huma.API) {
	huma.Register(a, limited(operation("GET", "/session", "who-am-i", "Who is signed in", anybody...)), s.whoAmI)
	huma.Register(a, operation("POST", "/session", "sign-in", "Begin a session of the console with a token"), s.signIn)
	huma.Register(a, operation("GET", "/sign-in", "show-sign-in", "How one signs in"), s.showSignIn)
	huma.Register(a, operation("POST", "/session/person", "sign-in-person", "Begin a session for who signed in at the identity provider"),
		s.takePerson)
	huma.Register(a, limited(operation("DELETE", "/session", "sign-out", "End the session", anybody...)), s.signOut)
}

// registerOverview tells the router how the fleet stands as a whole, and how it stood.
func (s *Service) registerOverview(a huma.API) {
	huma.Register(a, limited(operation("GET", "/fleet/outline", "show-outline", "Where all hosts stand, in few words", api.Read)),
		s.showOutline)
	huma.Register(a, operation("GET", "/fleet/history", "show-history", "How the fleet stood, and what it refused, over some time",
		api.Read), s.showHistory)
	huma.Register(a, operation("GET", "/clouds/{cloud}", "show-cloud", "How one cloud stands: its groups, and who is in them", api.Read),
		s.showCloud)
	huma.Register(a, operation("GET", "/hosts/{host}/past", "show-past", "Each change of what a host had in force", api.Read), s.showPast)
	huma.Register(a, operation("GET", "/reach", "show-reach", "Which services pass between all roles and networks", api.Read), s.showReach)
	huma.Register(a, limited(operation("GET", "/attention", "show-attention", "What needs a person now", api.Read)), s.showAttention)
}

// registerTraffic tells the router what hosts counted and saw.
func (s *Service) registerTraffic(a huma.API) {
	huma.Register(a, withBody(operation("POST", "/hosts/{host}/traffic", "send-traffic", "Tell what a host counted and saw", api.Host,
		api.Settle),
		limits.Traffic), s.takeTraffic)
	huma.Register(a, operation("GET", "/traffic/unused", "show-unused", "How often statements of the policy decided, and which never did",
		api.Read), s.showUnused)
	huma.Register(a, operation("GET", "/traffic/narrower", "show-narrower", "Which statements could be narrower, by what was seen",
		api.Read), s.showNarrower)
	huma.Register(a, operation("GET", "/traffic/refused", "show-refused", "What hosts refused, by whom, and what would admit it", api.Read),
		s.showRefused)
	huma.Register(a, operation("GET", "/traffic/seen", "show-seen", "Which connections hosts saw, and who admits them", api.Read),
		s.showSeen)
	huma.Register(a, withBody(operation("POST", "/traffic/against", "ask-against",
		"Which connections were seen though expectations of a policy say that there are none", api.Read), 2*limits.PolicyBody),
		s.askAgainst)
}

// registerKeys tells the router the calls about keys and tokens.
func (s *Service) registerKeys(a huma.API) {
	huma.Register(a, operation("GET", "/keys", "show-keys", "The keys that the service signs with", api.Read, api.Host), s.showKeys)
	huma.Register(a, operation("POST", "/keys", "make-key", "Make a key to sign with later", api.Tokens), s.newKey)
	huma.Register(a, operation("DELETE", "/keys", "retire-key", "Retire the key that signs now; the next one follows it", api.Tokens),
		s.retireKey)

	huma.Register(a, operation("GET", "/tokens", "list-tokens", "All tokens", api.Tokens), s.listTokens)
	huma.Register(a, secretAnswer(limited(operation("POST", "/tokens", "make-token", "Make a token", api.Tokens))), s.makeToken)
	huma.Register(a, operation("DELETE", "/tokens/{id}", "revoke-token", "Revoke a token", api.Tokens), s.revokeToken)
}

// OpenAPI is the document that describes the API, without a service to run.
func OpenAPI() ([]byte, error) {
	a := humachi.New(chi.NewRouter(), config())
	(&Service{}).register(a)
	return a.OpenAPI().MarshalJSON()
}

// live says that the process answers, and nothing more.
func (s *Service) live(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) }

// readyTime is how long a database may take that is ready.
const readyTime = 3 * time.Second

// ready says whether the service does what it is for: it tries a read and a transaction.
func (s *Service) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(store.For(r.Context(), store.Work), readyTime)
	defer cancel()
	if err := s.Store.Ready(ctx); err != nil {
		w.Header().Set("Retry-After", "5")
		http.Error(w, "the database does not take reads and changes", http.StatusServiceUnavailable)
		return
	}
	_, _ = w.Write([]byte("ok\n"))
}

// errPanicked is what the log has of a piece of work that panicked; what it did for others goes
// on.
var errPanicked = errors.New("it panicked")

// guarded does something that must not end the process if it panics.
func (s *Service) guarded(work func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			s.Log.Error("a panic", "what", r, "stack", string(debug.Stack()))
			err = fmt.Errorf("%w: %v", errPanicked, r)
		}
	}()
	return work()
}

// logRequests writes a line of each request, without its body and without tokens.
func (s *Service) logRequests(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		watch := begin()
		wrapped := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(wrapped, r)
		s.figures.took(r, wrapped.Status(), watch.runs().Seconds())
		s.Log.Info("request", "method", r.Method, "path", r.URL.Path, "status", wrapped.Status(), "bytes", wrapped.BytesWritten(),
			"ms", watch.runs().Milliseconds(), "from", r.RemoteAddr, "id", middleware.GetReqID(r.Context()))
	})
}
