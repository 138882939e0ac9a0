// Package web holds the built console. `make console` fills dist; a program built without it serves a page that says so.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the built console's files; index.html is missing when it was not built.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic("web: " + err.Error()) // dist is part of the program
	}
	return files
}
