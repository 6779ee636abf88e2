// Command reference prints the reference of the commands, for docs/commands.md.
package main

import (
	"fmt"

	"ostiarius/cli"
)

func main() { fmt.Print(cli.Reference()) }
