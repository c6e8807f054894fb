// Command hovix packages a website into one archive and restores it at another
// folder, database and address.
package main

import (
	"os"

	"hovix/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
