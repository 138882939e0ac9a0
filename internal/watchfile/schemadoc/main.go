// Schemadoc prints the schema of watch files, for docs/reference/watch.schema.json.
package main

import (
	"fmt"
	"os"

	"hylostat.example/internal/watchfile"
)

func main() {
	text, err := watchfile.Schema()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println(string(text))
}
