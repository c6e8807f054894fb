package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"

	"github.com/spf13/cobra"

	"hovix/internal/cli/ui"
	"hovix/internal/fault"
	"hovix/internal/restore"
)

// goOnName is the hidden command of the process that carries out a switch. It
// reads its order from standard input, for passwords must not be seen by others,
// and has the lock of the target as its third open file.
const goOnName = "go-on"

// notice tells people something while they wait.
func (a *app) notice(text string) { _ = ui.Fprintf(a.err, "hovix: %s\n", text) }

// guard gives what has a switch carried out by a process of its own; nil where
// the system cannot hand over a lock.
func (a *app) guard() restore.Guard {
	if runtime.GOOS == "windows" {
		return nil
	}
	return func(ctx context.Context, o restore.Order, lock *os.File) (d restore.Done, err error) {
		self, err := os.Executable()
		if err != nil {
			return d, err
		}
		order, err := json.Marshal(o)
		if err != nil {
			return d, err
		}
		cmd := exec.CommandContext(ctx, self, goOnName)
		cmd.ExtraFiles = []*os.File{lock}
		apart(cmd)
		in, err := cmd.StdinPipe()
		if err != nil {
			return d, err
		}
		out, err := cmd.StdoutPipe()
		if err != nil {
			return d, err
		}
		if err := cmd.Start(); err != nil {
			return d, err
		}
		_, err = in.Write(order)
		err = errors.Join(err, in.Close())
		fault.Point("handed-over")
		answers := json.NewDecoder(out)
		decodeErr := answers.Decode(&d)
		for decodeErr == nil && d.Notice != "" {
			a.notice(d.Notice)
			d = restore.Done{}
			decodeErr = answers.Decode(&d)
		}
		return d, errors.Join(err, decodeErr, cmd.Wait())
	}
}

func (a *app) goOnCommand() *cobra.Command {
	return &cobra.Command{
		Use:    goOnName,
		Short:  "Carry out the switch of a restore or an undo",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var o restore.Order
			if err := json.NewDecoder(a.in).Decode(&o); err != nil {
				return fmt.Errorf("this command is for Hovix itself: %w", err)
			}
			ctx := restore.WithNotices(context.WithoutCancel(cmd.Context()), func(text string) { _ = a.document(restore.Done{Notice: text}) })
			d, err := restore.GoOn(ctx, o, os.NewFile(3, "lock"))
			if err != nil {
				return err
			}
			return a.document(d)
		},
	}
}
