package main

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"

	"github.com/spf13/cobra"

	"yellowfence.example/yfence/internal/simhost"
)

// host is a host whose filter is another system's.
func host() *cobra.Command {
	var d simhost.Host
	c := &cobra.Command{
		Use:   "host",
		Short: "A host whose filter is another system's, which takes portable rules",
		Long: `Host plays a host of another system in the network namespace that it is started in: it takes
a list of portable rules, enforces it on real packets, and dumps what it has in force. Which networks its
interfaces are attached to it finds out by their addresses, and which program sends what by starting it itself.`,
	}
	c.PersistentFlags().StringVar(&d.Dir, "dir", "desk", "where the host keeps what it has taken")
	c.AddCommand(&cobra.Command{
		Use: "take FILE", Short: "Put a list of portable rules in force; - is standard input", Args: cobra.ExactArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			var text []byte
			var err error
			if args[0] == "-" {
				text, err = io.ReadAll(os.Stdin)
			} else {
				text, err = os.ReadFile(args[0])
			}
			if err != nil {
				return err
			}
			return d.Take(text)
		},
	}, &cobra.Command{
		Use: "attach", Short: "Find out anew which networks the interfaces are attached to", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return d.Attach() },
	}, &cobra.Command{
		Use: "dump", Short: "Print what is in force", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			doc, err := d.Dump()
			if err == nil {
				fmt.Print(doc.String())
			}
			return err
		},
	}, &cobra.Command{
		Use: "run PROGRAM COMMAND [ARGUMENT…]", Short: "Run a command as the program that rules call by a path",
		Args: cobra.MinimumNArgs(2),
		RunE: func(_ *cobra.Command, args []string) error {
			cmd, err := d.Command(args[0], args[1], args[2:]...)
			if err != nil {
				return err
			}
			cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
			err = cmd.Run()
			var ended *exec.ExitError
			if errors.As(err, &ended) {
				os.Exit(ended.ExitCode())
			}
			return err
		},
	})
	return c
}
