package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"yellowfence.example/yfence/internal/dunlin"
	"yellowfence.example/yfence/internal/service"
)

// cloudsFile names the clouds that a service looks after.
type cloudsFile struct {
	Clouds []struct {
		Name      string `json:"name"`       // as fleet files say it
		Kind      string `json:"kind"`       // which interface it has
		URL       string `json:"url"`        // where that is
		Account   string `json:"account"`    // whose it is
		TokenFile string `json:"token_file"` // a file with the account's token, beside this one if it is relative
		Label     string `json:"role_label"` // which label of an instance names its roles
	} `json:"clouds"`
}

// readClouds reads the file that names the clouds; none if there is no file.
func readClouds(name string) (out []service.CloudAccount, err error) {
	if name == "" {
		return nil, nil
	}
	text, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	var f cloudsFile
	dec := json.NewDecoder(bytes.NewReader(text))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&f); err != nil {
		return nil, fmt.Errorf("%s: %w; docs/groups.md tells what stands in it", name, err)
	}
	seen := map[string]bool{}
	for i, c := range f.Clouds {
		wrong := func(format string, args ...any) error {
			return fmt.Errorf("%s: cloud %d (%q): %s", name, i+1, c.Name, fmt.Sprintf(format, args...))
		}
		at, err := url.Parse(c.URL)
		switch {
		case c.Name == "" || seen[c.Name]:
			return nil, wrong("it needs a name of its own: the one that fleet files call it by")
		case c.Kind != "dunlin":
			return nil, wrong(`its kind is %q; the only one there is is "dunlin"`, c.Kind)
		case err != nil || at.Host == "":
			return nil, wrong("its url is %q, which is no address as in http://127.0.0.1:8490", c.URL)
		case c.Account == "":
			return nil, wrong("the name of its account is not said: what another account has is never looked at")
		case c.TokenFile == "":
			return nil, wrong("a file with the account's token is not named (token_file)")
		}
		seen[c.Name] = true
		if !filepath.IsAbs(c.TokenFile) {
			c.TokenFile = filepath.Join(filepath.Dir(name), c.TokenFile)
		}
		token, err := os.ReadFile(c.TokenFile)
		if err != nil {
			return nil, wrong("%s", err)
		}
		if c.Label == "" {
			c.Label = "role"
		}
		out = append(out, service.CloudAccount{Name: c.Name, Owner: c.Account, Label: c.Label,
			Account: &dunlin.Account{URL: strings.TrimSuffix(c.URL, "/"), Token: strings.TrimSpace(string(token))}})
	}
	return out, nil
}
