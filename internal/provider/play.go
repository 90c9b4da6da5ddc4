package provider

import (
	"context"
	"errors"
	"net/http"
	"net/url"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"
)

// Play signs somebody in as a terminal and a person with a browser do together, at a provider that asks
// for no password, and gives the token that says who it is.
func Play(ctx context.Context, issuer, client, person string) (idToken string, err error) {
	p, err := oidc.NewProvider(ctx, issuer)
	if err != nil {
		return "", err
	}
	flow := &oauth2.Config{ClientID: client, Endpoint: p.Endpoint(), Scopes: []string{oidc.ScopeOpenID}}
	asked, err := flow.DeviceAuth(ctx)
	if err != nil {
		return "", err
	}
	if err := Choose(ctx, asked.VerificationURIComplete, person); err != nil {
		return "", err
	}
	token, err := flow.DeviceAccessToken(ctx, asked)
	if err != nil {
		return "", err
	}
	idToken, _ = token.Extra("id_token").(string)
	return idToken, nil
}

// Choose is what a person does in a browser who opens the address that a terminal shows.
func Choose(ctx context.Context, address, person string) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address+"&person="+url.QueryEscape(person), nil)
	if err != nil {
		return err
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	_ = res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return errors.New("the provider answers " + res.Status)
	}
	return nil
}
