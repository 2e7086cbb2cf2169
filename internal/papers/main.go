// Command papers writes docs/commands.md from the commands themselves.
package main

import (
	"os"

	"patientlantern.example/lantern/cli"
)

func main() { cli.Reference(os.Stdout) }
