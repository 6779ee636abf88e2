// Command ostiarius is a doorkeeper for web sites.
package main

import (
	"os"

	"ostiarius/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
