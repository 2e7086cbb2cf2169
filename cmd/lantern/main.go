// Command lantern is the service, its client and the demo.
package main

import (
	_ "time/tzdata" // hosts say their time zone by name

	"os"

	"patientlantern.example/lantern/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
