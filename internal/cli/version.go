package cli

import (
	"fmt"
	"io"
	"runtime"
	"runtime/debug"
	"strings"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/api"
)

// version is what `version --output json` tells.
type version struct {
	Version  int      `json:"version"`
	Commit   string   `json:"commit,omitempty"` // the program was built of; nothing if that is not known
	Time     string   `json:"time,omitempty"`   // of the commit
	Modified bool     `json:"modified"`         // the files were not just those of the commit
	Go       string   `json:"go"`
	Platform string   `json:"platform"`
	Language int      `json:"language"` // of policies
	API      string   `json:"api"`
	Fleet    []string `json:"fleet_files"`
	Dialects []string `json:"dialects"`
}

// versionCommand makes `yfence version`.
func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Print the version of this program and the formats it reads",
		Long: "Version says which commit this program was built of, and what it reads and writes:\nthe language of policies, the " +
			"forms of fleet files, the dialects and the API.",
		Example: "  yfence version\n  yfence version --output json",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			v := versionOf(debug.ReadBuildInfo())
			return a.print(v, func(w io.Writer) {
				built := "of a commit that it was not told"
				if v.Commit != "" {
					built = fmt.Sprintf("commit %.12s of %.10s", v.Commit, v.Time)
					if v.Modified {
						built += ", with changes"
					}
				}
				_, _ = fmt.Fprintf(w, "yfence, %s (%s, %s)\n\n  policies     language %d\n  fleet files  %s\n  dialects     %s\n  API    "+
					"      %s\n",
					built, v.Go, v.Platform, v.Language, strings.Join(v.Fleet, ", "), strings.Join(v.Dialects, ", "), v.API)
			})
		},
	}
}

// versionOf takes what the toolchain wrote into the program.
func versionOf(info *debug.BuildInfo, ok bool) version {
	v := version{Version: api.Version, Go: runtime.Version(), Platform: runtime.GOOS + "/" + runtime.GOARCH, Language: 1, API: "v1",
		Fleet: []string{"json", "yaml", "csv"}, Dialects: ruleKinds}
	if !ok {
		return v
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			v.Commit = s.Value
		case "vcs.time":
			v.Time = s.Value
		case "vcs.modified":
			v.Modified = s.Value == "true"
		}
	}
	return v
}
