package main

import "github.com/spf13/cobra"

type places struct{ settings, data string }

func (o *places) flags(c *cobra.Command) {}
func openScreens(o *places) error        { return nil }
func watchCommand() *cobra.Command       { return &cobra.Command{Use: "watch"} }
func historyCommand() *cobra.Command     { return &cobra.Command{Use: "history"} }
func demoCommand() *cobra.Command        { return &cobra.Command{Use: "demo"} }
func clearCommand() *cobra.Command       { return &cobra.Command{Use: "clear"} }
