package api

import "time"

// SignInWays says how one signs in to the service.
type SignInWays struct {
	Version  int           `json:"version"`
	Provider *ProviderNote `json:"provider,omitempty" doc:"the identity provider that people sign in through; a token works always"`
}

// ProviderNote is the identity provider that people sign in through (OpenID Connect).
type ProviderNote struct {
	Issuer   string `json:"issuer"`
	ClientID string `json:"client_id" doc:"the name that it knows the service by"`
}

// PersonSignIn is what a program shows that signed somebody in at the provider.
type PersonSignIn struct {
	IDToken string `json:"id_token" minLength:"1" maxLength:"16000" doc:"the provider's token that says who it is"`
}

// PersonSession is the session of a person. Its secret is sent as a token is.
type PersonSession struct {
	Version int       `json:"version"`
	Name    string    `json:"name"`
	Rights  []Right   `json:"rights"`
	Secret  string    `json:"secret"`
	Until   time.Time `json:"until"`
}

// SignedInPerson is somebody who is signed in through the identity provider.
type SignedInPerson struct {
	Name     string    `json:"name"`
	Subject  string    `json:"subject" doc:"as the provider knows him, behind its own name"`
	Groups   []string  `json:"groups" nullable:"false" doc:"of the provider, when he signed in"`
	Rights   []Right   `json:"rights" nullable:"false" doc:"that these groups have now"`
	Sessions int       `json:"sessions"`
	Until    time.Time `json:"until" doc:"when the last of them ends"`
}

// People are those who are signed in.
type People struct {
	Version int              `json:"version"`
	People  []SignedInPerson `json:"people" nullable:"false"`
}

// SignOutRequest ends all sessions of somebody.
type SignOutRequest struct {
	Name string `json:"name" minLength:"1" maxLength:"200"`
	Why  string `json:"why,omitempty" maxLength:"2000"`
}
