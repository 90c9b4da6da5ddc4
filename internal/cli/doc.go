// Package cli is the program yfence: one file per command, which holds its
// flags and what it prints.
//
//	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr, os.Getenv))
//
// What a command needs of its surroundings it takes from app: streams, the environment, the
// service's client. Commands compute nothing: they read files, call core or the service, and
// print. With --output json they print what other programs may rely on; what they print for
// people may change.
//
// The exit code is 0 where there is nothing to report, 1 where something was found, and 2 where
// something went wrong, such as input that cannot be read.
//
// Tests are scripts that read like a session at a terminal, in testdata.
package cli
