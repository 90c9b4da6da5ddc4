// Package console holds the built pages of the browser console. The folder
// dist is made by `make build`; without it the service says how to build it.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the built pages; built is false where there are none.
func Files() (files fs.FS, built bool) {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is embedded above
	}
	_, err = fs.Stat(files, "index.html")
	return files, err == nil
}
