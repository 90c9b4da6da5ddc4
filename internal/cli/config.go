package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/goccy/go-yaml"

	"yellowfence.example/yfence/client"
)

// settings is the config file: $XDG_CONFIG_HOME/yfence/config.yaml.
type settings struct {
	Server    string `yaml:"server"`
	TokenFile string `yaml:"token_file"`
	CAFile    string `yaml:"ca_file"`
}

// settings reads the settings file, if there is one.
func (a *app) settings() (s settings, err error) {
	dir := a.configFolder()
	if dir == "" {
		return s, nil
	}
	name := filepath.Join(dir, "config.yaml")
	data, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return s, nil
	} else if err != nil {
		return s, err
	}
	if err := yaml.UnmarshalWithOptions(data, &s, yaml.Strict()); err != nil {
		return s, fmt.Errorf("%s: %w\nits keys are server, token_file and ca_file", name, err)
	}
	return s, nil
}

// address is the service's URL and the token for it: of flags, then the
// environment, then the config file. A token is never an argument, which others can see.
func (a *app) address() (server, token string, err error) {
	s, err := a.settings()
	if err != nil {
		return "", "", err
	}
	server, token = a.server, a.getenv("YFENCE_TOKEN")
	if server == "" {
		server = a.getenv("YFENCE_SERVER")
	}
	if server == "" {
		server = s.Server
	}
	file := a.tokenFile
	if file == "" && token == "" {
		file = s.TokenFile
	}
	if file != "" {
		data, err := os.ReadFile(file)
		if err != nil {
			return "", "", fmt.Errorf("the token cannot be read: %w", err)
		}
		token = strings.TrimSpace(string(data))
	}
	if token == "" {
		token = a.session(server).Secret
	}
	return server, token, nil
}

// authorities are the certificates of those whose word on the service's certificate
// counts; nil for those that the system trusts.
func (a *app) authorities() ([]byte, error) {
	s, err := a.settings()
	if err != nil {
		return nil, err
	}
	file := cmp.Or(a.caFile, a.getenv("YFENCE_CA_FILE"), s.CAFile)
	if file == "" {
		return nil, nil
	}
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("the authorities' certificates cannot be read: %w", err)
	}
	return data, nil
}

// client makes a client of a service that one of these authorities stands for.
func (a *app) client(server, token string, authorities []byte) (*client.Client, error) {
	c := client.New(server, token)
	if authorities == nil {
		return c, nil
	}
	if err := c.Trust(authorities); err != nil {
		return nil, fmt.Errorf("--ca-file: %w", err)
	}
	return c, nil
}
