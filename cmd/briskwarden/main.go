// Briskwarden writes, rehearses and explains conditional sign-on policies.
// `briskwarden demo` shows how.
package main

import (
	"os"
	"time"
	_ "time/tzdata" // so that a machine without time zone files can judge too

	"github.com/briskwarden/briskwarden/internal/cli"
)

func main() { os.Exit(cli.Run(os.Args[1:], os.Stdin, os.Stdout, os.Stderr, time.Now)) }
