// Command crust is the whole of Crust: the local server with its pages, and the command line for
// pipelines.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"crust/internal/core/par"
	"crust/internal/core/plain"
)

// wrong marks an error in the call itself, which ends with status 2.
type wrong struct{ error }

func main() {
	par.Frugal()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := &cobra.Command{Use: "crust", Short: "Bake, paint and deliver texture maps", SilenceErrors: true, SilenceUsage: true}
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return wrong{err} })
	root.AddCommand(serveCommand(false), serveCommand(true), inspectCommand(), bakeCommand(), layoutCommand(), deliverCommand(), strataCommand(), finishesCommand(), presetsCommand(), packCommand(), unpackCommand(), backupCommand(), restoreCommand(), usersCommand(), stillCommand())
	err := root.ExecuteContext(ctx)
	if err == nil {
		return
	}
	if errors.Is(err, context.Canceled) {
		err = errors.New("stopped before it was done; nothing half-written is left")
	}
	fmt.Fprintln(os.Stderr, "crust: "+plain.Text(err.Error()))
	var w wrong
	if errors.As(err, &w) || strings.HasPrefix(err.Error(), "unknown command") {
		os.Exit(2)
	}
	os.Exit(1)
}

// exactly wants n arguments and names what they are.
func exactly(names ...string) cobra.PositionalArgs {
	return func(_ *cobra.Command, args []string) error {
		if len(args) != len(names) {
			if len(names) == 0 {
				return wrong{fmt.Errorf("“%s” is one word too many", args[0])}
			}
			return wrong{fmt.Errorf("give %s", strings.Join(names, " and "))}
		}
		return nil
	}
}
