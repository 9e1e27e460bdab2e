package follows

import (
	"fmt"
	"os"
	"time"

	"go.yaml.in/yaml/v4"

	"nightjar/api/model"
)

const maxConfig = 1 << 20 // of the configuration, in bytes

// config is a file about bundles that follow a branch.
type config struct {
	Follows []struct {
		Bundle  string   `yaml:"bundle"`
		Repo    string   `yaml:"repo"`     // URL of the repository
		Branch  string   `yaml:"branch"`   // main when absent
		Path    string   `yaml:"path"`     // all of the repository when absent
		Every   string   `yaml:"every"`    // time between two looks; 30s when absent
		KeyFile string   `yaml:"key-file"` // file with the private key, or the token
		HostKey string   `yaml:"host-key"` // of an SSH server
		Drift   string   `yaml:"drift"`    // revert when absent, or report
		Notify  []string `yaml:"notify"`   // URLs that get an event at each new state
	} `yaml:"follows"`
}

// ReadConfig reads a file about bundles that follow a branch.
func ReadConfig(path string) ([]model.FollowRequest, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	if len(text) > maxConfig {
		return nil, fmt.Errorf("%s has %d bytes: expected at most %d", path, len(text), maxConfig)
	}
	var c config
	if err := yaml.Load(text, &c, yaml.WithKnownFields()); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	out := make([]model.FollowRequest, len(c.Follows))
	seen := map[string]bool{}
	for i, f := range c.Follows {
		fail := func(field string, err error) ([]model.FollowRequest, error) {
			return nil, fmt.Errorf("%s: follows[%d].%s: %w", path, i, field, err)
		}
		if seen[f.Bundle] {
			return fail("bundle", fmt.Errorf("%q is there twice: a bundle follows one branch", f.Bundle))
		}
		seen[f.Bundle] = true
		q := model.FollowRequest{
			Bundle: f.Bundle, URL: f.Repo, Branch: f.Branch, Path: f.Path, HostKey: f.HostKey, Drift: f.Drift,
			Notify: f.Notify,
		}
		if f.Every != "" {
			every, err := time.ParseDuration(f.Every)
			if err != nil {
				return fail("every", fmt.Errorf("%q is no time: write one such as 30s", f.Every))
			}
			q.EverySeconds = every.Seconds()
		}
		if f.KeyFile != "" {
			key, err := os.ReadFile(f.KeyFile)
			if err != nil {
				return fail("key-file", err)
			}
			q.Key = string(key)
		}
		out[i] = q
	}
	return out, nil
}
