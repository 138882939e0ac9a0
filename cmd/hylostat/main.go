// Command hylostat is the whole product: the service, its demo, and the command line.
package main

import (
	"os"

	"hylostat.example/internal/app"
)

func main() { os.Exit(app.Main(os.Args)) }
