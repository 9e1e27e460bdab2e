// Package console holds the built console inside the binary.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var files embed.FS

// Files is the console as it was built; empty in a binary that was built
// without it.
func Files() fs.FS {
	sub, err := fs.Sub(files, "dist")
	if err != nil {
		return files // dist is embedded, so this is not reached
	}
	return sub
}
