package main

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"dimlantern/api"
)

func rereadCommand() *cobra.Command {
	o := &places{}
	var do bool
	c := &cobra.Command{
		Use:   "reread SOURCE",
		Short: "Lets a source begin again from its oldest entry",
		Long: `Reread says what it would mean to read what lay in the files of a source before it was
watched, and with --do has it done: the rules that look at it count anew from its
oldest entry on, and alerts that began and ended in the past are shown where they
were, and told nobody. What is open by then is told in one summary.`,
		Example: "  dimlantern reread pump-logs\n  dimlantern reread pump-logs --do",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return asked(o, func(ctx context.Context, s api.Lantern) error {
				p, err := api.DoPut.Call(ctx, s, api.PutQuery{Again: args[0], Do: do,
					Person: api.Person{By: userName(), From: terminalName()}})
				if err != nil {
					return err
				}
				out := cmd.OutOrStdout()
				if p.Refused != "" {
					return errors.New(p.Refused)
				}
				if do {
					fmt.Fprintln(out, shown(p.Done))
					return nil
				}
				fmt.Fprintln(out, shown(p.Title))
				for _, l := range p.Lines {
					fmt.Fprintf(out, "  %-8s %s\n", l.Word, shown(l.Text))
				}
				fmt.Fprintln(out, "nothing is changed yet; --do does it")
				return nil
			})
		},
	}
	o.dataFlag(c)
	c.Flags().BoolVar(&do, "do", false, "do it")
	return c
}
