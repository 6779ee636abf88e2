// Package console holds the built web console, so that it travels inside the binary.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the files of the built console. Without index.html the binary was built
// without the console.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // dist is embedded
	}
	return files
}
