// Package provider is a small identity provider to try sign-ins with: OpenID Connect with the
// authorization code and PKCE (RFC 7636), and the device authorization grant (RFC 8628). Whoever can
// reach it is whom he says he is: it asks for no password, and is for tests and the demo alone.
//
//	p := provider.New("http://127.0.0.1:9000", provider.Person{Name: "kim", Groups: []string{"ops"}})
//	http.Serve(listener, p.Handler())
package provider

import (
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
)

// A Person can sign in.
type Person struct {
	Name   string
	Groups []string
}

// Provider is the identity provider. Make it with New.
type Provider struct {
	issuer string
	people []Person

	mu      sync.Mutex
	key     *rsa.PrivateKey
	number  int              // of the key
	codes   map[string]grant // by code, and by device code
	skew    time.Duration    // of its clock
	foreign string           // another issuer that it says it is, for tests
}

// grant is what somebody allowed, or is asked to.
type grant struct {
	person    *Person // nil: nobody has signed in yet
	client    string
	nonce     string
	challenge string
	user      string // code of a device that a person types
	redirect  string
}

// New makes a provider that answers at an address.
func New(issuer string, people ...Person) *Provider {
	p := &Provider{issuer: issuer, people: people, codes: map[string]grant{}}
	p.Rotate()
	return p
}

// Rotate goes over to another key; what was signed with the one before is not believed any more.
func (p *Provider) Rotate() {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err) // it never fails
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.key, p.number = key, p.number+1
}

// Skew has its clock go wrong.
func (p *Provider) Skew(by time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.skew = by
}

// Pretend has it say in tokens that it is another issuer.
func (p *Provider) Pretend(issuer string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.foreign = issuer
}

// Handler is all that it answers.
func (p *Provider) Handler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("GET /.well-known/openid-configuration", p.configuration)
	m.HandleFunc("GET /keys", p.keys)
	m.HandleFunc("GET /authorize", p.authorize)
	m.HandleFunc("POST /device", p.device)
	m.HandleFunc("GET /device", p.devicePage)
	m.HandleFunc("POST /token", p.token)
	return m
}

// answer writes a document.
func answer(w http.ResponseWriter, status int, document any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(document)
}

// configuration is the discovery document.
func (p *Provider) configuration(w http.ResponseWriter, _ *http.Request) {
	answer(w, http.StatusOK, map[string]any{"issuer": p.issuer, "authorization_endpoint": p.issuer + "/authorize",
		"token_endpoint": p.issuer + "/token", "device_authorization_endpoint": p.issuer + "/device", "jwks_uri": p.issuer + "/keys",
		"response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
		"id_token_signing_alg_values_supported": []string{"RS256"}, "code_challenge_methods_supported": []string{"S256"}})
}

// keys are those that tokens are checked with.
func (p *Provider) keys(w http.ResponseWriter, _ *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	answer(w, http.StatusOK, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: p.key.Public(), KeyID: p.keyID(), Algorithm: "RS256",
		Use: "sig"}}})
}

// keyID names the key that signs now.
func (p *Provider) keyID() string { return fmt.Sprintf("key-%d", p.number) }

// page has one chosen from the people that there are.
var page = template.Must(template.New("").Parse(`<!doctype html><meta charset="utf-8"><title>Who are you?</title>
<h1>Who are you?</h1><p>This stand-in asks for no password.{{range .People}}
<p><a href="?{{$.Query}}&amp;person={{.Name}}">{{.Name}}</a>{{end}}`))

// named is the person that a request says, nil for none.
func (p *Provider) named(r *http.Request) *Person {
	for i := range p.people {
		if p.people[i].Name == r.URL.Query().Get("person") {
			return &p.people[i]
		}
	}
	return nil
}

// ask shows the page.
func (p *Provider) ask(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_ = page.Execute(w, map[string]any{"People": p.people, "Query": template.URL(r.URL.RawQuery)})
}

// authorize asks who it is, and gives a code to whoever sent him.
func (p *Provider) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	person := p.named(r)
	if person == nil {
		p.ask(w, r)
		return
	}
	code := rand.Text()
	p.mu.Lock()
	p.codes[code] = grant{person: person, client: q.Get("client_id"), nonce: q.Get("nonce"), challenge: q.Get("code_challenge"),
		redirect: q.Get("redirect_uri")}
	p.mu.Unlock()
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil || back.Host == "" {
		http.Error(w, "no redirect_uri", http.StatusBadRequest)
		return
	}
	back.RawQuery = url.Values{"code": {code}, "state": {q.Get("state")}}.Encode()
	http.Redirect(w, r, back.String(), http.StatusFound)
}

// device begins the sign-in of a program without a browser.
func (p *Provider) device(w http.ResponseWriter, r *http.Request) {
	code, user := rand.Text(), rand.Text()[:8]
	p.mu.Lock()
	p.codes[code] = grant{client: r.FormValue("client_id"), user: user}
	p.mu.Unlock()
	answer(w, http.StatusOK, map[string]any{"device_code": code, "user_code": user, "verification_uri": p.issuer + "/device",
		"verification_uri_complete": p.issuer + "/device?user_code=" + user, "expires_in": 600, "interval": 1})
}

// devicePage asks who it is that has a device's code.
func (p *Provider) devicePage(w http.ResponseWriter, r *http.Request) {
	person := p.named(r)
	if person == nil {
		p.ask(w, r)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for code, g := range p.codes {
		if g.user != "" && g.user == r.URL.Query().Get("user_code") {
			g.person = person
			p.codes[code] = g
			_, _ = fmt.Fprintln(w, "signed in; go back to the terminal")
			return
		}
	}
	http.Error(w, "there is no such code", http.StatusNotFound)
}

// token trades a code for tokens, once.
func (p *Provider) token(w http.ResponseWriter, r *http.Request) {
	refuse := func(why string) { answer(w, http.StatusBadRequest, map[string]string{"error": why}) }
	code := r.FormValue("code")
	device := r.FormValue("grant_type") == "urn:ietf:params:oauth:grant-type:device_code"
	if device {
		code = r.FormValue("device_code")
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	g, ok := p.codes[code]
	client := r.FormValue("client_id")
	if id, _, basic := r.BasicAuth(); basic {
		client = id
	}
	switch sum := sha256.Sum256([]byte(r.FormValue("code_verifier"))); {
	case !ok || g.client != client:
		refuse("invalid_grant")
		return
	case device && g.person == nil:
		refuse("authorization_pending")
		return
	case g.person == nil, !device && (g.challenge != base64.RawURLEncoding.EncodeToString(sum[:]) ||
		g.redirect != r.FormValue("redirect_uri")):
		refuse("invalid_grant")
		return
	}
	delete(p.codes, code)
	id, err := p.sign(g)
	if err != nil {
		refuse("server_error")
		return
	}
	answer(w, http.StatusOK, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": id})
}

// sign makes the token that says who somebody is.
func (p *Provider) sign(g grant) (string, error) {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.RS256, Key: jose.JSONWebKey{Key: p.key, KeyID: p.keyID()}}, nil)
	if err != nil {
		return "", err
	}
	issuer, now := p.issuer, time.Now().Add(p.skew)
	if p.foreign != "" {
		issuer = p.foreign
	}
	return jwt.Signed(signer).Claims(map[string]any{"iss": issuer, "sub": "person-" + g.person.Name, "aud": g.client, "iat": now.Unix(),
		"exp": now.Add(5 * time.Minute).Unix(), "nonce": g.nonce, "preferred_username": g.person.Name,
		"groups": g.person.Groups}).Serialize()
}
