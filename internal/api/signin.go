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
