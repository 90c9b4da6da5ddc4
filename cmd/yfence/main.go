// Command yfence keeps firewall policy for a fleet. See `yfence help`.
package main

import (
	"os"

	"yellowfence.example/yfence/internal/cli"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr, os.Getenv))
}
